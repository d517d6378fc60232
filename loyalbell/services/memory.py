"""Memory that the process holds and no longer uses, handed back to the system.

The C library keeps what large computations have let go of, in case it is wanted again: with 200,000 customers
some 350 MB (measured). Nobody wants it until the next one, and other programs may.
"""

import ctypes
from collections.abc import Callable

Trim = Callable[[int], int]


def _trim() -> Trim | None:
    """The function of glibc; other libraries have none, and hand back by themselves."""
    try:
        found: Trim = ctypes.CDLL(None).malloc_trim
    except (AttributeError, OSError):
        return None
    return found


TRIM = _trim()


def hand_back() -> bool:
    """Takes some milliseconds, and other threads go on meanwhile. Whether anything was handed back."""
    return TRIM is not None and bool(TRIM(0))
