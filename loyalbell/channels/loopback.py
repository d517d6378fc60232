"""This machine's own address, and ports on it that nobody uses."""

import socket

LOOPBACK = "127.0.0.1"


def free_port() -> int:
    """A port of this machine that is free at the moment of asking."""
    with socket.socket() as probe:
        probe.bind((LOOPBACK, 0))
        return int(probe.getsockname()[1])
