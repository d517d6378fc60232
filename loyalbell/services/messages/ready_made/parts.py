"""What ready-made messages are made of."""

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


def email(subject: str, preview: str, *blocks: c.Block) -> c.EmailContent:
    return c.EmailContent(subject=subject, preview=preview, blocks=[c.Heading(text=HELLO), *blocks])


def text(says: str) -> c.TextContent:
    return c.TextContent(texts=[c.ShownText(text=says)])


def chat(says: str, *replies: str) -> c.ChatContent:
    return c.ChatContent(texts=[c.ShownText(text=says)], replies=list(replies))


def said(*writings: c.AnyWriting) -> c.MessageContent:
    return c.MessageContent(writings=list(writings))


def words(says: str) -> c.Text:
    return c.Text(text=says)


def button(label: str, url: str = BOOK) -> c.Button:
    return c.Button(label=label, url=url)
