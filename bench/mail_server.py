"""The post room's mail server in a process of its own, as a shop's mail server is: says its port, and stops
where its input ends.
"""

import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from loyalbell.demo.build import NOW
from loyalbell.post_room.server import PostRoom
from loyalbell.post_room.store import PostRoomStore


@contextmanager
def mail_server() -> Iterator[int]:
    """Its port."""
    command = [sys.executable, "-m", "bench.mail_server"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdin is not None and process.stdout is not None
        try:
            yield int(process.stdout.readline())
        finally:
            process.stdin.close()


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="loyalbell-bench-") as folder:
        store = PostRoomStore(Path(folder))
        room = PostRoom(store, lambda: NOW)
        print(room.start(), flush=True)
        sys.stdin.read()
        room.stop()
        store.close()


if __name__ == "__main__":
    main()
