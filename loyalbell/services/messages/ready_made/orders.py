"""Messages about an order, and after one."""

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

NUMBER = '{{ order_number | default: "your order" }}'
ORDER_LINES = '{{ order_lines | default: "your things" }}'
ORDERS: tuple[MessageTemplate, ...] = (
    MessageTemplate(
        "order-confirmed",
        "Your order is confirmed",
        "right after an order is confirmed, with a receipt",
        said(
            email(
                "Your order " + NUMBER + " is confirmed",
                "What you ordered, and what happens next.",
                words(
                    "thank you. We have your order "
                    + NUMBER
                    + ' of {{ order_on | default: "today" }}:\n\n**'
                    + ORDER_LINES
                    + '**\n\nTotal: {{ order_total | default: "as on your receipt" }}. Your receipt is'
                    " attached.\n\nWe write again as soon as it is on its way. If anything is wrong, reply to"
                    " this email."
                ),
            ).model_copy(update={"receipt": True}),
            text(
                "{{ shop_name }}: thank you, your order "
                + NUMBER
                + ' is confirmed. Total {{ order_total | default: "as on your receipt" }}.'
            ),
        ),
        "service",
    ),
    MessageTemplate(
        "order-shipped",
        "Your order is on its way",
        "when an order is shipped, with the tracking number",
        said(
            email(
                "Your order " + NUMBER + " is on its way",
                "And how to follow it.",
                words(
                    "good news: " + ORDER_LINES + " left us today.\n\nTracking number:"
                    ' {{ order_tracking | default: "we have none for this parcel" }}\nFollow it here:'
                    ' {{ tracking_url | default: "there is no link for this parcel" }}'
                ),
                words("Questions? Reply to this email."),
            ),
            text(
                "{{ shop_name }}: your order "
                + NUMBER
                + ' is on its way. Tracking: {{ order_tracking | default: "none" }}'
            ),
        ),
        "service",
    ),
    MessageTemplate(
        "order-delivered",
        "Your order has arrived",
        "when an order is delivered, with care sheets for what was bought",
        said(
            email(
                "Your order " + NUMBER + " has arrived",
                "How to get the most out of it.",
                words(
                    "your order should be with you now: "
                    + ORDER_LINES
                    + ".\n\nIf something is missing or broken, reply to this email and we make it right."
                ),
            ).model_copy(update={"care_sheets": True}),
            text(
                "{{ shop_name }}: your order "
                + NUMBER
                + " has arrived. Is anything missing or broken? Just reply."
            ),
        ),
        "service",
    ),
    MessageTemplate(
        "how-was-it",
        "How was it?",
        "some days after an order, about what was bought",
        said(
            email(
                'How is {{ order_item | default: "it" }}?',
                "One minute of your time helps others decide.",
                words(
                    'you took {{ order_item | default: "something" }} home on'
                    ' {{ order_on | default: "your last visit" }}. How do you like it? If it is not right,'
                    " reply to this email and we sort it out."
                ),
                button("Say how it is", "{{ review_url }}"),
            ),
            text(
                'How is {{ order_item | default: "it" }}? {{ shop_name }} would like to know:'
                " {{ review_url }} " + STOP
            ),
        ),
    ),
    MessageTemplate(
        "thanks",
        "Thank you for your purchase",
        "a day or two after an order",
        said(
            email(
                "Thank you for coming",
                "And how to get the most out of it.",
                words(
                    'thank you for coming by. You took {{ order_item | default: "something good" }} home. If'
                    " anything is not right with it, reply to this email and we make it right."
                ),
                c.Items(list="goes with", fallback="none"),
            ),
            text("Thank you for coming to {{ shop_name }}! Anything not right? Just reply. " + STOP),
        ),
    ),
    MessageTemplate(
        "review",
        "Ask for a review",
        "once, after the first purchase",
        said(
            email(
                "How was it?",
                "One minute of your time, and others know what to expect.",
                words("you were here for the first time, and what you say helps others decide. How was it?"),
                button("Say how it was", "{{ review_url }}"),
            ),
            text(
                "How was your visit to {{ shop_name }}? One minute here helps others: {{ review_url }} "
                + STOP
            ),
        ),
    ),
    MessageTemplate(
        "refill",
        "Running out?",
        "when what they bought is about used up",
        said(
            email(
                "Is it running out?",
                "Here is what you took home last time.",
                words("by our count these are almost used up:"),
                c.Items(list="refill", fallback="none"),
                button("Put some aside for me"),
            ),
            text(
                'Hi from {{ shop_name }}: {{ last_item | default: "what you took home" }} may be running out.'
                " Shall we put some aside? " + STOP
            ),
        ),
    ),
    MessageTemplate(
        "second",
        "A second visit",
        "a month after the only order",
        said(
            email(
                "Come and see the rest",
                "You have seen one corner of it.",
                words(
                    "you have been here once, and there is more to see. People who bought what you bought"
                    " also like these:"
                ),
                c.Items(),
                button("Come by"),
            )
        ),
    ),
    MessageTemplate(
        "second-offer",
        "A little help with the second visit",
        "a week after that, when they have not come back",
        said(
            email(
                "A little help to come back",
                "It is yours until the day it says.",
                words("we would like to see you a second time. This takes a little off:"),
                c.Offer(),
                button("Use it"),
            )
        ),
    ),
)
