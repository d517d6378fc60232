"""What the versions of a batch say on its channel, compiled once a language."""

from dataclasses import dataclass, field

from sqlalchemy.orm import Session

from loyalbell.core.messages.content import AnyWriting
from loyalbell.core.policy.origins import ANSWER, CONFIRMATION
from loyalbell.services.delivery.composing.rendering import Compiled, compiled, render_context_for, writing_of
from loyalbell.storage.schema import Delivery, Shop


@dataclass
class Writings:
    """Asked again and again while a batch is claimed and made; holds nothing of a session."""

    shop: Shop
    kept: dict[tuple[int, str, str], tuple[AnyWriting, Compiled] | None] = field(default_factory=dict)

    def of(self, session: Session, delivery: Delivery, language: str) -> tuple[AnyWriting, Compiled] | None:
        """``None`` where the version says nothing on the delivery's channel."""
        key = (delivery.message_version_id, delivery.channel, language)
        if key not in self.kept:
            self.kept[key] = self._compiled(session, delivery, key)
        return self.kept[key]

    def _compiled(
        self, session: Session, delivery: Delivery, key: tuple[int, str, str]
    ) -> tuple[AnyWriting, Compiled] | None:
        writing = writing_of(session, *key)
        if writing is None:
            return None
        is_bare = delivery.origin_kind in (ANSWER, CONFIRMATION)
        return writing, compiled(writing, render_context_for(session, self.shop, writing, is_bare))
