"""Messages to people who have stopped coming."""

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

WIN_BACK: tuple[MessageTemplate, ...] = (
    MessageTemplate(
        "win-back",
        "We have not seen you",
        "first message to somebody late, with nothing to sell",
        said(
            email(
                '{{ first_name | default: "Hello" }}, it has been a while',
                "Nothing to buy. Just a good time to come by.",
                words(
                    'your last visit was {{ last_visit_on | default: "a while ago" }}. If something was not'
                    " right, please reply to this email: a person reads it.\n\nIf life was simply full, here"
                    " is a quiet moment to come by."
                ),
                button("Find a time"),
            ),
            text(
                'Hi {{ first_name | default: "there" }}, {{ shop_name }} here. It has been a while, and we'
                " would love to see you: {{ booking_url }} " + STOP
            ),
        ),
    ),
    MessageTemplate(
        "win-back-offer",
        "A reason to come back",
        "three days later, with an offer and what other customers buy",
        said(
            email(
                "Something to come back for",
                "It is yours until the day it says.",
                words(
                    "people who were away for a while tell us that coming back was easier than they thought."
                    " Here is something to make it easier still, and what others who buy what you buy like"
                    " best."
                ),
                c.Offer(),
                c.Items(list="goes with"),
                button("Use it"),
            )
        ),
    ),
    MessageTemplate(
        "win-back-last",
        "A line from the owner",
        "five days after that, plain text from a person",
        said(
            c.EmailContent(
                form="plain",
                subject="A last line from me",
                preview="",
                plain=(
                    'Hello {{ first_name | default: "there" }},\n\nI look after this place myself, and I'
                    " wanted to ask you once in person: is there anything that would bring you back?\n\nJust"
                    " reply. I read everything."
                ),
            )
        ),
    ),
    MessageTemplate(
        "goodbye",
        "Shall we stop writing?",
        "the end of a win-back: who does not click is taken off the list",
        said(
            email(
                "Shall we stop writing?",
                "One click, and you stay on the list.",
                words(
                    "we have written a few times and have not heard from you. We do not want to be a"
                    " nuisance, so this is the last one.\n\nIf you want to go on hearing from us, click here:"
                ),
                button("Keep me on the list", "{{ keep_url }}"),
                words("If not, you need do nothing at all. Thank you for the time you were with us."),
            )
        ),
    ),
    *(
        MessageTemplate(
            f"weeks-{weeks}",
            f"{weeks} weeks since your visit",
            why,
            said(
                email(
                    subject,
                    "It is yours until the day it says.",
                    words(
                        f"it is {spelled} weeks since you were here, and we would love to see you again."
                        f" {more}"
                    ),
                    c.Offer(),
                    button("Book a table or a time"),
                ),
                text(
                    'Hi {{ first_name | default: "there" }}, {{ shop_name }} here. '
                    + short
                    + " {{ booking_url }} "
                    + STOP
                ),
            ),
        )
        for weeks, spelled, why, subject, more, short in (
            (
                2,
                "two",
                "two weeks after a visit, with a small offer",
                "Come by again?",
                "This takes a little off your next visit:",
                "Two weeks already! A little off your next visit, by email.",
            ),
            (
                4,
                "four",
                "four weeks after a visit, with a better offer",
                "We have kept you a place",
                "Here is a better reason than last time:",
                "Four weeks already! A better offer waits in your email.",
            ),
            (
                8,
                "eight",
                "eight weeks after a visit, with the best offer",
                "Our best offer, for you",
                "This is the best we can do, and it is only for people we miss:",
                "Eight weeks! Our best offer waits in your email.",
            ),
        )
    ),
    MessageTemplate(
        "re-engage",
        "Still there?",
        "chat or text, when somebody has gone quiet",
        said(
            text(
                'Hi {{ first_name | default: "there" }}, {{ shop_name }} here. Is there anything we can help'
                " with? Just reply. " + STOP
            ),
            chat(
                'Hi {{ first_name | default: "there" }}, is there anything we can help with?',
                "Yes, please",
                "Not now",
            ),
        ),
    ),
    MessageTemplate(
        "re-engage-email",
        "What you may have missed",
        "an email, when the chat or text brought nobody back",
        said(
            email(
                '{{ first_name | default: "Hello" }}, here is what you may have missed',
                "Chosen from what you like.",
                words("you have not been around lately. These are close to what you bought before:"),
                c.Items(list="goes with"),
                button("Have a look"),
            )
        ),
    ),
    MessageTemplate(
        "never-reacts",
        "Do you still want these?",
        "to people who agreed and never open or click",
        said(
            email(
                "Do you still want these?",
                "One click keeps you on the list.",
                words(
                    "you agreed to hear from us, and maybe our emails do not suit you. That is fine.\n\nClick"
                    " once if you want to stay. Otherwise we stop writing."
                ),
                button("Keep me on the list", "{{ keep_url }}"),
            ),
            text(
                "{{ shop_name }}: still want our texts? Tap once to stay: {{ keep_url }} Otherwise we stop. "
                + STOP
            ),
        ),
    ),
)
