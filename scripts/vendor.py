"""Fetch the vendored browser assets named in a manifest, or check them.

``python scripts/vendor.py fetch`` packs each listed npm package at its listed
version, copies the listed files into place and records their SHA-256.
``python scripts/vendor.py check`` verifies that every file is there, unchanged,
and that nothing unlisted lies beside them.
"""

import hashlib
import json
import shutil
import subprocess
import sys
import tarfile
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
FOLDERS = [
    ROOT / "loyalbell/web/static/vendor",
    ROOT / "loyalbell/services/delivery/composing/fonts",
    ROOT / "tests/browser/vendor",
]
MANIFEST = "manifest.json"


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def fetch_package(package: dict, folder: Path) -> None:
    with tempfile.TemporaryDirectory() as scratch:
        spec = f"{package['name']}@{package['version']}"
        packed = subprocess.run(
            ["npm", "pack", spec, "--silent"], cwd=scratch, check=True, capture_output=True, text=True
        )
        archive = Path(scratch) / packed.stdout.strip().splitlines()[-1]
        with tarfile.open(archive) as tar:
            tar.extractall(scratch, filter="data")
        for file in package["files"]:
            target = folder / file["to"]
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(Path(scratch) / "package" / file["from"], target)
            file["sha256"] = digest(target)


def fetch(folder: Path) -> None:
    path = folder / MANIFEST
    manifest = json.loads(path.read_text())
    for package in manifest["packages"]:
        fetch_package(package, folder)
    path.write_text(json.dumps(manifest, indent=2) + "\n")


def problems(folder: Path) -> list[str]:
    manifest = json.loads((folder / MANIFEST).read_text())
    found = []
    listed = {MANIFEST}
    for package in manifest["packages"]:
        if not package.get("licence"):
            found.append(f"{package['name']}: no licence listed")
        for file in package["files"]:
            listed.add(file["to"])
            path = folder / file["to"]
            if not path.exists():
                found.append(f"{path}: missing; run 'make vendor'")
            elif digest(path) != file.get("sha256"):
                found.append(f"{path}: differs from the manifest; run 'make vendor'")
    present = {p.relative_to(folder).as_posix() for p in folder.rglob("*") if p.is_file()}
    found += [f"{folder / name}: not in the manifest" for name in sorted(present - listed)]
    return found


def main(act: str) -> int:
    if act == "fetch":
        for folder in FOLDERS:
            fetch(folder)
        return 0
    found = [problem for folder in FOLDERS for problem in problems(folder)]
    print("\n".join(found) or "vendored assets: as listed")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1] if len(sys.argv) > 1 else "check"))
