"""Tests mirror the folders of the code. Slow machines are no fault of what is tested.

Books of tests are kept in memory where the machine has a folder for that: what is tested is never the disk,
and a disk that confirms each write by itself makes a run five times as long.
"""

import os
import shutil
import tempfile
from pathlib import Path

from hypothesis import HealthCheck, settings

IN_MEMORY, ROOM = Path("/dev/shm"), 2 * 1024**3


def _has_room(folder: Path) -> bool:
    return folder.is_dir() and os.access(folder, os.W_OK) and shutil.disk_usage(folder).free > ROOM


if not os.environ.get("TMPDIR") and _has_room(IN_MEMORY):
    os.environ["TMPDIR"] = tempfile.tempdir = str(IN_MEMORY)

settings.register_profile("house", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("house")
