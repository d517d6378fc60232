"""The catalogue as its pages show and change it: one item, many at once, their pictures."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePath
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, func, or_, select, update
from sqlalchemy.orm import Session

from loyalbell.core.history.money import minor_digits, parse_money
from loyalbell.services.application import Application
from loyalbell.services.messages import gallery
from loyalbell.storage.files.columns.heading_words import plain_words
from loyalbell.storage.schema import AttachedFile, Department, GalleryPicture, Item, Shop

PAGE = 50
SOLD_DAYS = 90
LONGEST_NAME, MOST_DAYS = 200, 3_650
SORTS = {"name": "by name", "sold": "by what sells", "price": "by price"}
MARKS = {
    "": "with and without gaps",
    "no price": "without a price",
    "no picture": "without a picture",
    "no days": "without days of use",
}


class ItemProblem(Exception):
    """What is wrong with what was entered, in words."""


@dataclass(frozen=True)
class Sought:
    """What a list of items is narrowed to; empty for all."""

    q: str = ""
    category: str = ""
    department: int | None = None
    lacks: str = ""
    sort: str = "sold"


@dataclass(frozen=True)
class Shown:
    """``sold`` is units and ``buyers`` people of the last 90 days; ``picture`` its address on these pages."""

    item: Item
    department: str
    sold: float
    buyers: int
    picture: str
    care_sheet: str = ""


def items(application: Application, sought: Sought, page: int) -> tuple[int, list[Shown]]:
    """How many there are in all, and a page of them (from 1)."""
    units, buyers = _sales(application)
    with application.database.reading() as session:
        rows = list(session.scalars(_query(sought)))
        keys: dict[str, Any] = {
            "name": lambda item: item.name.casefold(),
            "sold": lambda item: (-units.get(item.id, 0.0), item.name.casefold()),
            "price": lambda item: (-(item.price_minor or 0), item.name.casefold()),
        }
        rows.sort(key=keys[sought.sort if sought.sort in SORTS else "sold"])
        some = rows[(page - 1) * PAGE : page * PAGE]
        departments = dict(session.execute(select(Department.id, Department.name)).all())
        pictures = _pictures(session, some)
    shown = [
        Shown(
            item,
            departments.get(item.department_id, ""),
            units.get(item.id, 0.0),
            buyers.get(item.id, 0),
            pictures[item.id],
        )
        for item in some
    ]
    return len(rows), shown


def _query(sought: Sought) -> Any:
    query = select(Item)
    if sought.q:
        part = f"%{sought.q.replace('%', '')}%"
        query = query.where(
            or_(Item.name.ilike(part), Item.external_id.ilike(part), Item.category.ilike(part))
        )
    if sought.category:
        query = query.where(Item.category == sought.category)
    if sought.department:
        query = query.where(Item.department_id == sought.department)
    lacking: dict[str, ColumnElement[bool]] = {
        "no price": Item.price_minor.is_(None),
        "no picture": Item.picture_id.is_(None) & Item.picture_url.is_(None),
        "no days": Item.lasts_days.is_(None),
    }
    return query.where(lacking[sought.lacks]) if sought.lacks in lacking else query


def _pictures(session: Session, rows: Sequence[Item]) -> dict[int, str]:
    ids = [item.picture_id for item in rows if item.picture_id]
    tokens = dict(
        session.execute(
            select(GalleryPicture.id, GalleryPicture.token).where(GalleryPicture.id.in_(ids))
        ).all()
    )
    return {
        item.id: f"/picture/{tokens[item.picture_id]}"
        if item.picture_id in tokens
        else item.picture_url or ""
        for item in rows
    }


def _sales(application: Application) -> tuple[dict[int, float], dict[int, int]]:
    """Units and people by item over the last 90 days."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    lines = snapshot.lines
    rows = lines.span(now - SOLD_DAYS * 86_400, now)
    kept = lines.void_at[rows] > now
    item, person = lines.item[rows][kept], lines.person[rows][kept]
    units = np.bincount(item, weights=lines.quantity[rows][kept] / 1_000) if len(item) else np.zeros(1)
    pairs = np.unique((item.astype(np.int64) << 32) | person)
    buyers = np.bincount(pairs >> 32) if len(pairs) else np.zeros(1, dtype=np.int64)
    at = np.flatnonzero(units)
    return (
        {int(number): float(units[number]) for number in at},
        {int(number): int(buyers[number]) for number in np.flatnonzero(buyers)},
    )


def find(application: Application, item_id: int) -> Shown | None:
    units, buyers = _sales(application)
    with application.database.reading() as session:
        item = session.get(Item, item_id)
        if item is None:
            return None
        department = session.get(Department, item.department_id) if item.department_id else None
        picture = _pictures(session, [item])[item.id]
        sheet = session.get(AttachedFile, item.care_sheet_id) if item.care_sheet_id else None
    name = department.name if department else ""
    return Shown(
        item, name, units.get(item_id, 0.0), buyers.get(item_id, 0), picture, sheet.name if sheet else ""
    )


def keep(application: Application, item_id: int | None, form: Mapping[str, str], by: str) -> int:
    """Makes or changes an item. Returns its number. Raises ``ItemProblem``."""
    with application.database.transaction() as session:
        facts = _facts(session, form)
        same = select(Item.id).where(
            func.lower(Item.name) == facts["name"].lower(), Item.id != (item_id or 0)
        )
        if session.scalar(same) is not None:
            raise ItemProblem(f"There is an item called “{facts['name']}” already.")
        if facts["external_id"]:
            other = select(Item.name).where(
                Item.external_id == facts["external_id"], Item.id != (item_id or 0)
            )
            taken = session.scalar(other)
            if taken is not None:
                raise ItemProblem(f"The id “{facts['external_id']}” is that of “{taken}” already.")
        item = session.get_one(Item, item_id) if item_id else Item()
        for name, value in facts.items():
            setattr(item, name, value)
        if item_id is None:
            session.add(item)
        session.flush()
        application.note(session, by, "changed an item" if item_id else "added an item", item=item.name)
        return item.id


def _facts(session: Session, form: Mapping[str, str]) -> dict[str, Any]:
    def text(name: str) -> str:
        return " ".join(str(form.get(name, "")).split())

    name = text("name")
    if not name or len(name) > LONGEST_NAME:
        raise ItemProblem("Give the item a name.")
    link = text("link")
    if link and not link.startswith(("https://", "http://")):
        raise ItemProblem("The link must begin with https://.")
    digits = minor_digits(session.get_one(Shop, 1).currency)
    return {
        "name": name,
        "external_id": text("external_id") or None,
        "category": text("category") or None,
        "department_id": _department(session, text("department")),
        "price_minor": _money(text("price"), digits, "price"),
        "margin_minor": _money(text("margin"), digits, "margin"),
        "link": link or None,
        "in_stock": bool(form.get("in_stock")),
        "lasts_days": _days(text("lasts_days")),
    }


def _money(text: str, digits: int, what: str) -> int | None:
    if not text:
        return None
    try:
        minor = parse_money(text, digits)
    except ValueError:
        raise ItemProblem(f"“{text}” is not an amount for the {what}; write it like 12.50.") from None
    if not 0 <= minor <= 10**12:
        raise ItemProblem(f"The {what} cannot be {text}.")
    return minor


def _days(text: str) -> int | None:
    if not text:
        return None
    if not text.isdecimal() or not 1 <= int(text[:6]) <= MOST_DAYS:
        raise ItemProblem(
            f"One unit lasts between 1 and {MOST_DAYS:,} days; leave it empty if it is not used up."
        )
    return int(text)


def _department(session: Session, name: str) -> int | None:
    """The department of a name, made where there is none yet."""
    if not name:
        return None
    found = session.scalar(select(Department).where(func.lower(Department.name) == name.lower()))
    if found is None:
        found = Department(name=name[:LONGEST_NAME])
        session.add(found)
        session.flush()
    return found.id


def change_many(application: Application, ids: Sequence[int], form: Mapping[str, str], by: str) -> int:
    """Sets what the form gives for all of these; empty fields leave theirs. Returns how many. Raises
    ``ItemProblem``.
    """
    if not ids:
        raise ItemProblem("Tick the items first.")
    with application.database.transaction() as session:
        changes: dict[str, Any] = {}
        if str(form.get("category", "")).strip():
            changes["category"] = " ".join(str(form["category"]).split())[:LONGEST_NAME]
        if str(form.get("department", "")).strip():
            changes["department_id"] = _department(session, " ".join(str(form["department"]).split()))
        if str(form.get("lasts_days", "")).strip():
            changes["lasts_days"] = _days(str(form["lasts_days"]).strip())
        if form.get("stock") in ("yes", "no"):
            changes["in_stock"] = form["stock"] == "yes"
        if not changes:
            raise ItemProblem("Say what to change: category, department, days of use or stock.")
        known = select(func.count()).select_from(Item).where(Item.id.in_(ids))
        many = session.scalar(known) or 0
        session.execute(update(Item).where(Item.id.in_(ids)).values(**changes))
        application.note(
            session, by, "changed items", count=many, **{name: str(to) for name, to in changes.items()}
        )
    return many


def give_picture(application: Application, item_id: int, name: str, data: bytes, by: str) -> None:
    """Raises ``gallery.CannotTake``."""
    with application.database.reading() as session:
        item = session.get_one(Item, item_id)
    made = gallery.add_picture(application, name, data, item.name, by)
    with application.database.transaction() as session:
        session.get_one(Item, item_id).picture_id = made.id


def give_care_sheet(application: Application, item_id: int, name: str, data: bytes, by: str) -> None:
    """The file that a message may send to whoever bought the item. Raises ``gallery.CannotTake``."""
    made = gallery.add_file(application, name, data, by)
    _set_care_sheet(application, item_id, made.id, by)


def drop_care_sheet(application: Application, item_id: int, by: str) -> None:
    _set_care_sheet(application, item_id, None, by)


def _set_care_sheet(application: Application, item_id: int, file_id: int | None, by: str) -> None:
    with application.database.transaction() as session:
        item = session.get_one(Item, item_id)
        item.care_sheet_id = file_id
        application.note(
            session, by, "gave an item a care sheet" if file_id else "took a care sheet away", item=item.name
        )


def give_pictures(
    application: Application, files: Sequence[tuple[str, bytes]], by: str
) -> tuple[int, list[str]]:
    """Pictures whose file names are ids or names of items (*T-1.jpg*, *Green tea.png*). Returns how many were
    taken, and what became of the others, in words.
    """
    with application.database.reading() as session:
        rows = session.execute(select(Item.id, Item.external_id, Item.name)).all()
    known = {plain_words(name): item_id for item_id, _, name in rows}
    known |= {plain_words(external): item_id for item_id, external, _ in rows if external}
    taken, others = 0, []
    for name, data in files:
        item_id = known.get(plain_words(PurePath(name).stem))
        if item_id is None:
            others.append(f"{name}: no item has this id or name.")
            continue
        try:
            give_picture(application, item_id, name, data, by)
            taken += 1
        except gallery.CannotTake as problem:
            others.append(f"{name}: {problem}")
    return taken, others


def drop_picture(application: Application, item_id: int, by: str) -> None:
    with application.database.transaction() as session:
        item = session.get_one(Item, item_id)
        item.picture_id, item.picture_url = None, None
        application.note(session, by, "took away an item’s picture", item=item.name)
