"""The house is as its plan says: folders, names, docstrings, what stands where."""

import ast
import importlib
import importlib.util
import re
import subprocess
import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
PACKAGE = ROOT / "loyalbell"
MOST_MODULES = 22
"""In one folder; a folder that grows beyond this lacks a folder."""


def modules() -> list[Path]:
    return [file for file in PACKAGE.rglob("*.py") if "migrations" not in file.parts]


def names_in_code() -> set[str]:
    """Every class, function, method, module and package of the program."""
    names = set()
    for file in modules():
        names |= {file.stem, *file.relative_to(PACKAGE).parts[:-1]}
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, (ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef)):
                names.add(node.name)
            if isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
                names.add(node.target.id)
            if isinstance(node, ast.Assign):
                names |= {one.id for one in node.targets if isinstance(one, ast.Name)}
    return names


class PlanTest(unittest.TestCase):
    def test_the_plan_in_the_docs_names_the_folders_there_are(self) -> None:
        text = (ROOT / "docs/how-it-is-built.md").read_text(encoding="utf-8")
        planned = set(re.findall(r"^\| `([a-z_/]+)/` \|", text, re.MULTILINE))
        areas = {"core", "services", "storage"}
        there = {
            str(folder.relative_to(PACKAGE))
            for folder in PACKAGE.rglob("*")
            if folder.is_dir() and any(folder.glob("*.py"))
        }
        shown = {one for one in there if "/" not in one or one.partition("/")[0] in areas}
        shown |= {"web/api", "web/public"}
        shown -= {"core/segments/conditions", "storage/migrations/versions"}
        self.assertEqual(planned, shown)

    def test_no_folder_holds_too_many_modules(self) -> None:
        for folder in {file.parent for file in modules()} - {PACKAGE / "core/segments/conditions"}:
            with self.subTest(folder=folder.relative_to(ROOT)):
                self.assertLessEqual(len(list(folder.glob("*.py"))), MOST_MODULES)

    def test_every_area_of_the_pages_keeps_its_templates_beside_its_routes(self) -> None:
        for folder in (PACKAGE / "web").iterdir():
            if (folder / "templates").is_dir():
                self.assertTrue(list(folder.glob("*routes.py")), folder)

    def test_paths_in_the_docs_are_there(self) -> None:
        """A page that names a file of the program that is gone misleads whoever reads it."""
        missing = []
        for page in (ROOT / "docs").rglob("*.md"):
            for path in re.findall(r"`([a-z_]+(?:/[a-z_]+)+\.py)`", page.read_text(encoding="utf-8")):
                if not (PACKAGE / path).exists() and not (ROOT / path).exists():
                    missing.append(f"{page.relative_to(ROOT)}: {path}")
        self.assertEqual(missing, [])

    def test_what_the_bench_and_the_scripts_import_is_there(self) -> None:
        """They run seldom and outside mypy: a module that moved away from under them is seen here."""
        for file in [*(ROOT / "bench").glob("*.py"), *(ROOT / "scripts").glob("*.py")]:
            for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
                if not isinstance(node, ast.ImportFrom) or not (node.module or "").startswith("loyalbell"):
                    continue
                there = importlib.import_module(str(node.module))
                for name in node.names:
                    with self.subTest(file=file.name, module=node.module, name=name.name):
                        is_module = (
                            importlib.util.find_spec(f"{node.module}.{name.name}")
                            if hasattr(there, "__path__")
                            else None
                        )
                        self.assertTrue(hasattr(there, name.name) or is_module)


class GlossaryTest(unittest.TestCase):
    def rows(self) -> list[list[str]]:
        text = (ROOT / "docs/glossary.md").read_text(encoding="utf-8")
        lines = [line for line in text.splitlines() if line.startswith("| ")][2:]
        return [[cell.strip() for cell in line.strip("|").split("|")] for line in lines]

    def test_every_name_of_the_code_is_there(self) -> None:
        names = names_in_code()
        said = {name for row in self.rows() for name in re.findall(r"`(\w+)`", row[1])}
        self.assertGreater(len(said), 80)
        self.assertEqual(said - names, set())

    def test_no_module_or_class_has_a_name_that_was_given_up(self) -> None:
        names = {file.stem for file in modules()} | {file.parent.name for file in modules()}
        for file in modules():
            names |= {
                node.name
                for node in ast.walk(ast.parse(file.read_text(encoding="utf-8")))
                if isinstance(node, ast.ClassDef)
            }
        given_up = {name for row in self.rows() for name in re.findall(r"`(\w+)`", row[3])}
        self.assertGreater(len(given_up), 30)
        self.assertEqual(given_up & names, set())


class DocstringTest(unittest.TestCase):
    def test_every_module_says_what_it_knows(self) -> None:
        bare = []
        for file in modules():
            text = file.read_text(encoding="utf-8")
            if text.strip() and not ast.get_docstring(ast.parse(text)) and file.name != "__main__.py":
                bare.append(str(file.relative_to(ROOT)))
        self.assertEqual(bare, [])

    def test_most_of_what_is_public_says_what_it_gives(self) -> None:
        """The share grows; it must not fall again."""
        public = said = 0
        for file in modules():
            for node in ast.parse(file.read_text(encoding="utf-8")).body:
                is_named = isinstance(node, (ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef))
                if is_named and not node.name.startswith("_"):  # type: ignore[union-attr]
                    public += 1
                    said += ast.get_docstring(node) is not None  # type: ignore[arg-type]
        self.assertGreater(said / public, 0.72)


class StartTest(unittest.TestCase):
    def test_what_sends_loads_no_statistics(self) -> None:
        """SciPy takes two seconds to load: each start of the program would wait for it."""
        asked = "import sys, loyalbell.services.delivery.dispatcher; print('scipy' in sys.modules)"
        said = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, check=True)
        self.assertEqual(said.stdout.strip(), "False")
