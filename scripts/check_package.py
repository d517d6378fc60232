"""Builds the wheel and the source archive, installs each into a clean environment, and starts what it installed.

On this Python with the wheel, and on the newest Python found here with the source archive. ``make package``.
"""

import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
import zipfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
OLDEST, NEWEST = (3, 11), (3, 14)
"""The Pythons that all requirements have wheels for."""
SECONDS = 60
HANDBOOK = ("pages/README.md", "pictures/today.png")
"""Files that stand outside the package and are linked into it."""


def pythons() -> list[Path]:
    """This Python, and the newest other one of this machine that the requirements run on."""
    places = [Path(folder) for folder in os.environ.get("PATH", "").split(os.pathsep) if folder]
    if shutil.which("pyenv"):
        root = subprocess.run(["pyenv", "root"], capture_output=True, text=True, check=True).stdout.strip()
        places += sorted(Path(root, "versions").glob("*/bin"))
    found: dict[tuple[int, int], Path] = {}
    for minor in range(OLDEST[1], NEWEST[1] + 1):
        for place in places:
            path = place / f"python3.{minor}"
            if path.exists() and subprocess.run([path, "-c", ""], capture_output=True).returncode == 0:
                found[3, minor] = path
    mine = Path(sys.executable)
    newest = found[max(found)] if found and max(found) > sys.version_info[:2] else None
    return [mine, *([newest] if newest else [])]


def build(out: Path) -> tuple[Path, Path]:
    """The wheel and the source archive, of a copy, so that nothing is left in the tree."""
    copy = out / "tree"
    named = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True)
    for name in named.stdout.splitlines():
        if (ROOT / name).is_symlink():
            (copy / name).parent.mkdir(parents=True, exist_ok=True)
            (copy / name).symlink_to((ROOT / name).readlink())
        elif (ROOT / name).is_file():
            (copy / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, copy / name)
    subprocess.run(
        [sys.executable, "-m", "build", "--outdir", out, copy], check=True, stdout=subprocess.DEVNULL
    )
    wheel = next(out.glob("*.whl"))
    with zipfile.ZipFile(wheel) as packed:
        lacking = {f"loyalbell/web/handbook/{name}" for name in HANDBOOK} - set(packed.namelist())
    assert not lacking, f"the wheel lacks {', '.join(sorted(lacking))}"
    return wheel, next(out.glob("*.tar.gz"))


def try_out(python: Path, package: Path, folder: Path) -> str:
    """Installs it with what it asks for itself, and uses it. Returns what Python it was."""
    subprocess.run([python, "-m", "venv", folder / "env"], check=True)
    mine = folder / "env/bin"
    pip = [mine / "python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check"]
    subprocess.run([*pip, package], check=True)
    env = {name: value for name, value in os.environ.items() if not name.startswith("PYTHON")}
    run = {"env": env, "cwd": folder, "check": True, "capture_output": True, "text": True}
    assert "bring customers back" in subprocess.run([mine / "loyalbell", "--help"], **run).stdout
    assert json.loads(subprocess.run([mine / "loyalbell", "schema", "segment"], **run).stdout)
    said = serve(mine / "loyalbell", folder, env)
    version = subprocess.run([mine / "python", "-V"], **run).stdout.strip()
    return f"{version}: {package.name} installs, starts and serves {said} bytes of its first page"


def serve(command: Path, folder: Path, env: dict[str, str]) -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    server = subprocess.Popen(
        [command, "serve", "--data", folder / "data", "--port", str(port)],
        env=env,
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    try:
        end = time.monotonic() + SECONDS
        while time.monotonic() < end:
            try:
                with urllib.request.urlopen(f"http://127.0.0.1:{port}/sign-in") as answer:
                    page = answer.read()
                styles = re.findall(rb'href="(/static/[^"]+\.css[^"]*)"', page)
                for style in styles:
                    with urllib.request.urlopen(f"http://127.0.0.1:{port}{style.decode()}") as answer:
                        assert answer.read()
                assert styles, "no styles on the page"
                return len(page)
            except OSError:
                time.sleep(0.3)
        raise AssertionError("it did not serve")
    finally:
        server.terminate()
        server.wait(timeout=20)


def main() -> int:
    with tempfile.TemporaryDirectory(prefix="loyalbell-package-") as scratch:
        out = Path(scratch)
        wheel, source = build(out)
        for number, (python, package) in enumerate(zip(pythons(), (wheel, source), strict=False)):
            folder = out / str(number)
            folder.mkdir()
            print(try_out(python, package, folder), flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
