"""What a message holds: for each channel and language it is written in, one writing."""

from collections.abc import Iterator, Sequence
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from loyalbell.core.channels import CHANNELS, Channel
from loyalbell.core.segments.model import Rule

VERSION = 2
MOST_BLOCKS = 100
ItemList = Literal["bought", "refill", "goes with", "next", "new", "best", "field"]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class When(_Part):
    """Whom a block is shown to: those who meet ``rule``.

    ``otherwise`` means those to whom none of the blocks right above it, that have a rule, was shown. ``name``
    is what the part is called in results.
    """

    rule: Rule | None = None
    otherwise: bool = False
    name: str = Field(default="", max_length=60)


class _Block(_Part):
    when: When | None = None


class Heading(_Block):
    kind: Literal["heading"] = "heading"
    text: str = Field(default="", max_length=500)


class Text(_Block):
    """Paragraphs, parted by empty lines.

    ``**bold**``, ``*slanted*``, ``[words](address)``, lines that begin with ``- ``.
    """

    kind: Literal["text"] = "text"
    text: str = Field(default="", max_length=20_000)


class Button(_Block):
    kind: Literal["button"] = "button"
    label: str = Field(default="", max_length=200)
    url: str = Field(default="", max_length=2_000)


class Picture(_Block):
    """A picture of the gallery. ``width`` is of a hundred; ``url`` where it leads, or empty."""

    kind: Literal["picture"] = "picture"
    picture: int | None = None
    alt: str = Field(default="", max_length=500)
    url: str = Field(default="", max_length=2_000)
    width: int = Field(default=100, ge=10, le=100)


class Items(_Block):
    """Cards of items chosen for each person.

    ``field`` names the field of their own that the list *field* reads.
    """

    kind: Literal["items"] = "items"
    list: ItemList = "goes with"
    field: int | None = None
    most: int = Field(default=3, ge=1, le=6)
    prices: bool = True
    fallback: Literal["best", "none"] = "best"


class Offer(_Block):
    """An offer with the person's own code; ``qr`` also draws it for the till."""

    kind: Literal["offer"] = "offer"
    offer: int | None = None
    words: str = Field(default="", max_length=2_000)
    qr: bool = True


class Divider(_Block):
    kind: Literal["divider"] = "divider"


class Spacer(_Block):
    """``height`` in pixels."""

    kind: Literal["spacer"] = "spacer"
    height: int = Field(default=24, ge=4, le=200)


class Social(_Block):
    """The shop's own places elsewhere, as Settings list them."""

    kind: Literal["social"] = "social"


class Saved(_Block):
    """A block kept in the library, as it is there at the moment of sending."""

    kind: Literal["saved"] = "saved"
    saved: int | None = None


class OwnHtml(_Block):
    """HTML of one's own; only what is harmless in a mail is kept."""

    kind: Literal["html"] = "html"
    html: str = Field(default="", max_length=50_000)


Simple = Annotated[
    Heading | Text | Button | Picture | Items | Offer | Divider | Spacer, Field(discriminator="kind")
]


class Columns(_Block):
    kind: Literal["columns"] = "columns"
    columns: list[Annotated[list[Simple], Field(max_length=12)]] = Field(
        default=[[], []], min_length=2, max_length=3
    )


Block = Annotated[
    Heading | Text | Button | Picture | Items | Offer | Divider | Spacer | Social | Saved | OwnHtml | Columns,
    Field(discriminator="kind"),
]


class _Writing(_Part):
    """``language`` is a tag such as ``es``; empty for everybody who has no writing of their own."""

    language: str = Field(default="", max_length=20, pattern=r"^([a-zA-Z]{2,3}(-[a-zA-Z0-9]{2,8})*)?$")


class EmailContent(_Writing):
    """One email as it is written.

    ``form``: *letter* is made from ``blocks``, *html* is one's own page, *plain* is ``plain`` alone.
    ``plain`` otherwise takes the place of the plain-text part that is made from the rest.
    ``letterhead`` is the id of the one that wraps it; ``attachments`` are ids of files.
    ``receipt`` also attaches one of the order that it is about, ``care_sheets`` those of the items in it.
    """

    channel: Literal["email"] = "email"
    form: Literal["letter", "html", "plain"] = "letter"
    subject: str = Field(default="", max_length=500)
    preview: str = Field(default="", max_length=500)
    sender_name: str = Field(default="", max_length=120)
    reply_to: str = Field(default="", max_length=254)
    letterhead: int | None = None
    blocks: list[Block] = Field(default_factory=list, max_length=MOST_BLOCKS)
    html: str = Field(default="", max_length=500_000)
    plain: str = Field(default="", max_length=100_000)
    attachments: list[int] = Field(default_factory=list, max_length=10)
    receipt: bool = False
    care_sheets: bool = False


class ShownText(_Part):
    text: str = Field(default="", max_length=5_000)
    when: When | None = None


class TextContent(_Writing):
    """A text message: its pieces, those shown to a person set one after another."""

    channel: Literal["text"] = "text"
    texts: list[ShownText] = Field(default_factory=list, max_length=20)


class ChatContent(_Writing):
    """A chat message, with up to three answers to press.

    ``opening`` is the approved opening message that is sent instead where no conversation is open.
    """

    channel: Literal["chat"] = "chat"
    texts: list[ShownText] = Field(default_factory=list, max_length=20)
    picture: int | None = None
    replies: list[Annotated[str, Field(min_length=1, max_length=25)]] = Field(
        default_factory=list, max_length=3
    )
    opening: int | None = None


ShortWriting = TextContent | ChatContent
AnyWriting = EmailContent | ShortWriting
Writing = Annotated[AnyWriting, Field(discriminator="channel")]


class MessageContent(_Part):
    """Everything a message says. A channel and language stand in it once at most."""

    version: Literal[2] = 2
    writings: list[Writing] = Field(default_factory=list, max_length=60)

    def channels(self) -> list[Channel]:
        """Those it is written for, in the settled order."""
        return [
            channel for channel in CHANNELS if any(writing.channel == channel for writing in self.writings)
        ]

    def languages(self) -> list[str]:
        """Each once, the one for everybody first."""
        return sorted({writing.language for writing in self.writings})

    def find(self, channel: str, language: str = "") -> AnyWriting | None:
        """What somebody of a language gets: their own, that of the wider language, the one for everybody,
        any.
        """
        mine = [writing for writing in self.writings if writing.channel == channel]
        wanted = language.replace("_", "-").lower()
        for tag in (wanted, wanted.partition("-")[0], ""):
            for one in mine:
                if one.language.lower() == tag:
                    return one
        return mine[0] if mine else None

    def with_writing(self, writing: "AnyWriting") -> "MessageContent":
        """The same with one writing put in the place of that of its channel and language."""
        key = (writing.channel, writing.language)
        others = [one for one in self.writings if (one.channel, one.language) != key]
        return self.model_copy(update={"writings": [*others, writing]})


def as_message(content: "MessageContent | AnyWriting") -> MessageContent:
    """A message of one writing, where it is not a whole one already."""
    return content if isinstance(content, MessageContent) else MessageContent(writings=[content])


class LetterheadLook(_Part):
    """What wraps an email: texts, colours (``#rrggbb``), font and width in pixels.

    ``logo`` is a picture's address, ``dark_logo`` that of the one for dark mail programs; ``link`` is the
    colour of links, empty for that of the words.
    """

    header: str
    footer: str
    ink: str
    accent: str
    paper: str = "#f5f1e8"
    card: str = "#ffffff"
    font: str = "Verdana, Arial, sans-serif"
    width: int = 600
    logo: str = ""
    dark_logo: str = ""
    link: str = ""


class ContentProblem(ValueError):
    """Content that cannot be read, in words."""


def read_content(data: Any) -> MessageContent:
    """The content in JSON data; the first version held one email. Raises ``ContentProblem``."""
    if not isinstance(data, dict):
        raise ContentProblem("A message is a JSON object with “version” and “writings”.")
    version = data.get("version")
    if isinstance(version, int) and version > VERSION:
        raise ContentProblem(
            f"This message has version {version}; this program reads up to {VERSION}. Open it with a newer"
            " Loyal Bell."
        )
    if version == 1:
        rest = {key: value for key, value in data.items() if key != "version"}
        data = {"version": VERSION, "writings": [{"channel": "email", **rest}]}
    try:
        content = MessageContent.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        place = " › ".join(
            str(part + 1) if isinstance(part, int) else str(part).replace("_", " ") for part in first["loc"]
        )
        raise ContentProblem(f"At {place or 'the message'}: {first['msg'].lower()}.") from error
    keys = [(writing.channel, writing.language) for writing in content.writings]
    if len(set(keys)) != len(keys):
        raise ContentProblem("A channel and language stand in this message twice.")
    return content


def every_block(blocks: Sequence[Any]) -> Iterator[Any]:
    """The blocks in reading order, those in columns too."""
    for block in blocks:
        yield block
        if isinstance(block, Columns):
            for column in block.columns:
                yield from column


def whens(writing: AnyWriting) -> list[When]:
    """Every condition in it, in reading order."""
    parts = every_block(writing.blocks) if isinstance(writing, EmailContent) else writing.texts
    return [part.when for part in parts if part.when is not None]


def texts_of(writing: AnyWriting) -> list[tuple[str, str]]:
    """(where, text) of every text in it that may hold fields, in reading order."""
    if not isinstance(writing, EmailContent):
        return [(f"part {at + 1}", one.text) for at, one in enumerate(writing.texts)]
    found = [("the subject", writing.subject), ("the preview line", writing.preview)]
    if writing.form == "html":
        return [*found, ("the HTML", writing.html), ("the plain text", writing.plain)]
    if writing.form == "plain":
        return [*found, ("the text", writing.plain)]
    for at, block in enumerate(every_block(writing.blocks), 1):
        for name in ("text", "label", "url", "alt", "words", "html"):
            text = getattr(block, name, "")
            if text:
                found.append((f"block {at}, {block.kind}", text))
    return [*found, ("the plain text", writing.plain)]
