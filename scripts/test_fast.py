"""Runs every test that needs no browser, no killed process and no long search: what is run after each change."""

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SLOW = (
    "tests/browser",
    "tests/services/delivery/test_killed_ticks.py",
    "tests/services/delivery/test_three_channels.py",
    "tests/services/sequences/test_rehearsal_agrees.py",
    "tests/services/sequences/test_publishing.py",
    "tests/storage/files/test_stopped_import.py",
    "tests/storage/files/test_retail_data.py",
    "tests/web",
    "tests/core/rhythm",
)


def main() -> int:
    files = [
        file
        for file in sorted((ROOT / "tests").rglob("test_*.py"))
        if not str(file.relative_to(ROOT)).startswith(SLOW)
    ]
    names = [".".join(file.relative_to(ROOT).with_suffix("").parts) for file in files]
    halves = names[::2], names[1::2]
    running = [
        subprocess.Popen([sys.executable, "-m", "unittest", "--quiet", *half], cwd=ROOT) for half in halves
    ]
    return max(process.wait() for process in running)


if __name__ == "__main__":
    sys.exit(main())
