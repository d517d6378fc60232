"""What every table shares: the declarative base and the column type for instants."""

import json
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import JSON, BigInteger, Dialect, MetaData, Text
from sqlalchemy.orm import DeclarativeBase
from sqlalchemy.types import TypeDecorator

from loyalbell.core.policy.delivery_state import DeliveryState

NAMING = {
    "ix": "ix_%(column_0_label)s",
    "uq": "uq_%(table_name)s_%(column_0_N_name)s",
    "ck": "ck_%(table_name)s_%(constraint_name)s",
    "fk": "fk_%(table_name)s_%(column_0_name)s_%(referred_table_name)s",
    "pk": "pk_%(table_name)s",
}


class Instant(TypeDecorator[datetime]):
    """An aware ``datetime``, kept as whole seconds since 1970-01-01T00:00Z."""

    impl = BigInteger
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> int | None:
        if value is None:
            return None
        if value.tzinfo is None:
            raise ValueError("an instant needs a time zone")
        return int(value.timestamp())

    def process_result_value(self, value: int | None, dialect: Dialect) -> datetime | None:
        return None if value is None else datetime.fromtimestamp(value, UTC)


class JsonText(TypeDecorator[Any]):
    """Any JSON value as text; a column of the type JSON would turn the text ``17.5`` into a number."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Dialect) -> str:
        return json.dumps(value, ensure_ascii=False)

    def process_result_value(self, value: str | None, dialect: Dialect) -> Any:
        return None if value is None else json.loads(value)


class StateText(TypeDecorator[DeliveryState]):
    """A delivery's state, kept as its word."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: DeliveryState | str | None, dialect: Dialect) -> str | None:
        return None if value is None else DeliveryState(value).value

    def process_result_value(self, value: str | None, dialect: Dialect) -> DeliveryState | None:
        return None if value is None else DeliveryState(value)


class Base(DeclarativeBase):
    metadata = MetaData(naming_convention=NAMING)
    type_annotation_map = {datetime: Instant, DeliveryState: StateText, dict[str, Any]: JSON, list[Any]: JSON}
