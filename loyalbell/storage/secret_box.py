"""Passwords and keys at rest: sealed with a key that stands in a file beside the book, not in it, so that a
copy of the book alone opens nothing (Fernet: AES-128-CBC with HMAC-SHA256, of ``cryptography``).
"""

import hashlib
import os
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken
from sqlalchemy.orm import Session

KEY_FILE = "secret.key"
SEALED = "sealed:"
FILE_MODE = 0o600
SECRETS = "secrets"
"""In ``Session.info``: the box of the book."""


class KeyLost(Exception):
    """A sealed value cannot be opened: the key file is missing, or is another one."""


class SecretBox:
    def __init__(self, folder: Path) -> None:
        self.path = folder / KEY_FILE

    def seal(self, text: str) -> str:
        """Nothing stays nothing; the key is made with the first secret."""
        return SEALED + Fernet(self._key(make=True)).encrypt(text.encode()).decode() if text else ""

    def open(self, kept: str) -> str:
        """Of what was kept before there was a key, itself. Raises ``KeyLost``."""
        if not kept.startswith(SEALED):
            return kept
        try:
            return Fernet(self._key()).decrypt(kept.removeprefix(SEALED).encode()).decode()
        except (InvalidToken, FileNotFoundError, ValueError) as problem:
            raise KeyLost(
                f"The key file {self.path} is missing or is not the one that sealed this. Put the right one"
                " back, or enter the passwords and keys of the channels again."
            ) from problem

    def keyed_hash(self, text: str, make: bool = False) -> str:
        """Eight signs that name the key, a colon, and 32 of the hash; nothing where there is no key."""
        try:
            key = hashlib.sha256(self._key(make)).digest()
        except FileNotFoundError:
            return ""
        return f"{self._name(key)}:{hashlib.blake2b(text.encode(), key=key, digest_size=16).hexdigest()}"

    @property
    def name(self) -> str:
        """Names the key without telling it; nothing where there is none."""
        return self.keyed_hash("").partition(":")[0]

    @staticmethod
    def _name(key: bytes) -> str:
        return hashlib.blake2b(b"which key", key=key, digest_size=4).hexdigest()

    def _key(self, make: bool = False) -> bytes:
        if make and not self.path.exists():
            self._make()
        return self.path.read_bytes().strip()

    def _make(self) -> None:
        """Whole and on the disk before its name is: two processes that make one at once keep the same."""
        making = self.path.with_name(f"{KEY_FILE}.{os.getpid()}.being-made")
        number = os.open(making, os.O_CREAT | os.O_TRUNC | os.O_WRONLY, FILE_MODE)
        try:
            os.write(number, Fernet.generate_key())
            os.fsync(number)
        finally:
            os.close(number)
        try:
            os.link(making, self.path)
        except FileExistsError:
            pass
        finally:
            making.unlink()


def box_of(session: Session) -> SecretBox:
    box: SecretBox = session.info[SECRETS]
    return box
