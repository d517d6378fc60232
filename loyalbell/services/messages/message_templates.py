"""Messages to start from, one for each occasion, in plain words that fit a shop, a restaurant, a salon or a
clinic.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from loyalbell.core.messages import content as c

HELLO = 'Hello {{ first_name | default: "there" }},'
BOOK = "{{ booking_url }}"
STOP = "{{ stop_words }}"


@dataclass(frozen=True)
class MessageTemplate:
    """``key`` is its name in addresses; ``why`` says when it is sent."""

    key: str
    name: str
    why: str
    content: c.MessageContent
    purpose: str = "marketing"


def _email(subject: str, preview: str, *blocks: c.Block) -> c.EmailContent:
    return c.EmailContent(subject=subject, preview=preview, blocks=[c.Heading(text=HELLO), *blocks])


def _text(words: str) -> c.TextContent:
    return c.TextContent(texts=[c.ShownText(text=words)])


def _chat(words: str, *replies: str) -> c.ChatContent:
    return c.ChatContent(texts=[c.ShownText(text=words)], replies=list(replies))


def _said(*writings: c.AnyWriting) -> c.MessageContent:
    return c.MessageContent(writings=list(writings))


def _words(text: str) -> c.Text:
    return c.Text(text=text)


def _button(label: str, url: str = BOOK) -> c.Button:
    return c.Button(label=label, url=url)


OCCASIONS: tuple[MessageTemplate, ...] = (
    MessageTemplate(
        "blank",
        "An empty letter",
        "your own words from the first line",
        _said(c.EmailContent(blocks=[c.Heading(text=HELLO), c.Text()])),
    ),
    MessageTemplate(
        "win-back",
        "We have not seen you",
        "the first word to somebody late, with nothing to sell",
        _said(
            _email(
                '{{ first_name | default: "Hello" }}, it has been a while',
                "Nothing to buy, just a good time to come by.",
                _words(
                    'your last visit was {{ last_visit_on | default: "a while ago" }}, and we noticed. If'
                    " something was not right, please answer this mail: a person reads it.\n\nIf life was"
                    " simply full, here is a quiet moment to come by."
                ),
                _button("Find a time"),
            ),
            _text(
                'Hi {{ first_name | default: "there" }}, {{ shop_name }} here. It has been a while, and we'
                " would love to see you: {{ booking_url }} " + STOP
            ),
        ),
    ),
    MessageTemplate(
        "win-back-offer",
        "A reason to come back",
        "three days later, with an offer and what others say",
        _said(
            _email(
                "Something to come back for",
                "It is yours until the day it says.",
                _words(
                    "people tell us that coming back was easier than they thought. So here is something to"
                    " make it easier still."
                ),
                c.Offer(),
                c.Items(list="goes with"),
                _button("Use it"),
            )
        ),
    ),
    MessageTemplate(
        "win-back-last",
        "A line from the owner",
        "five days after that, plain text from a person",
        _said(
            c.EmailContent(
                form="plain",
                subject="A last line from me",
                preview="",
                plain=(
                    'Hello {{ first_name | default: "there" }},\n\nI look after this place myself, and I'
                    " wanted to ask you once in person: is there anything that would bring you back?\n\nJust"
                    " answer, I read everything."
                ),
            )
        ),
    ),
    MessageTemplate(
        "goodbye",
        "Shall we stop writing?",
        "the end of a win-back: whoever does not press is taken off",
        _said(
            _email(
                "Shall we stop writing?",
                "One press, and you stay on the list.",
                _words(
                    "we have written a few times and not heard from you. We do not want to be a nuisance, so"
                    " this is the last one.\n\nIf you want to go on hearing from us, press here:"
                ),
                _button("Keep me on the list", "{{ keep_url }}"),
                _words("If not, you need do nothing at all. Thank you for the time you were with us."),
            )
        ),
    ),
    MessageTemplate(
        "birthday",
        "Birthday",
        "fourteen days before, with a gift",
        _said(
            _email(
                '{{ first_name | default: "Hello" }}, your day is coming',
                "A small gift, yours for the weeks around it.",
                _words("your birthday is close, and we have put something aside for you."),
                c.Offer(),
                _button("Come by"),
            ),
            _text(
                'Happy birthday, {{ first_name | default: "dear customer" }}! Your gift at {{ shop_name }} is'
                " waiting. " + STOP
            ),
            _chat(
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
        _said(
            _email(
                'Happy birthday, {{ first_name | default: "dear customer" }}',
                "A good day to you.",
                _words("a very good day to you. If it brings you past us, your treat is waiting."),
                _button("Come by"),
            ),
            _text(
                'Happy birthday, {{ first_name | default: "dear customer" }}! A good day to you from {{'
                " shop_name }}. " + STOP
            ),
        ),
    ),
    MessageTemplate(
        "companion-birthday",
        "A companion’s birthday",
        "for a pet, a child, a partner",
        _said(
            _email(
                '{{ companion_name | default: "Somebody" }} has a birthday soon',
                "We would not want you to miss it.",
                _words(
                    '{{ companion_name | default: "your companion" }} has a birthday soon. There is a treat'
                    " put aside here, and it costs nothing."
                ),
                c.Offer(),
                _button("See what they might like", "{{ booking_url }}"),
            )
        ),
    ),
    MessageTemplate(
        "anniversary",
        "A year with us",
        "on the day somebody became a customer",
        _said(
            _email(
                "A year already",
                "Thank you for it.",
                _words("it is a year since you first came to us. Thank you for every visit since."),
                c.Items(list="new"),
                _button("Come by"),
            )
        ),
    ),
    MessageTemplate(
        "thanks",
        "Thank you for your purchase",
        "a day or two after an order",
        _said(
            _email(
                "Thank you for coming",
                "And how to get the most out of it.",
                _words(
                    'thank you for coming by. You took {{ last_item | default: "something good" }} home: if'
                    " anything is not right with it, answer this mail and we make it right."
                ),
                c.Items(list="goes with", fallback="none"),
            ),
            _text("Thank you for coming to {{ shop_name }}! Anything not right? Just answer here. " + STOP),
        ),
    ),
    MessageTemplate(
        "review",
        "Ask for a review",
        "once, after the first purchase",
        _said(
            _email(
                "How was it?",
                "One minute of your time, and others know what to expect.",
                _words("you were here for the first time, and what you say helps others decide. How was it?"),
                _button("Say how it was", "{{ review_url }}"),
            ),
            _text(
                "How was your visit to {{ shop_name }}? One minute here helps others: {{ review_url }} "
                + STOP
            ),
        ),
    ),
    MessageTemplate(
        "refill",
        "Running out?",
        "when what they bought is about used up",
        _said(
            _email(
                "Is it running out?",
                "Here is what you took home last time.",
                _words("by our count these are about used up:"),
                c.Items(list="refill", fallback="none"),
                _button("Put some aside for me"),
            ),
            _text(
                'Hi from {{ shop_name }}: {{ last_item | default: "what you took home" }} may be running out.'
                " Shall we put some aside? " + STOP
            ),
        ),
    ),
    MessageTemplate(
        "second",
        "A second visit",
        "a month after the only order",
        _said(
            _email(
                "Come and see the rest",
                "You have seen one corner of it.",
                _words(
                    "you have been here once, and there is more to see. These are what people like who took"
                    " the same as you:"
                ),
                c.Items(),
                _button("Come by"),
            )
        ),
    ),
    MessageTemplate(
        "vip",
        "For our best customers",
        "thanks, with something only they get",
        _said(
            _email(
                "You are one of the few",
                "A thank you, and nothing asked in return.",
                _words(
                    "a small number of people keep a place like ours going, and you are one of them. Thank"
                    " you. This is only for you:"
                ),
                c.Offer(),
                c.Items(list="new"),
            )
        ),
    ),
    MessageTemplate(
        "new-for-vip",
        "What is new, for our best",
        "the day after their thanks",
        _said(
            _email(
                "New here, and you see it first",
                "Chosen from what you like best.",
                _words("before anybody else sees it: this is new, and it is close to what you like best."),
                c.Items(list="new", most=3),
                _button("Look at it"),
            )
        ),
    ),
    MessageTemplate(
        "expires",
        "It ends soon",
        "before an offer ends",
        _said(
            _email(
                "Your code is still waiting",
                "It has not been used yet.",
                _words("your code has not been used yet. It holds until the day named with it below."),
                c.Offer(),
                _button("Use it now"),
            ),
            _text("{{ shop_name }}: your code has not been used yet, and it ends soon. " + STOP),
        ),
    ),
    MessageTemplate(
        "recall",
        "Time for the yearly check",
        "a year on, with nothing booked",
        _said(
            _email(
                "A year has gone by",
                "It takes half an hour.",
                _words(
                    'your last visit was on {{ last_visit_on | default: "this day a year ago" }}. It is time'
                    " for the yearly check, and nothing is booked yet."
                ),
                _button("Choose a time"),
            ),
            _text(
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
        _said(
            _email(
                'See you {{ appointment_on | default: "soon" }}',
                "And how to change it.",
                _words(
                    'this is to remind you: {{ appointment_for | default: "your appointment" }}, {{'
                    ' appointment_on | default: "soon" }} at {{ appointment_at | default: "the time we'
                    ' agreed" }}.\n\nIf it does not suit you any more, answer this mail or call {{'
                    " shop_phone }}."
                ),
                _button("Change the time"),
            ),
            _text(
                '{{ shop_name }}: {{ appointment_for | default: "your appointment" }}, {{ appointment_on |'
                ' default: "soon" }}, {{ appointment_at | default: "" }}. Answer here to change it.'
            ),
            _chat(
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
        _said(
            _email(
                "We missed you today",
                "Shall we find another time?",
                _words("we kept your place and you could not come. It happens. Shall we find another time?"),
                _button("Choose another time"),
            ),
            _text("We missed you today at {{ shop_name }}. Another time? {{ booking_url }}"),
        ),
        "service",
    ),
    MessageTemplate(
        "renewal",
        "The membership renews",
        "three days before",
        _said(
            _email(
                'Your membership renews on {{ renews_on | default: "its day" }}',
                "Nothing to do, unless you want to.",
                _words(
                    '{{ membership_plan | default: "your membership" }} renews on {{ renews_on | default:'
                    ' "its day" }}. If you want to change or end it, answer this mail before then.'
                ),
            )
        ),
        "service",
    ),
    MessageTemplate(
        "welcome",
        "Welcome",
        "right after somebody signed up",
        _said(
            _email(
                "Good to have you",
                "What to expect from us.",
                _words(
                    "thank you for signing up. We write about once a month, and only when there is something"
                    " to say.\n\nTell us what you care about, and you hear about that alone:"
                ),
                _button("Choose what you hear about", "{{ preferences_url }}"),
                c.Items(list="best"),
            )
        ),
    ),
    MessageTemplate(
        "keep-in-touch",
        "Keep in touch",
        "once a month",
        _said(
            _email(
                "What is new this month",
                "Three things, and one worth knowing.",
                _words("here is what is new since you were last in:"),
                c.Items(list="new"),
                _words("**Worth knowing:** write one useful line here."),
                _button("Come by"),
            )
        ),
    ),
    MessageTemplate(
        "never-reacts",
        "Do you still want these?",
        "for who agreed and never opens",
        _said(
            _email(
                "Do you still want these?",
                "One press keeps you on the list.",
                _words(
                    "you agreed to hear from us, and it may be that it never suits you. That is"
                    " fine.\n\nPress once if you want to stay; otherwise we stop writing."
                ),
                _button("Keep me on the list", "{{ keep_url }}"),
            ),
            _text(
                "{{ shop_name }}: still want our texts? Press once to stay: {{ keep_url }} Otherwise we"
                " stop. " + STOP
            ),
        ),
    ),
)


def find(key: str) -> MessageTemplate | None:
    return next((occasion for occasion in OCCASIONS if occasion.key == key), None)


def with_letterhead(content: c.MessageContent, letterhead: int | None) -> c.MessageContent:
    """Every email of it wrapped by a letterhead."""
    return content.model_copy(update={"writings": _wrapped(content.writings, letterhead)})


def _wrapped(writings: Sequence[c.AnyWriting], letterhead: int | None) -> list[object]:
    return [
        writing.model_copy(update={"letterhead": letterhead})
        if isinstance(writing, c.EmailContent)
        else writing
        for writing in writings
    ]
