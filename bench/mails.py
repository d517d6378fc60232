"""Emails filled for 10,000 people against bare python-liquid, and handed to the post room against a bare
loop.
"""

import asyncio
import shutil
import tempfile
from pathlib import Path

from aiosmtplib import SMTP
from liquid import Environment

from bench.mail_server import mail_server
from bench.measure import Line, median, once
from bench.sequences import book_with_people_due
from loyalbell.channels.loopback import LOOPBACK
from loyalbell.channels.sender import Outgoing, Sender
from loyalbell.channels.smtp import SmtpSender
from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import RenderContext, compile_email, fill_email
from loyalbell.core.messages.mime import Envelope, make_mail
from loyalbell.demo.build import NOW
from loyalbell.services.application import Application
from loyalbell.services.delivery.dispatcher import send_due
from loyalbell.services.sequences.runner import SequenceRunner

MADE, SENT, CONNECTIONS = 10_000, 2_000, 4
A_SECOND = 600
LOOK = c.LetterheadLook(header="Bench", footer="1 Bench Row", ink="#1f2a2b", accent="#173b39")
EMAIL = c.EmailContent(
    subject='{{ first_name | default: "Hello" }}, we kept your spot',
    preview="A good time to come by.",
    blocks=[
        c.Heading(text='Hello {{ first_name | default: "there" }},'),
        c.Text(
            text=(
                'it has been {{ days_since_order | default: "many" }} days since {{ companion_name | default:'
                ' "your dog" }} was last with us.\n\nCoats like that one start to tangle about now.'
            )
        ),
        c.Button(label="Pick a time", url="https://bench.example/book"),
        c.Items(),
        c.Text(text="Ida and everyone"),
    ],
)


def facts(number: int) -> dict[str, object]:
    return {
        "first_name": f"Wren{number}",
        "days_since_order": number % 90,
        "shop_name": "Bench",
        "link_0": f"https://bench.example/l/{number}/0",
        "unsubscribe_url": "https://bench.example/u",
        "preferences_url": "https://bench.example/p",
        "browser_url": "https://bench.example/v",
        "open_pixel": f"https://bench.example/o/{number}.gif",
        "items_0": (
            [{"name": "Oat shampoo", "price": "$14.00", "url": "https://bench.example/i", "picture": ""}] * 2
        ),
    }


def lines() -> list[Line]:
    made = compile_email(EMAIL, RenderContext(LOOK))
    people = [facts(number) for number in range(MADE)]
    plain, page = Environment(), Environment(autoescape=True)
    bare = [plain.from_string(made.subject), page.from_string(made.html), plain.from_string(made.text)]
    ours = median(lambda: [fill_email(made, one) for one in people], 3)
    theirs = median(lambda: [[template.render(**one) for template in bare] for one in people], 3)
    return [
        Line(
            "personalised emails made",
            "10k",
            ours,
            theirs,
            "bare python-liquid",
            "1.25 at most (80 %)",
            ours / theirs <= 1.25,
        ),
        _handed_over([fill_email(made, one) for one in people[:SENT]]),
        _end_to_end(),
    ]


def _end_to_end() -> Line:
    """From planned in the book to taken by a mail server and written down: chosen, asked of the rules once
    more, made for each, handed over, the answer kept.
    """
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        application = book_with_people_due(folder, SENT)
        SequenceRunner(application).tick()
        with mail_server() as port:
            sender = SmtpSender(LOOPBACK, port, CONNECTIONS)
            took = once(lambda: _send_all(application, sender))
        application.close()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    rate = SENT / took
    return Line(
        "emails end to end into a mail server",
        f"{SENT:,}, {CONNECTIONS} connections",
        rate,
        A_SECOND,
        "the bound",
        "1 or more",
        rate >= A_SECOND,
        "a second",
    )


def _send_all(application: Application, sender: Sender) -> None:
    sent = 0
    while count := send_due(application, sender):
        sent += count
    assert sent == SENT, sent


def _handed_over(filled: list[object]) -> Line:
    mails = [
        make_mail(
            one,
            Envelope(
                "Bench",
                "a@bench.example",
                "Wren",
                f"p{at}@example.com",
                f"<{at}@bench.example>",
                NOW,
                "https://bench.example/u",
            ),
        ).as_bytes()  # type: ignore[arg-type]
        for at, one in enumerate(filled)
    ]
    batch = [
        Outgoing(at, "a@bench.example", f"p{at}@example.com", f"<{at}@x>", raw)
        for at, raw in enumerate(mails)
    ]
    with mail_server() as port:
        bare = once(lambda: asyncio.run(_bare(port, mails)))
        ours = once(lambda: SmtpSender(LOOPBACK, port, CONNECTIONS).send(batch))
    return Line(
        "mails into the post room",
        "2k, 4 connections",
        ours,
        bare,
        "bare aiosmtplib",
        "1.67 at most (60 %)",
        ours / bare <= 1.67,
    )


async def _bare(port: int, mails: list[bytes]) -> None:
    async def work(own: list[bytes]) -> None:
        async with SMTP(hostname=LOOPBACK, port=port, start_tls=False) as client:
            for at, raw in enumerate(own):
                await client.sendmail("a@bench.example", [f"q{at}@example.com"], raw)

    await asyncio.gather(*(work(mails[at::CONNECTIONS]) for at in range(CONNECTIONS)))
