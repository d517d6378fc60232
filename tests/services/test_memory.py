"""What was let go of goes back to the system; tried in a process of its own, whose memory is not in use."""

import subprocess
import sys
import unittest
from unittest import mock

from loyalbell.services import memory
from tests.support import wait_for

MANY, BYTES = 2_000, 100_000
LETS_GO = f"""
from pathlib import Path
from loyalbell.services.memory import hand_back

def held():
    status = Path("/proc/self/status").read_text()
    return int(status.split("RssAnon:")[1].split()[0]) * 1024

before = held()
pieces = [bytearray({BYTES}) for _ in range({MANY})]
full = held() - before
# every twentieth stays, so that the room between them is not at the end of what the process has
pieces = pieces[::20]
kept = held() - before
print(full, kept, hand_back(), held() - before)
"""


@unittest.skipIf(memory.TRIM is None, "this system's C library hands back by itself")
class HandBack(unittest.TestCase):
    def test_the_room_between_what_stays_goes_back(self) -> None:
        said = subprocess.run([sys.executable, "-c", LETS_GO], capture_output=True, text=True, check=True)
        full, kept, handed_back, after = said.stdout.split()
        self.assertGreater(int(full), 0.9 * MANY * BYTES)
        self.assertGreater(int(kept), 0.5 * MANY * BYTES, "the C library keeps it")
        self.assertEqual(handed_back, "True")
        self.assertLess(int(after), 0.3 * MANY * BYTES)

    def test_asked_again_and_again_it_is_done_once_more_for_all(self) -> None:
        asked: list[int] = []
        with mock.patch.object(memory, "TRIM", lambda pad: asked.append(pad) or 1):
            hand_back = memory.HandingBack(every=0.3)
            self.assertEqual([hand_back() for _ in range(5)], [True, False, False, False, False])
            self.assertEqual(len(asked), 1)
            wait_for(lambda: len(asked) == 2)
            self.assertEqual([hand_back() for _ in range(5)], [False] * 5)
            wait_for(lambda: len(asked) == 3)

    def test_without_such_a_library_nothing_happens(self) -> None:
        trim, memory.TRIM = memory.TRIM, None
        try:
            self.assertFalse(memory.hand_back())
        finally:
            memory.TRIM = trim
