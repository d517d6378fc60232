"""Messages to good customers, to new ones, and to everyone once a month."""

from loyalbell.core.messages import content as c
from loyalbell.services.messages.ready_made.parts import (
    STOP,
    MessageTemplate,
    button,
    email,
    said,
    text,
    words,
)

MONTHS = (
    (
        "What is new this month",
        "Three things that came in.",
        "here is what is new since you were last in:",
        "new",
        "",
    ),
    (
        "One thing worth knowing",
        "A tip from the people who work here.",
        "this month a tip that regulars ask us for. **Worth knowing:** write one useful line here.",
        None,
        "",
    ),
    (
        "What others like best",
        "The favourites of the last months.",
        "these are the favourites of our customers right now:",
        "best",
        "",
    ),
    (
        "Goes well with what you have",
        "Chosen from what you bought.",
        "people who bought what you bought often come back for these:",
        "goes with",
        "",
    ),
    (
        "A look behind the counter",
        "Who we are, and what we are working on.",
        "this month a look behind the counter. **Tell a short story here:** a person, a supplier, a plan.",
        None,
        "",
    ),
    (
        "How are we doing?",
        "Reply with one sentence.",
        "half a year of emails from us. What should we do more of, or less? Reply with one sentence: a person"
        " reads it.",
        None,
        "{{ preferences_url }}",
    ),
)
"""Subject, preview line, words, list of items, where its button leads if not to booking."""


def _month(
    at: int, subject: str, preview: str, says: str, items: c.ItemList | None, link: str
) -> MessageTemplate:
    blocks: list[c.Block] = [words(says)]
    if items:
        blocks.append(c.Items(list=items))
    blocks.append(button("Choose what you hear about", link) if link else button("Come by"))
    key = "keep-in-touch" if at == 1 else f"keep-in-touch-{at}"
    name = "Keep in touch" if at == 1 else f"Keep in touch, {at}: {subject.lower().rstrip('?')}"
    return MessageTemplate(key, name, f"month {at} of six", said(email(subject, preview, *blocks)))


def _dated(at: int, subject: str, preview: str, says: str) -> MessageTemplate:
    return MessageTemplate(
        f"dated-{at}",
        f"Dated series, {at} of 4",
        f"message {at} of a series on set days",
        said(email(subject, preview, words(says), button("Find out more"))),
    )


REGULARS: tuple[MessageTemplate, ...] = (
    MessageTemplate(
        "vip",
        "For our best customers",
        "thanks, with something only they get",
        said(
            email(
                "You are one of the few",
                "A thank you, with something only for you.",
                words(
                    "a small number of people keep a place like ours going, and you are one of them. Thank"
                    " you. This is only for you:"
                ),
                c.Offer(),
                button("Use it"),
            )
        ),
    ),
    MessageTemplate(
        "new-for-vip",
        "What is new, for our best",
        "the day after their thanks, the same code with new things",
        said(
            email(
                "New here, and you see it first",
                "Chosen from what you like best.",
                words("before anybody else sees it: this is new, and close to what you like best."),
                c.Items(list="new", most=3),
                words("The code we gave you yesterday works for all of it:"),
                c.Offer(qr=False),
                button("Look at it"),
            )
        ),
    ),
    MessageTemplate(
        "expires",
        "It ends in two days",
        "a day after that, before the code ends",
        said(
            email(
                "Your code ends in two days",
                "You have not used it yet.",
                words("you have not used your code yet. It works until the day below, then it is over."),
                c.Offer(),
                button("Use it now"),
            ),
            text("{{ shop_name }}: you have not used your code yet, and it ends in two days. " + STOP),
        ),
    ),
    MessageTemplate(
        "welcome",
        "Welcome",
        "right after somebody signed up",
        said(
            email(
                "Good to have you",
                "What to expect from us.",
                words(
                    "thank you for signing up. We write about once a month, and only when there is something"
                    " to say.\n\nTell us what you care about, and you hear only about that:"
                ),
                button("Choose what you hear about", "{{ preferences_url }}"),
                c.Items(list="best"),
            )
        ),
    ),
    MessageTemplate(
        "welcome-back",
        "Anything we can help with?",
        "when somebody who signed up has not come back within 24 hours",
        said(
            email(
                "Anything we can help with?",
                "Most people ask us these first.",
                words(
                    "you signed up with us yesterday. Did you find what you were looking for? Reply to this"
                    " email and a person answers. These are what most people start with:"
                ),
                c.Items(list="best"),
                button("Have a look"),
            ),
            text(
                "{{ shop_name }}: did you find what you were looking for? Just reply, a person answers. "
                + STOP
            ),
        ),
    ),
    *(_month(at, *month) for at, month in enumerate(MONTHS, 1)),  # type: ignore[arg-type]
    _dated(
        1,
        "Something is coming up",
        "Put the day in your calendar.",
        "write here what it is about and on which day it is.",
    ),
    _dated(
        2,
        "What to expect",
        "The three things people ask most.",
        "write here what people ask most: when, where, and what to bring.",
    ),
    _dated(3, "It is nearly here", "A last look before the day.", "write here what is still to be had."),
    _dated(4, "How was it?", "And what comes next.", "thank people here, and say what comes next."),
)
