"""What a message holds: a subject, a preview line and one column of blocks."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Heading(_Part):
    kind: Literal["heading"] = "heading"
    text: str = Field(default="", max_length=500)


class Text(_Part):
    """Paragraphs, parted by empty lines."""

    kind: Literal["text"] = "text"
    text: str = Field(default="", max_length=20_000)


class Button(_Part):
    kind: Literal["button"] = "button"
    label: str = Field(default="", max_length=200)
    url: str = Field(default="", max_length=2_000)


Block = Annotated[Heading | Text | Button, Field(discriminator="kind")]


class EmailContent(_Part):
    """One email as it is written. ``letterhead`` is the id of the letterhead that wraps it."""

    version: Literal[1] = 1
    subject: str = Field(default="", max_length=500)
    preview: str = Field(default="", max_length=500)
    letterhead: int | None = None
    blocks: list[Block] = Field(default_factory=list, max_length=100)

    def written(self) -> list[str]:
        """Every text in it that may hold fields, in reading order."""
        parts = [self.subject, self.preview]
        for block in self.blocks:
            parts += [block.label, block.url] if isinstance(block, Button) else [block.text]
        return parts

    def links(self) -> list[str]:
        """Where the buttons lead, in reading order."""
        return [block.url for block in self.blocks if isinstance(block, Button)]


class LetterheadLook(_Part):
    """Header, footer and colours (``#rrggbb``) that wrap an email."""

    header: str
    footer: str
    ink: str
    accent: str


def read_content(data: Any) -> EmailContent:
    """The content in JSON data. Raises pydantic's ``ValidationError``."""
    return EmailContent.model_validate(data)
