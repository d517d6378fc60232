"""The tags that people carry now."""

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session as Reader

from loyalbell.storage.schema import PersonTag, Tag


def tag_names(reader: Reader, person_ids: Sequence[int]) -> dict[int, list[str]]:
    """Names in order, by person id; people without a tag are missing."""
    found: dict[int, list[str]] = {}
    for person_id, name in reader.execute(
        select(PersonTag.person_id, Tag.name)
        .join(Tag, Tag.id == PersonTag.tag_id)
        .where(PersonTag.person_id.in_(person_ids), PersonTag.removed_at.is_(None))
        .order_by(Tag.name)
    ):
        found.setdefault(person_id, []).append(name)
    return found
