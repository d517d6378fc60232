"""Calls to addresses that somebody typed: not into our own network, not for ever, and little of the answer.

The address is looked up once, judged, and that very one is called, so that a name that means another machine
a moment later leads nowhere else.
"""

import socket
import ssl
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from ipaddress import ip_address
from typing import Any

import httpcore

TIMEOUT_SECONDS, DEADLINE_SECONDS = 10.0, 15.0
MOST_READ = 4_096


class NotOutside(OSError):
    """An address within our own network, where no webhook may go."""


@dataclass(frozen=True)
class Answered:
    """``text`` is the beginning of the answer."""

    status: int
    text: str


def is_outside(address: str) -> bool:
    """Whether an IP address is one of the open internet (by the registries of IANA, as ``ipaddress`` keeps
    them); IPv4 written as IPv6 counts as what it is.
    """
    found = ip_address(address.partition("%")[0])
    mapped = getattr(found, "ipv4_mapped", None) or getattr(found, "sixtofour", None)
    return (mapped or found).is_global and found.is_global and not found.is_multicast


def looked_up(host: str, port: int) -> list[str]:
    """The addresses of a name. Raises ``OSError``."""
    return list(
        dict.fromkeys(str(one[4][0]) for one in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM))
    )


def check_outside(host: str, port: int) -> str:
    """The address to call. Raises ``NotOutside`` where any of the name's is within; ``OSError``."""
    addresses = looked_up(host, port)
    inside = [one for one in addresses if not is_outside(one)]
    if inside or not addresses:
        raise NotOutside(f"{host} is inside our own network")
    return addresses[0]


class _InTime(httpcore.NetworkStream):
    """A connection whose every wait ends with the call, however slowly the other side drips."""

    def __init__(self, stream: httpcore.NetworkStream, ends: float) -> None:
        self.stream, self.ends = stream, ends

    def _left(self, timeout: float | None) -> float:
        left = self.ends - time.monotonic()
        if left <= 0:
            raise httpcore.ReadTimeout("the answer took too long")
        return min(left, timeout or left)

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return self.stream.read(max_bytes, self._left(timeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self.stream.write(buffer, self._left(timeout))

    def close(self) -> None:
        self.stream.close()

    def start_tls(
        self,
        ssl_context: ssl.SSLContext,
        server_hostname: str | None = None,
        timeout: float | None = None,
    ) -> httpcore.NetworkStream:
        secure = self.stream.start_tls(ssl_context, server_hostname, self._left(timeout))
        return _InTime(secure, self.ends)

    def get_extra_info(self, info: str) -> Any:
        return self.stream.get_extra_info(info)


class _Bounded(httpcore.SyncBackend):
    def __init__(self, inside: bool) -> None:
        super().__init__()
        self.inside, self.ends = inside, time.monotonic() + DEADLINE_SECONDS

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore.NetworkStream:
        called = host if self.inside else check_outside(host, port)
        stream = super().connect_tcp(called, port, timeout, local_address, socket_options)
        return _InTime(stream, self.ends)


def post(url: str, headers: Mapping[str, str], content: bytes, inside: bool = False) -> Answered:
    """One POST; redirects are not followed. ``inside`` allows addresses of our own network.

    Raises ``OSError`` and the errors of httpcore.
    """
    limits = dict.fromkeys(("connect", "read", "write", "pool"), TIMEOUT_SECONDS)
    with (
        httpcore.ConnectionPool(network_backend=_Bounded(inside)) as pool,
        pool.stream(
            "POST", url, headers=list(headers.items()), content=content, extensions={"timeout": limits}
        ) as answer,
    ):
        read = b""
        for chunk in answer.iter_stream():
            read += chunk
            if len(read) >= MOST_READ:
                break
        return Answered(answer.status, read[:MOST_READ].decode("utf-8", "replace"))
