"""Plants each mutant in a copy of the program and runs its tests there. Exits with 1 where one lives."""

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from tests.mutants.mutants import MUTANTS, Mutant

ROOT = Path(__file__).resolve().parents[2]


def dies(mutant: Mutant, copy: Path) -> bool:
    """Whether its tests fail with it."""
    file = copy / mutant.file
    sound = file.read_text(encoding="utf-8")
    file.write_text(sound.replace(mutant.old, mutant.new), encoding="utf-8")
    try:
        run = subprocess.run(
            [sys.executable, "-m", "unittest", "--failfast", *mutant.tests], cwd=copy, capture_output=True
        )
    finally:
        file.write_text(sound, encoding="utf-8")
    return run.returncode != 0


def main() -> int:
    chosen = [mutant for mutant in MUTANTS if not sys.argv[1:] or sys.argv[1] in mutant.name]
    if not chosen:
        print(f"No mutant’s name holds “{sys.argv[1]}”.")
        return 2
    living = []
    with tempfile.TemporaryDirectory(prefix="loyalbell-mutants-") as folder:
        copy = Path(folder)
        # one of the tests is nobody in particular, who must be able to read the program
        copy.chmod(0o755)
        for name in ("loyalbell", "tests"):
            shutil.copytree(ROOT / name, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
        tests = sorted({test for mutant in chosen for test in mutant.tests})
        sound = subprocess.run([sys.executable, "-m", "unittest", *tests], cwd=copy, capture_output=True)
        if sound.returncode:
            print("The tests fail without any mutant; nothing can be said.")
            return 1
        for mutant in chosen:
            is_dead = dies(mutant, copy)
            print(f"{'dies ' if is_dead else 'LIVES'}  {mutant.name}", flush=True)
            living += [] if is_dead else [mutant.name]
    print(f"{len(chosen) - len(living)} passed, {len(living)} failed")
    return 1 if living else 0


if __name__ == "__main__":
    sys.exit(main())
