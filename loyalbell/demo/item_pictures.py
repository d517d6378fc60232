"""Pictures of the made-up shop's items: a few plain shapes on a tint, drawn here."""

import hashlib
import io
from collections.abc import Callable
from datetime import datetime
from random import Random

from PIL import Image, ImageDraw
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.storage.schema import GalleryPicture, Item

SIZE, FINER = 240, 3
TINTS = ("#e9dcc3", "#d9e4dc", "#e8d5cf", "#dde0ea", "#ece6d2")
INKS = ("#173b39", "#a4531f", "#7a5c1e", "#3e5673", "#5a4a3f")
Draw = ImageDraw.ImageDraw


def _bag(draw: Draw, ink: str, tint: str) -> None:
    draw.polygon([(230, 190), (490, 190), (530, 600), (190, 600)], fill=ink)
    draw.rectangle((255, 150, 465, 200), fill=ink)
    draw.ellipse((280, 320, 440, 480), fill=tint)


def _tin(draw: Draw, ink: str, tint: str) -> None:
    draw.rectangle((200, 250, 520, 560), fill=ink)
    draw.ellipse((200, 200, 520, 300), fill=ink, outline=tint, width=8)
    draw.ellipse((200, 510, 520, 610), fill=ink)
    draw.rectangle((200, 370, 520, 470), fill=tint)


def _bottle(draw: Draw, ink: str, tint: str) -> None:
    draw.rounded_rectangle((260, 260, 460, 610), 40, fill=ink)
    draw.rectangle((320, 130, 400, 270), fill=ink)
    draw.rectangle((260, 380, 460, 500), fill=tint)


def _bone(draw: Draw, ink: str, tint: str) -> None:
    draw.rectangle((220, 320, 500, 400), fill=ink)
    for x, y in ((170, 270), (170, 370), (450, 270), (450, 370)):
        draw.ellipse((x, y, x + 100, y + 100), fill=ink)


def _ring(draw: Draw, ink: str, tint: str) -> None:
    draw.ellipse((190, 190, 530, 530), outline=ink, width=80)


def _cup(draw: Draw, ink: str, tint: str) -> None:
    draw.rounded_rectangle((200, 270, 460, 560), 70, fill=ink)
    draw.ellipse((420, 320, 570, 470), outline=ink, width=36)
    draw.arc((270, 130, 340, 250), 90, 270, fill=ink, width=16)
    draw.arc((340, 130, 410, 250), 270, 90, fill=ink, width=16)


def _cake(draw: Draw, ink: str, tint: str) -> None:
    draw.polygon([(180, 400), (540, 280), (540, 400)], fill=ink)
    draw.rectangle((180, 410, 540, 560), fill=ink)
    draw.rectangle((180, 470, 540, 500), fill=tint)


def _drop(draw: Draw, ink: str, tint: str) -> None:
    draw.polygon([(360, 150), (240, 400), (480, 400)], fill=ink)
    draw.ellipse((226, 310, 494, 578), fill=ink)
    draw.arc((280, 370, 420, 510), 90, 180, fill=tint, width=22)


def _cross(draw: Draw, ink: str, tint: str) -> None:
    draw.rounded_rectangle((300, 180, 420, 580), 24, fill=ink)
    draw.rounded_rectangle((160, 320, 560, 440), 24, fill=ink)


SHAPES: dict[str, tuple[Callable[[Draw, str, str], None], ...]] = {
    "Food": (_bag, _tin, _bag),
    "Care": (_bottle, _drop),
    "Treats": (_bone,),
    "Toys": (_ring,),
    "Grooming": (_drop, _bottle),
    "Check-ups": (_cross,),
    "Treatments": (_cross,),
    "Drinks": (_cup,),
    "Food and cake": (_cake,),
}


def draw_item(name: str, category: str) -> bytes:
    """A PNG of ``SIZE`` pixels a side, always the same for a name."""
    rng = Random(hashlib.sha256(name.encode()).hexdigest())
    tint, ink = rng.choice(TINTS), rng.choice(INKS)
    picture = Image.new("RGB", (SIZE * FINER, SIZE * FINER), tint)
    rng.choice(SHAPES.get(category, (_ring,)))(ImageDraw.Draw(picture), ink, tint)
    out = io.BytesIO()
    picture.resize((SIZE, SIZE), Image.Resampling.LANCZOS).quantize(32).save(out, "PNG", optimize=True)
    return out.getvalue()


def give_pictures(session: Session, now: datetime) -> None:
    """Every item of the catalogue gets one."""
    for item in session.scalars(select(Item).order_by(Item.id)):
        token = hashlib.sha256(f"made-up picture {item.external_id}".encode()).hexdigest()[:16]
        picture = GalleryPicture(
            token=token,
            name=f"{item.name}.png",
            alt=item.name,
            kind="image/png",
            width=SIZE,
            height=SIZE,
            data=draw_item(item.name, item.category or ""),
            made_at=now,
            by="demo",
        )
        session.add(picture)
        session.flush()
        item.picture_id = picture.id
