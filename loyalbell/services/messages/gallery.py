"""The gallery: pictures for messages, checked and made small; files that go with mails; kept blocks."""

import io
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import PurePath
from typing import Any

from PIL import Image, UnidentifiedImageError
from pydantic import ValidationError
from sqlalchemy import Row, select, update

from loyalbell.core.messages.mime import one_line
from loyalbell.core.references import Kind
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import read_block
from loyalbell.services.references import refuse_if_used
from loyalbell.storage.schema import (
    AttachedFile,
    GalleryPicture,
    Item,
    SavedBlock,
)

KINDS = {"PNG": "image/png", "JPEG": "image/jpeg", "GIF": "image/gif", "WEBP": "image/png"}
MOST_BYTES, MOST_PIXELS, WIDEST = 10_000_000, 50_000_000, 1_200
MOST_FILE, LEAST_CUT = 5_000_000, 16
ATTACHED = {
    ".pdf": "application/pdf",
    ".png": "image/png",
    ".jpg": "image/jpeg",
    ".jpeg": "image/jpeg",
    ".gif": "image/gif",
    ".webp": "image/webp",
    ".txt": "text/plain",
    ".csv": "text/csv",
    ".ics": "text/calendar",
    ".vcf": "text/vcard",
    ".docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
    ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    ".odt": "application/vnd.oasis.opendocument.text",
    ".ods": "application/vnd.oasis.opendocument.spreadsheet",
}
"""What may be attached, and as what it is announced (types by the registry of IANA): documents without
macros, pictures, plain text, a date, a card. Everything else is refused, whatever it is called.
"""


class CannotTake(Exception):
    """Why a file cannot be taken, in words."""


def add_picture(application: Application, name: str, data: bytes, alt: str, by: str) -> GalleryPicture:
    """Pictures wider than 1,200 pixels are made smaller.

    What a camera wrote into them is left out. Raises ``CannotTake``.
    """
    if len(data) > MOST_BYTES:
        raise CannotTake(f"This picture has {len(data) / 1e6:.1f} MB; 10 MB at most.")
    try:
        with Image.open(io.BytesIO(data)) as picture:
            kind = picture.format or ""
            if kind not in KINDS:
                raise CannotTake("A picture must be PNG, JPEG, GIF or WebP; mail programs show no others.")
            if picture.width * picture.height > MOST_PIXELS:
                raise CannotTake("This picture has too many pixels. Make it smaller first.")
            made, width, height = _ready(picture, data)
    except Image.DecompressionBombError as error:
        raise CannotTake("This picture has too many pixels. Make it smaller first.") from error
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError) as error:
        raise CannotTake("This file is not a picture that can be read.") from error
    row = GalleryPicture(
        token=secrets.token_urlsafe(12),
        name=_name(name),
        alt=one_line(alt)[:500],
        kind=KINDS[kind],
        width=width,
        height=height,
        data=made,
        made_at=application.clock.now(),
        by=by,
    )
    with application.database.transaction() as session:
        session.add(row)
        session.flush()
        application.note(session, by, "added a picture", picture=row.name)
    return row


def _ready(picture: Image.Image, data: bytes) -> tuple[bytes, int, int]:
    if picture.format == "GIF":
        return data, picture.width, picture.height
    small = picture.copy()
    if small.width > WIDEST:
        small = small.resize((WIDEST, round(small.height * WIDEST / small.width)))
    out = io.BytesIO()
    if picture.format == "JPEG":
        small.convert("RGB").save(out, "JPEG", quality=85, optimize=True)
    else:
        small.save(out, "PNG", optimize=True)
    return out.getvalue(), small.width, small.height


def _name(name: str) -> str:
    return one_line(PurePath(name.replace("\\", "/")).name)[:120] or "picture"


@dataclass(frozen=True)
class Cut:
    """A part of a picture, in pixels from its upper left corner."""

    left: int
    top: int
    width: int
    height: int


def cut_picture(application: Application, picture_id: int, cut: Cut, by: str) -> GalleryPicture:
    """A new picture of a part of one; the whole stays as it is. Raises ``CannotTake``."""
    whole = application.find(GalleryPicture, picture_id)
    if whole is None:
        raise CannotTake("This picture is no longer in the gallery.")
    if whole.kind == "image/gif":
        raise CannotTake("A GIF that may move cannot be cut. Take a PNG or a JPEG instead.")
    box = (
        max(cut.left, 0),
        max(cut.top, 0),
        min(cut.left + cut.width, whole.width),
        min(cut.top + cut.height, whole.height),
    )
    if box[2] - box[0] < LEAST_CUT or box[3] - box[1] < LEAST_CUT:
        raise CannotTake(f"Leave at least {LEAST_CUT} by {LEAST_CUT} pixels.")
    out = io.BytesIO()
    with Image.open(io.BytesIO(whole.data)) as picture:
        part = picture.crop(box)
        if whole.kind == "image/jpeg":
            part.save(out, "JPEG", quality=90, optimize=True)
        else:
            part.save(out, "PNG", optimize=True)
    name, dot, ending = whole.name.rpartition(".")
    return add_picture(
        application, f"{name or ending}, cut{dot}{ending if name else ''}", out.getvalue(), whole.alt, by
    )


def change_alt(application: Application, picture_id: int, alt: str) -> None:
    with application.database.transaction() as session:
        session.get_one(GalleryPicture, picture_id).alt = one_line(alt)[:500]


def drop_picture(application: Application, picture_id: int, by: str) -> None:
    """Raises ``InUse`` while a message or a letterhead uses it."""
    with application.database.transaction() as session:
        picture = session.get_one(GalleryPicture, picture_id)
        refuse_if_used(session, Kind.PICTURE, picture_id, f"The picture “{picture.name}”")
        session.execute(update(Item).where(Item.picture_id == picture_id).values(picture_id=None))
        application.note(session, by, "deleted a picture", picture=picture.name)
        session.delete(picture)


def add_file(application: Application, name: str, data: bytes, by: str) -> AttachedFile:
    """Raises ``CannotTake``."""
    if not data:
        raise CannotTake("This file is empty.")
    if len(data) > MOST_FILE:
        raise CannotTake(f"This file has {len(data) / 1e6:.1f} MB; 5 MB at most.")
    kept = _name(name)
    kind = ATTACHED.get(PurePath(kept.lower()).suffix)
    if kind is None:
        raise CannotTake("Files of this kind cannot be attached. Send a PDF or a picture instead.")
    row = AttachedFile(name=kept, kind=kind, data=data, made_at=application.clock.now(), by=by)
    with application.database.transaction() as session:
        session.add(row)
        session.flush()
    return row


def keep_block(application: Application, name: str, block: Mapping[str, Any], by: str) -> int:
    """A block under its name; the same name puts it in the place of the one before. Raises ``CannotTake``."""
    name = one_line(name)[:80]
    if not name:
        raise CannotTake("Give the block a name.")
    try:
        made = read_block({key: value for key, value in block.items() if key != "when"})
    except ValidationError as error:
        raise CannotTake("This block cannot be kept.") from error
    with application.database.transaction() as session:
        row = session.scalar(select(SavedBlock).where(SavedBlock.name == name))
        if row is None:
            row = SavedBlock(name=name)
            session.add(row)
        row.block, row.changed_at = made.model_dump(mode="json"), application.clock.now()
        session.flush()
        application.note(session, by, "kept a block", block=name)
        return row.id


def picture_of(application: Application, token: str) -> GalleryPicture | None:
    """The picture that its address in a mail names."""
    with application.database.reading() as session:
        return session.scalar(select(GalleryPicture).where(GalleryPicture.token == token))


def pictures(application: Application) -> list[Row[int, str, str, str, int, int, datetime]]:
    """What is known of each picture but its data, the newest first; items' own stand in the catalogue."""
    of_items = select(Item.picture_id).where(Item.picture_id.is_not(None))
    query = select(
        GalleryPicture.id,
        GalleryPicture.token,
        GalleryPicture.name,
        GalleryPicture.alt,
        GalleryPicture.width,
        GalleryPicture.height,
        GalleryPicture.made_at,
    )
    query = query.where(GalleryPicture.id.not_in(of_items)).order_by(GalleryPicture.id.desc())
    with application.database.reading() as session:
        return list(session.execute(query).all())


def latest_files(application: Application, limit: int) -> list[tuple[int, str]]:
    """(id, name) of the files that can go with a mail, the newest first."""
    query = select(AttachedFile.id, AttachedFile.name).order_by(AttachedFile.id.desc()).limit(limit)
    with application.database.reading() as session:
        return [(file_id, name) for file_id, name in session.execute(query)]


def saved_blocks(application: Application) -> list[tuple[int, str]]:
    """(id, name) of the blocks kept to be used again."""
    with application.database.reading() as session:
        query = select(SavedBlock.id, SavedBlock.name).order_by(SavedBlock.name)
        return [(block_id, name) for block_id, name in session.execute(query)]
