"""Messages for days that come every year."""

from loyalbell.core.messages import content as c
from loyalbell.services.messages.ready_made.parts import (
    STOP,
    MessageTemplate,
    button,
    chat,
    email,
    said,
    text,
    words,
)

YEARLY_DATES: tuple[MessageTemplate, ...] = (
    MessageTemplate(
        "birthday",
        "Birthday",
        "fourteen days before, with a gift",
        said(
            email(
                '{{ first_name | default: "Hello" }}, your day is coming',
                "A small gift, yours for the weeks around it.",
                words("your birthday is close, and we have put something aside for you."),
                c.Offer(),
                button("Come by"),
            ),
            text(
                'Happy birthday, {{ first_name | default: "dear customer" }}! Your gift at {{ shop_name }} is'
                " waiting. " + STOP
            ),
            chat(
                'Happy birthday, {{ first_name | default: "dear customer" }}! Your gift is waiting.',
                "Thank you",
                "When are you open?",
            ),
        ),
    ),
    MessageTemplate(
        "birthday-day",
        "On the birthday itself",
        "at noon on the day",
        said(
            email(
                'Happy birthday, {{ first_name | default: "dear customer" }}',
                "A good day to you.",
                words("a very good day to you. If it brings you past us, your treat is waiting."),
                button("Come by"),
            ),
            text(
                'Happy birthday, {{ first_name | default: "dear customer" }}! A good day to you from {{'
                " shop_name }}. " + STOP
            ),
        ),
    ),
    MessageTemplate(
        "companion-birthday",
        "A companion’s birthday",
        "for a pet, a child, a partner",
        said(
            email(
                '{{ companion_name | default: "Somebody" }} has a birthday soon',
                "We would not want you to miss it.",
                words(
                    '{{ companion_name | default: "your companion" }} has a birthday soon. There is a treat'
                    " put aside here, and it costs nothing."
                ),
                c.Offer(),
                button("See what they might like", "{{ booking_url }}"),
            )
        ),
    ),
    MessageTemplate(
        "anniversary",
        "A year with us",
        "on the day somebody became a customer",
        said(
            email(
                "A year already",
                "Thank you for it.",
                words("it is a year since you first came to us. Thank you for every visit since."),
                c.Items(list="new"),
                button("Come by"),
            )
        ),
    ),
)
