"""The demo's channels: networks, chat handles, offers, opening messages, a picture, and a birthday message on
all three.
"""

import io
from datetime import datetime, timedelta

from PIL import Image, ImageDraw
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.offers.terms import Terms
from loyalbell.services.settings.channels import (
    ChatSettings,
    EmailSettings,
    LinkSettings,
    ProofReader,
    ProofSettings,
    StaffSettings,
    TextSettings,
)
from loyalbell.storage.schema import (
    CannedAnswer,
    ConsentEntry,
    GalleryPicture,
    Item,
    Message,
    MessageVersion,
    Offer,
    OpeningMessage,
    Person,
)

BY = "Ida Marsh"
CHAT_EVERY, SPANISH_EVERY = 6, 13
GIFT, TEN_OFF = 1, 2


def add_channels(session: Session, now: datetime) -> None:
    _settings(session)
    _people(session, now)
    _offers(session, now)
    session.add(_picture(now))
    session.add(
        OpeningMessage(
            id=1,
            name="May we say hello",
            state="approved",
            changed_at=now,
            text='Hi {{ first_name | default: "there" }}, Otterby Pet House here. May we send you a word?',
        )
    )
    for name, text in (
        ("Opening hours", "We are open Monday to Saturday, 9 to 6, and closed on Sundays."),
        ("Sorry to hear it", "I am so sorry. I have noted it, and you will not hear about this again."),
        ("Booked", "Done, you are booked. See you then!"),
    ):
        session.add(CannedAnswer(name=name, text=text))
    session.flush()
    _birthday(session, now)


def _settings(session: Session) -> None:
    EmailSettings(bounce_domain="mail.otterby.example").save(session)
    TextSettings(sender="+15185550100", cost_minor=1.2).save(session)
    ChatSettings(sender="Otterby Pet House", cost_minor=2.0).save(session)
    LinkSettings(
        booking_url="https://otterby.example/book",
        review_url="https://otterby.example/review",
        phone="(518) 555-0100",
        social=[
            ("Our photographs", "https://otterby.example/photographs"),
            ("Find us", "https://otterby.example/map"),
        ],
    ).save(session)
    StaffSettings(weekdays=[0, 1, 2, 3, 4, 5], begins=9, ends=18, answers_an_hour=12).save(session)
    ProofSettings(
        readers=[
            ProofReader(
                name="Ida Marsh", email="ida@otterby.example", phone="+15185550101", chat="ida.marsh"
            ),
            ProofReader(name="Bea Thorn", email="bea@otterby.example", phone="+15185550102"),
        ]
    ).save(session)


def _people(session: Session, now: datetime) -> None:
    """Every sixth has agreed to chat, every thirteenth reads Spanish."""
    for person in session.scalars(
        select(Person).where(Person.id % CHAT_EVERY == 0, Person.first_name.is_not(None))
    ):
        person.chat_handle = f"{(person.first_name or '').lower()}.{person.id}"
        session.add(
            ConsentEntry(
                person_id=person.id,
                channel="chat",
                state="agreed",
                at=now - timedelta(days=90 + person.id % 200),
                source="chat with the shop",
            )
        )
    session.execute(update(Person).where(Person.id % SPANISH_EVERY == 0).values(language="es"))


def _offers(session: Session, now: datetime) -> None:
    treat = session.scalars(
        select(Item.id).where(Item.price_minor > 0).order_by(Item.price_minor, Item.id).limit(1)
    ).one()
    for at, name, terms in (
        (GIFT, "Birthday treat", Terms(kind="item", item=treat, days=30)),
        (
            TEN_OFF,
            "Ten off a bath",
            Terms(kind="amount", amount=1_000, departments=(2,), least=3_000, days=14),
        ),
    ):
        data = terms.model_dump(mode="json")
        session.add(Offer(id=at, name=name, terms=data, made_at=now, changed_at=now, by=BY))


def _picture(now: datetime) -> GalleryPicture:
    """A drawing of a paw on green: made here, so that nothing is anybody else’s."""
    image = Image.new("RGB", (900, 360), "#cfe0da")
    draw = ImageDraw.Draw(image)
    for x, y in ((250, 180), (520, 120), (690, 230)):
        draw.ellipse((x - 44, y - 6, x + 44, y + 66), fill="#2f7f75")
        for dx, dy in ((-58, -34), (-22, -62), (22, -62), (58, -34)):
            draw.ellipse((x + dx - 18, y + dy - 24, x + dx + 18, y + dy + 24), fill="#2f7f75")
    out = io.BytesIO()
    image.save(out, "PNG", optimize=True)
    return GalleryPicture(
        id=1,
        token="paws-on-green",
        name="paws.png",
        alt="Three green paw prints",
        kind="image/png",
        width=900,
        height=360,
        data=out.getvalue(),
        made_at=now,
        by=BY,
    )


def _birthday(session: Session, now: datetime) -> None:
    """Written for all three channels, the email also in Spanish."""
    content = c.MessageContent(writings=[_english(), _spanish(), _text(), _chat()])
    session.add(Message(id=3, name="A birthday at Otterby", changed_at=now))
    session.flush()
    session.add(
        MessageVersion(
            id=3, message_id=3, number=1, content=content.model_dump(mode="json"), made_at=now, by=BY
        )
    )


def _english() -> c.EmailContent:
    return c.EmailContent(
        subject='{{ first_name | default: "Hello" }}, a birthday is near',
        preview="There is a treat with your name on it.",
        letterhead=1,
        blocks=[
            c.Picture(picture=1),
            c.Heading(text='Hello {{ first_name | default: "there" }},'),
            c.Text(
                text=(
                    'your birthday is close, and {{ companion_name | default: "your companion" }} should have'
                    " something of it too. **The treat is on us.**"
                )
            ),
            c.Offer(offer=GIFT),
            c.Items(list="goes with", most=2),
            c.Button(label="Pick a time", url="{{ booking_url }}"),
            c.Text(text="Ida and everyone at Otterby"),
        ],
    )


def _spanish() -> c.EmailContent:
    return c.EmailContent(
        language="es",
        subject='{{ first_name | default: "Hola" }}, se acerca un cumpleaños',
        preview="Le espera un detalle.",
        letterhead=1,
        blocks=[
            c.Picture(picture=1, alt="Tres huellas verdes"),
            c.Heading(text='Hola {{ first_name | default: "" }},'),
            c.Text(
                text=(
                    "se acerca su cumpleaños y queremos celebrarlo con usted. **El detalle corre de nuestra"
                    " cuenta.**"
                )
            ),
            c.Offer(offer=GIFT),
            c.Button(label="Elegir una hora", url="{{ booking_url }}"),
        ],
    )


def _text() -> c.TextContent:
    words = (
        'Happy birthday, {{ first_name | default: "dear friend" }}! Your treat at {{ shop_name }}: {{'
        " offer_1.code }}, until {{ offer_1.until }}. {{ stop_words }}"
    )
    return c.TextContent(texts=[c.ShownText(text=words)])


def _chat() -> c.ChatContent:
    words = (
        'Happy birthday, {{ first_name | default: "dear friend" }}! A treat is waiting for you: {{'
        " offer_1.code }}."
    )
    return c.ChatContent(
        texts=[c.ShownText(text=words)], replies=["Thank you!", "When are you open?"], opening=1
    )
