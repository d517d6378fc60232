"""``make fuzz``: some thousand damaged files; what goes wrong is kept for a look."""

import shutil
import sys
import tempfile
from pathlib import Path

from loyalbell.services.application import Application
from loyalbell.services.settings.shop import open_shop
from tests.fuzz.files import run
from tests.support import SHOP

MANY = 3_000


def main() -> int:
    many = int(sys.argv[1]) if len(sys.argv) > 1 else MANY
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-fuzz-"))
    application = Application(folder / "book")
    open_shop(application, SHOP, "Ida", "ida@shop.example", "a long password")
    wrong = 0
    try:
        for number, damage in enumerate(run(application, seed, many), 1):
            if damage is not None:
                wrong += 1
                kept = folder / f"{seed}-{damage.number}-{damage.name}"
                kept.write_bytes(damage.content)
                print(f"{kept} as {damage.kind or 'anything'}: {damage.what[:300]}")
            if number % 500 == 0:
                print(f"{number:,} files, {wrong} wrong", flush=True)
    finally:
        application.close()
        if not wrong:
            shutil.rmtree(folder, ignore_errors=True)
    print(f"{many:,} damaged files, {wrong} wrong")
    return 1 if wrong else 0


sys.exit(main())
