"""The sheet and the rail of the message editor: what they show of one writing."""

import json
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.text_parts import parts, wide_characters, with_twins
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.segments.sentence import say_rule
from loyalbell.services.customers import custom_fields
from loyalbell.services.delivery.composing.rendering import picture_url
from loyalbell.services.messages import gallery, letterheads, preflight, preview
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.offers import queries as offer_queries
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.settings.channels import GATEWAYS, LinkSettings, ProofSettings, loaded
from loyalbell.storage.schema import (
    Segment,
)
from loyalbell.web.json_text import read_json
from loyalbell.web.messages.drafts import Writing, drafts_of
from loyalbell.web.messages.rich_text import Labels, as_chips, as_rich
from loyalbell.web.request import RequestContext, number_of, text_of

VIEWS = ("phone", "desktop", "dark", "plain")
LANGUAGES = ("en", "es", "fr", "de", "pt", "it", "nl", "zh", "ko", "vi", "tl", "ar", "hi", "pl", "ru", "ht")
BLANK_BLOCKS: dict[str, Any] = {
    "heading": c.Heading(),
    "text": c.Text(),
    "button": c.Button(),
    "picture": c.Picture(),
    "items": c.Items(),
    "offer": c.Offer(),
    "divider": c.Divider(),
    "spacer": c.Spacer(),
    "social": c.Social(),
    "saved": c.Saved(),
    "html": c.OwnHtml(),
    "columns": c.Columns(),
    "columns3": c.Columns(columns=[[], [], []]),
    "words": c.ShownText(),
}
LATEST_FILES = 12


@dataclass(frozen=True)
class EditorChoices:
    """What the choosers of the sheet offer, as (value, words)."""

    labels: Labels
    pictures: list[tuple[int, str]]
    thumbs: dict[int, str]
    offers: list[tuple[int, str]]
    saved: list[tuple[int, str]]
    own_fields: list[tuple[int, str]]
    openings: list[tuple[int, str]]
    files: list[tuple[int, str]]
    social: list[tuple[str, str]]


def editor_choices_of(context: RequestContext) -> EditorChoices:
    application, shop = context.application, context.application.the_shop()
    own = [(field.id, field.name) for field in custom_fields.by_name(application)]
    pictures = gallery.pictures(application)
    return EditorChoices(
        labels=Labels(dict(own), offer_queries.every_name(application)),
        pictures=[(picture.id, picture.name) for picture in pictures],
        thumbs={
            picture.id: picture_url(shop, picture.token).removeprefix(shop.public_url) for picture in pictures
        },
        offers=offer_queries.current_names(application),
        saved=gallery.saved_blocks(application),
        own_fields=own,
        openings=[(opening.id, opening.name) for opening in letterheads.openings(application)],
        files=gallery.latest_files(application, LATEST_FILES),
        social=list(loaded(application, LinkSettings).social),
    )


def say_language(tag: str) -> str:
    return preview.say_language(tag) if tag else "for everyone"


def _numbers(writing: Writing) -> list[int]:
    """The number of each outermost block of a letter, blocks inside columns counted."""
    if not isinstance(writing, c.EmailContent):
        return []
    found, at = [], 1
    for block in writing.blocks:
        found.append(at)
        at += 1 + (sum(len(column) for column in block.columns) if isinstance(block, c.Columns) else 0)
    return found


def _beside(writing: Writing) -> set[int]:
    """Places of outermost parts that are variants of one another: parts for some, up to the one for the
    others.
    """
    parts = writing.blocks if isinstance(writing, c.EmailContent) else writing.texts
    found, run = set[int](), list[int]()
    for at, part in enumerate([*parts, None]):
        if part is not None and part.when is not None:
            run.append(at)
        if part is None or part.when is None or part.when.otherwise:
            found |= set(run) if len(run) > 1 else set()
            run = []
    return found


def _choice_fields(context: RequestContext) -> list[tuple[int, str, list[str]]]:
    """The shop's own fields with few values to choose from: id, name, values."""
    return [
        (field.id, field.name, ["yes", "no"] if field.kind == "yes or no" else list(field.choices))
        for field in custom_fields.by_name(context.application)
        if field.kind == "yes or no" or field.choices
    ]


def sheet_values(context: RequestContext, content: c.MessageContent, writing: Writing) -> dict[str, Any]:
    saying = segment_queries.saying(context.application, context.application.snapshot())
    kit = editor_choices_of(context)
    there = content.languages() or [""]
    named = [(segment.id, segment.name) for segment in segment_queries.every_segment(context.application)]
    wanted = message_queries.languages_read(context.application)
    more = [tag for tag in dict.fromkeys(["", *wanted, *LANGUAGES]) if tag not in there]
    return {
        "choice_fields": _choice_fields(context),
        "content": content,
        "writing": writing,
        "kit": kit,
        "rich": as_rich,
        "chips": as_chips,
        "said": lambda rule: say_rule(rule, saying),
        "sees": {variant.block: variant for variant in preview.variants(context.application, writing)},
        "numbers": _numbers(writing),
        "beside": _beside(writing),
        "letterheads": message_queries.letterheads(context.application),
        "blank_blocks": BLANK_BLOCKS if isinstance(writing, c.EmailContent) else {"words": c.ShownText()},
        "languages": [(tag, say_language(tag)) for tag in dict.fromkeys([*there, writing.language])],
        "more_languages": [(tag, say_language(tag)) for tag in more if tag != writing.language],
        "segments": named,
    }


def rail_values(
    context: RequestContext, content: c.MessageContent, writing: Writing, form: FormData | None = None
) -> dict[str, Any]:
    """``form`` says whom it is read as, and in which view."""
    readers = preview.readers(context.application, content)
    reader = number_of(form, "reader") if form is not None else None
    reader = reader or (readers[0].id if readers else None)
    view = text_of(form, "view", "phone") if form is not None else "phone"
    marketing = (text_of(form, "purpose", "marketing") if form is not None else "marketing") != "service"
    shown, withheld = _shown(context, writing, reader)
    segment = number_of(form, "audience") if form is not None else None
    audience = _audience(context, segment)
    values: dict[str, Any] = {
        "content": content,
        "writing": writing,
        "readers": readers,
        "reader": reader,
        "view": view if view in VIEWS else "phone",
        "draft": drafts_of(context).put(context.visitor.csrf, writing),
        "shown": shown,
        "withheld": withheld,
        "findings": preflight.findings_of(context.application, writing, audience, marketing),
        "uses": _uses(context, number_of(form, "message_id") if form is not None else None),
        "proof_readers": _proof_readers(context),
        "chosen_items": preview.items_for(context.application, writing, reader) if withheld is None else [],
        "audience": segment if audience is not None else None,
        "parts_seen": preview.variants(context.application, writing, audience),
        "named_segments": _named_segments(context),
        "spread": None,
        "twins": False,
        "counted": None,
        "cost": 0,
        "picture": "",
        "sender": "",
    }
    if not isinstance(writing, c.EmailContent):
        values |= _short_values(context, writing, shown)
    return values


def _named_segments(context: RequestContext) -> list[tuple[int, str]]:
    return segment_queries.current_names(context.application)


def _audience(context: RequestContext, segment_id: int | None) -> list[int] | None:
    """Ids of who is in the segment now; ``None`` for everyone on file."""
    segment = context.application.find(Segment, segment_id)
    if segment is None:
        return None
    try:
        snapshot, met = segment_queries.who(context.application, segment_queries.rule_of(segment))
    except RuleProblem:
        return None
    return [int(one) for one in snapshot.people.ids[met]]


def _shown(
    context: RequestContext, writing: Writing, reader: int | None
) -> tuple[FilledEmail | str | None, str | None]:
    try:
        return preview.read_as(context.application, writing, reader), None
    except FieldProblem as problem:
        return None, str(problem)


def _short_values(context: RequestContext, writing: c.ShortWriting, shown: Any) -> dict[str, Any]:
    settings = loaded(context.application, GATEWAYS[writing.channel])
    found: dict[str, Any] = {"sender": settings.sender or context.application.the_shop().name}
    if isinstance(writing, c.ChatContent):
        found["picture"] = editor_choices_of(context).thumbs.get(writing.picture or 0, "")
        return found
    counted = parts(str(shown or ""))
    whole = "".join(text.text for text in writing.texts)
    found |= {
        "counted": counted,
        "cost": round(counted.parts * settings.cost_minor),
        "spread": preview.text_spread(context.application, writing) if whole.strip() else None,
        "twins": any(wide_character.twin is not None for wide_character in wide_characters(whole)),
    }
    return found


def _proof_readers(context: RequestContext) -> list[Any]:
    return list(loaded(context.application, ProofSettings).readers)


def _uses(context: RequestContext, message_id: int | None) -> list[str]:
    return message_queries.uses_of(context.application, message_id) if message_id is not None else []


def content_from(form: FormData) -> c.MessageContent:
    """The whole message that the page holds. Raises ``ContentProblem``."""
    try:
        return c.read_content(read_json(text_of(form, "whole", "{}")))
    except json.JSONDecodeError as error:
        raise c.ContentProblem("This page sent something that cannot be read. Load it again.") from error


def writing_from(content: c.MessageContent, form: FormData) -> Writing:
    """The writing that is turned to: there, or a new one made from that for everyone. Raises
    ``ContentProblem``.
    """
    channel, language = text_of(form, "channel", "email"), text_of(form, "language")
    for writing in content.writings:
        if (writing.channel, writing.language) == (channel, language):
            return writing
    model = content.find(channel)
    try:
        if model is not None:
            return type(model).model_validate(model.model_dump() | {"language": language})
        return blank(channel, language, content)
    except ValidationError as error:
        raise c.ContentProblem("There is no such language.") from error


def blank(channel: str, language: str, content: c.MessageContent | None = None) -> Writing:
    if channel == "text":
        words = 'Hi {{ first_name | default: "there" }}, {{ shop_name }} here. {{ stop_words }}'
        return c.TextContent(language=language, texts=[c.ShownText(text=words)])
    if channel == "chat":
        return c.ChatContent(
            language=language, texts=[c.ShownText(text='Hi {{ first_name | default: "there" }},')]
        )
    return c.EmailContent(
        language=language, blocks=[c.Heading(text='Hello {{ first_name | default: "there" }},'), c.Text()]
    )


def with_plain_twins(writing: Writing) -> Writing:
    """A text with the plain twins of its wide characters."""
    if not isinstance(writing, c.TextContent):
        return writing
    texts = [text.model_copy(update={"text": with_twins(text.text)}) for text in writing.texts]
    return writing.model_copy(update={"texts": texts})
