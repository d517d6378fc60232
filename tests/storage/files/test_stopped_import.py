"""A process that is killed while it imports leaves nothing half-written, and the next start says so."""

import csv
import io
import signal
import subprocess
import sys
import time

from sqlalchemy import func, select

from loyalbell.services.imports import commands as import_commands
from loyalbell.storage.schema import ImportRun, Order, OrderLine
from tests.support import ApplicationCase

PROGRAM = """
import sys
from pathlib import Path
from loyalbell.services.application import Application
from loyalbell.services.imports import commands
from tests.support import StillClock
application = Application(Path(sys.argv[1]), StillClock())
commands.carry_out(application, int(sys.argv[2]), True, lambda share, words: print(words, flush=True))
"""
ROWS = 120_000


class Stopped(ApplicationCase):
    def test_killed_half_way(self) -> None:
        self.add_person("a@example.com")
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow(["order id", "email", "date", "item", "line total"])
        writer.writerows(
            [f"R{at}", "a@example.com", "2026-01-05", f"Item {at % 50}", "4.00"] for at in range(ROWS)
        )
        run = import_commands.begin_import(
            self.application, "orders", "o.csv", io.BytesIO(out.getvalue().encode()), "Ida"
        )
        for pause in (0.0, 0.15, 0.6):
            process = subprocess.Popen(
                [sys.executable, "-c", PROGRAM, str(self.folder), str(run.id)], stdout=subprocess.PIPE
            )
            assert process.stdout
            process.stdout.readline()
            time.sleep(pause)
            process.send_signal(signal.SIGKILL)
            process.wait()
            process.stdout.close()
            with self.application.database.reading() as session:
                self.assertEqual(session.get_one(ImportRun, run.id).state, "running")
        import_commands.mend_after_stop(self.application)
        with self.application.database.reading() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(Order)), 0)
            self.assertIn("Nothing of it is in the book", session.get_one(ImportRun, run.id).problem or "")
        import_commands.carry_out(self.application, run.id, True, lambda share, words: None)
        with self.application.database.reading() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(OrderLine)), ROWS)
            self.assertEqual(session.get_one(ImportRun, run.id).created, ROWS)
