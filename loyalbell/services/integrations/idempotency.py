"""A request that is sent again with its key is answered as before, and not carried out twice."""

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import delete, select

from loyalbell.services.application import Application, UnitOfWork
from loyalbell.storage.schema import ApiToken, KeptAnswer

KEPT_FOR = timedelta(days=2)
Write = Callable[[UnitOfWork], tuple[int, dict[str, Any]]]
"""Carries a request out in a transaction; gives the status and the body of its answer."""


class KeyReused(Exception):
    """The key came with another request before."""


@dataclass(frozen=True)
class Answered:
    """``replayed``: the request had been carried out before."""

    status: int
    body: dict[str, Any]
    replayed: bool = False


def once(
    application: Application, token: ApiToken, said: list[Any], key: str | None, write: Write
) -> Answered:
    """Carries a request out and keeps its answer under the key, in one transaction. Raises ``KeyReused``."""
    asked = hashlib.sha256(json.dumps(said, sort_keys=True).encode()).hexdigest()
    with application.database.transaction() as session:
        if key is not None:
            kept = session.scalar(
                select(KeptAnswer).where(KeptAnswer.token_id == token.id, KeptAnswer.key == key)
            )
            if kept is not None and kept.request_hash != asked:
                raise KeyReused
            if kept is not None:
                return Answered(kept.status, kept.body, replayed=True)
        status, body = write(session)
        if key is not None:
            now = application.clock.now()
            session.execute(delete(KeptAnswer).where(KeptAnswer.at < now - KEPT_FOR))
            session.add(
                KeptAnswer(token_id=token.id, key=key, request_hash=asked, status=status, body=body, at=now)
            )
    return Answered(status, body)
