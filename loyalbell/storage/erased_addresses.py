"""Addresses of people who were erased stay suppressed without standing in the book: as hashes with the key of
``secret.key`` (keyed BLAKE2b, RFC 7693), which whoever has the book alone cannot try addresses against.

Whoever gets such an address again carries a suppression of their own at once, written by SQLite itself.
"""

from sqlalchemy import Connection, select
from sqlalchemy.orm import Session as Reader

from loyalbell.core.channels import TYPES
from loyalbell.storage.schema import Suppression
from loyalbell.storage.secret_box import SecretBox, box_of

REASON = "erased"
HASHED = "hashed:"


def mark_of(box: SecretBox, channel: str, address: str, make: bool = False) -> str:
    """What stands for an address, whatever the size of its letters; nothing where there is no key and none
    is to be made.
    """
    digest = box.keyed_hash(f"{channel}|{address.strip().lower()}", make)
    return f"{HASHED}{digest}" if digest else ""


def watch(connection: Connection, box: SecretBox) -> None:
    """Lets the connection suppress at once whoever gets an erased address; call it before its transaction."""
    if connection.info.get("watches erased"):
        return
    driver = connection.connection.driver_connection
    driver.create_function(  # type: ignore[union-attr]
        "erased_mark", 2, lambda channel, address: mark_of(box, channel, address or ""), deterministic=False
    )
    for channel, kind in TYPES.items():
        for act in ("INSERT", f"UPDATE OF {kind.address}"):
            connection.exec_driver_sql(_trigger(channel, kind.address, act))
    connection.info["watches erased"] = True


def _trigger(channel: str, column: str, act: str) -> str:
    return (
        f"CREATE TEMP TRIGGER erased_{channel}_{act.split()[0].lower()} AFTER {act} ON main.person"
        f" WHEN NEW.{column} IS NOT NULL BEGIN"
        " INSERT INTO suppression (person_id, channel, address, reason, at, by)"
        f" SELECT NEW.id, '{channel}', NEW.{column}, '{REASON}', known.at, known.by"
        " FROM main.suppression AS known"
        f" WHERE known.channel = '{channel}' AND known.lifted_at IS NULL"
        f" AND known.address = erased_mark('{channel}', NEW.{column}) LIMIT 1; END"
    )


def keep(writer: Reader, suppression: Suppression) -> None:
    """Puts the hash of its address into a suppression that is about nobody on file."""
    suppression.address = mark_of(box_of(writer), suppression.channel, suppression.address, make=True)


def erased_among(reader: Reader, channel: str, addresses: list[str]) -> set[str]:
    """Which of these addresses belonged to somebody who was erased."""
    box = box_of(reader)
    by_mark = {mark_of(box, channel, address): address for address in addresses}
    by_mark.pop("", None)
    query = select(Suppression.address).where(
        Suppression.channel == channel, Suppression.address.in_(by_mark), Suppression.lifted_at.is_(None)
    )
    return {by_mark[mark] for mark in reader.scalars(query)}
