"""Departments, places, staff and items by their names, made where they are new."""

from typing import Any

from sqlalchemy.orm import Session

UNWRITTEN = -1


class Names:
    """Ids by name. With ``write`` off new names get the id ``UNWRITTEN``."""

    def __init__(self, session: Session, write: bool = True, import_id: int | None = None) -> None:
        self.session, self.write, self.import_id = session, write, import_id
        self._known: dict[str, dict[str, int]] = {}
        self._items: dict[str, dict[str, int]] | None = None

    def id_of(self, table: str, name: str | None) -> int | None:
        """The row of ``department``, ``location``, ``staff`` or ``tag`` that has the name.

        ``None`` for no name.
        """
        if not name:
            return None
        if table not in self._known:
            self._known[table] = dict(self._rows(f"SELECT name, id FROM {table}"))
        known = self._known[table]
        if name not in known:
            known[name] = self._make(table, {"name": name})
        return known[name]

    def item_of(self, item_id: str | None, name: str | None, category: str | None = None) -> int | None:
        """The item with the id, or else the name; a new one is made. ``None`` where neither is given."""
        if item_id is None and name is None:
            return None
        items = self._all_items()
        if item_id is not None and item_id in items["id"]:
            return items["id"][item_id]
        if item_id is None and name in items["name"]:
            return items["name"][name]
        facts = {"external_id": item_id, "name": name or item_id, "category": category, "in_stock": 1}
        made = self._make("item", facts | {"import_id": self.import_id})
        if item_id is not None:
            items["id"][item_id] = made
        items["name"].setdefault(str(facts["name"]), made)
        return made

    def _all_items(self) -> dict[str, dict[str, int]]:
        if self._items is None:
            rows = self._rows("SELECT external_id, name, id FROM item ORDER BY id DESC").fetchall()
            self._items = {
                "id": {external: row for external, _, row in rows if external is not None},
                "name": {name: row for _, name, row in rows},
            }
        return self._items

    def _make(self, table: str, facts: dict[str, Any]) -> int:
        if not self.write:
            return UNWRITTEN
        marks = ", ".join("?" * len(facts))
        made = self._rows(
            f"INSERT INTO {table} ({', '.join(facts)}) VALUES ({marks}) RETURNING id", tuple(facts.values())
        )
        return int(made.fetchone()[0])

    def _rows(self, sql: str, values: tuple[Any, ...] = ()) -> Any:
        cursor: Any = self.session.connection().connection.cursor()
        return cursor.execute(sql, values)
