"""A lock that the system takes back by itself when its process ends, however it ends."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from loyalbell.storage.opening import FILE_MODE


class FileLock:
    """Held by one process of the machine at a time, also across containers that share the folder."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._number: int | None = None

    def take(self) -> bool:
        """Whether it is ours now. Where the file system knows no locks it never is."""
        if self._number is not None:
            return True
        number = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, FILE_MODE)
        try:
            fcntl.flock(number, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(number)
            return False
        self._number = number
        return True

    @contextmanager
    def held(self) -> Iterator[None]:
        """Waits until it is ours; where the file system knows no locks it does not wait."""
        number = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, FILE_MODE)
        try:
            with suppress(OSError):
                fcntl.flock(number, fcntl.LOCK_EX)
            yield
        finally:
            os.close(number)

    def release(self) -> None:
        if self._number is not None:
            os.close(self._number)
            self._number = None
