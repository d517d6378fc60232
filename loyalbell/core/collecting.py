"""Work on very many small things without a cycle among them, where looking for cycles would cost much."""

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def without_collecting() -> Iterator[None]:
    """Of reading the book it saves a tenth of the time, of a rehearsal a third, of an import half."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
