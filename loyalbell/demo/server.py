"""The made-up shop in one process: the pages, the heartbeat, the post room and its customers."""

from pathlib import Path

from loyalbell.channels.loopback import LOOPBACK, free_port
from loyalbell.channels.smtp import SmtpSender
from loyalbell.channels.smtp_inbound import MailIn
from loyalbell.demo import clock_routes, simulated_orders
from loyalbell.demo.clock_driver import DemoClockDriver
from loyalbell.post_room import routes as post_room_routes
from loyalbell.post_room.doors import Doors, People
from loyalbell.post_room.server import KEY, PostRoom
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.application import Application
from loyalbell.services.clock import DemoClock
from loyalbell.services.delivery.senders import ShopSender, point_at
from loyalbell.services.settings.channels import GATEWAYS, loaded
from loyalbell.web.request import DemoParts
from loyalbell.web.server import Server
from loyalbell.web.server_settings import ServerSettings


class DemoServer(Server):
    """A server whose networks are the post room's and whose clock moves only when it is moved."""

    def __init__(
        self,
        data: Path,
        port: int,
        sign_in: tuple[str, str] | None = None,
        mail_port: int = 0,
        settings: ServerSettings | None = None,
    ) -> None:
        self.store = PostRoomStore(data)
        self._sign_in = sign_in
        super().__init__(data, port, mail_port or free_port(), settings)
        self.room = PostRoom(self.store, self.application.clock.now)
        self.driver = DemoClockDriver(self.application, self.heartbeat, self._people())
        self.web.state.post_room, self.web.state.clock_driver = self.store, self.driver

    def demo_parts(self) -> DemoParts:
        return DemoParts(
            sign_in=self._sign_in,
            routers=(clock_routes.router, post_room_routes.router),
            clock_share=lambda: self.driver.share,
        )

    def sender(self) -> ShopSender:
        return ShopSender(self.application, SmtpSender, self.store.has)

    def _people(self) -> People:
        """The made-up customers, at our own doors."""
        application, mail_in = self.application, self.mail_in
        assert isinstance(mail_in, MailIn)
        doors = Doors(
            LOOPBACK,
            mail_in.port,
            lambda: application.the_shop().public_url,
            lambda channel: loaded(application, GATEWAYS[channel]).secret,
            lambda channel, address, seed: simulated_orders.buy(application, channel, address, seed),
        )
        return People(self.store, doors)

    def start(self) -> None:
        port = self.room.start()
        point_at(self.application, LOOPBACK, port, self.address, self.room.address, KEY)
        super().start()
        self.driver.start()

    def stop(self) -> None:
        self.driver.stop()
        self.stop_ticking()
        self.room.stop()
        self.store.close()
        self.close()


def server_for(
    data: Path,
    port: int,
    demo_sign_in: tuple[str, str] | None = None,
    mail_port: int = 0,
    settings: ServerSettings | None = None,
) -> Server:
    """The demo's server where the book in ``data`` has the demo's clock, else the ordinary one."""
    application = Application(data)
    is_demo = isinstance(application.clock, DemoClock)
    application.close()
    if is_demo:
        return DemoServer(data, port, demo_sign_in, mail_port, settings)
    return Server(data, port, mail_port, settings)
