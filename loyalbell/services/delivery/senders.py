"""Through which networks the shop sends, as Settings say at the moment of sending."""

from collections.abc import Callable, Sequence

from loyalbell.channels.http_gateway import GatewaySender
from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.channels.webhook import new_secret
from loyalbell.services.application import Application
from loyalbell.services.settings.channels import GATEWAYS, EmailSettings, loaded
from loyalbell.storage.schema import Shop

MakeSender = Callable[..., Sender]


class ShopSender(Sender):
    """Follows Settings, so that a changed mail server or network is used from the next batch on."""

    def __init__(
        self, application: Application, make: MakeSender, ask: Callable[[str], bool] | None = None
    ) -> None:
        self._application, self._make, self._ask = application, make, ask
        self._open: dict[str, Sender] = {}

    def _of(self, channel: str) -> Sender:
        if channel in GATEWAYS:
            gateway = loaded(self._application, GATEWAYS[channel])
            return GatewaySender(gateway.url, gateway.key)
        shop, email = self._application.the_shop(), loaded(self._application, EmailSettings)
        return self._make(
            shop.smtp_host,
            shop.smtp_port,
            ask=self._ask,
            tls=email.tls,
            user=email.user,
            password=email.password,
        )

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        """One sender a channel is kept until ``finish``; each channel is used by one thread alone."""
        outcomes: list[Outcome] = []
        for channel in dict.fromkeys(one.channel for one in batch):
            if channel not in self._open:
                self._open[channel] = self._of(channel)
            outcomes += self._open[channel].send([one for one in batch if one.channel == channel])
        return outcomes

    def finish(self, channel: str = "email") -> None:
        sender = self._open.pop(channel, None)
        if sender is not None:
            sender.finish(channel)

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return self._of(channel).knows(message_id, channel)


def point_at(
    application: Application, host: str, port: int, public_url: str, networks: str = "", key: str = ""
) -> None:
    """Points the demo at its post room and its own address, which may differ at every start."""
    with application.database.transaction() as session:
        shop = session.get_one(Shop, 1)
        shop.smtp_host, shop.smtp_port, shop.public_url = host, port, public_url
        for channel, group in GATEWAYS.items():
            if networks:
                settings = group.load(session)
                settings.url, settings.key = f"{networks}/{channel}", key
                settings.secret = settings.secret or new_secret()
                settings.save(session)
