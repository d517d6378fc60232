"""Which mail server the shop sends through, as Settings say at the moment of sending."""

from collections.abc import Callable, Sequence

from loyalbell.channels.base import Outcome, Outgoing, Sender
from loyalbell.desk.desk import Desk
from loyalbell.store.tables import Shop

MakeSender = Callable[..., Sender]


class ShopSender:
    """Follows Settings, so that a changed mail server is used from the next batch on."""

    def __init__(self, desk: Desk, make: MakeSender, ask: Callable[[str], bool] | None = None) -> None:
        self._desk, self._make, self._ask = desk, make, ask

    def _now(self) -> Sender:
        shop = self._desk.the_shop()
        return self._make(shop.smtp_host, shop.smtp_port, ask=self._ask)

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        return self._now().send(batch)

    def knows(self, message_id: str) -> bool | None:
        return self._now().knows(message_id)


def point_at(desk: Desk, host: str, port: int, public_url: str) -> None:
    """Points the demo at its post room and its own address, which may differ at every start."""
    with desk.book.writing() as session:
        shop = session.get_one(Shop, 1)
        shop.smtp_host, shop.smtp_port, shop.public_url = host, port, public_url
