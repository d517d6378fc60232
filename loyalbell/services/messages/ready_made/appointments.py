"""Messages about appointments and memberships."""

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

APPOINTMENTS: tuple[MessageTemplate, ...] = (
    MessageTemplate(
        "recall",
        "Time for the yearly check",
        "a year on, with nothing booked",
        said(
            email(
                "A year has gone by",
                "It takes half an hour.",
                words(
                    'your last visit was on {{ last_visit_on | default: "this day a year ago" }}. It is time'
                    " for the yearly check, and nothing is booked yet."
                ),
                button("Choose a time"),
            ),
            text(
                "{{ shop_name }}: a year has gone by since your last visit. Choose a time: {{ booking_url }} "
                + STOP
            ),
        ),
        "service",
    ),
    MessageTemplate(
        "reminder",
        "Reminder of an appointment",
        "the day before",
        said(
            email(
                'See you {{ appointment_on | default: "soon" }}',
                "And how to change it.",
                words(
                    'this is to remind you: {{ appointment_for | default: "your appointment" }}, {{'
                    ' appointment_on | default: "soon" }} at {{ appointment_at | default: "the time we'
                    ' agreed" }}.\n\nIf the time does not suit you any more, reply to this email or call {{'
                    " shop_phone }}."
                ),
                button("Change the time"),
            ),
            text(
                '{{ shop_name }}: {{ appointment_for | default: "your appointment" }}, {{ appointment_on |'
                ' default: "soon" }}, {{ appointment_at | default: "" }}. Reply to change it.'
            ),
            chat(
                'See you {{ appointment_on | default: "soon" }} at {{ appointment_at | default: "the time we'
                ' agreed" }}.',
                "I will be there",
                "Change the time",
            ),
        ),
        "service",
    ),
    MessageTemplate(
        "missed",
        "We missed you",
        "after an appointment that was not kept",
        said(
            email(
                "We missed you today",
                "Shall we find another time?",
                words("we kept your place and you could not come. It happens. Shall we find another time?"),
                button("Choose another time"),
            ),
            text("We missed you today at {{ shop_name }}. Another time? {{ booking_url }}"),
        ),
        "service",
    ),
    MessageTemplate(
        "renewal",
        "The membership renews",
        "three days before",
        said(
            email(
                'Your membership renews on {{ renews_on | default: "its day" }}',
                "Nothing to do, unless you want to.",
                words(
                    '{{ membership_plan | default: "your membership" }} renews on {{ renews_on | default:'
                    ' "its day" }}. If you want to change or end it, reply to this email before then.'
                ),
            )
        ),
        "service",
    ),
)
