"""Mending a whole group of cells at once, by a rule that the file is then read by."""

from collections.abc import Mapping

from loyalbell.services.application import Application
from loyalbell.services.imports.mapping import change_map
from loyalbell.storage.files.columns.cell_rules import CellRules
from loyalbell.storage.schema import ImportRun


def say_instead(application: Application, run_id: int, target: str, words: Mapping[str, str]) -> None:
    """From now on some cells of a column stand for something else; blank for nothing."""
    rules = rules_of(application, run_id)
    known = dict(rules.instead.get(target, {}))
    known |= {text.strip().casefold(): other.strip() for text, other in words.items()}
    instead = {**rules.instead, target: known}
    change_map(application, run_id, rules=CellRules(instead, rules.blank).as_json())


def leave_out_odd(application: Application, run_id: int, target: str) -> None:
    """From now on what cannot be read in a column counts as blank."""
    rules = rules_of(application, run_id)
    change_map(application, run_id, rules=CellRules(rules.instead, rules.blank | {target}).as_json())


def forget_rules(application: Application, run_id: int) -> None:
    change_map(application, run_id, rules=CellRules().as_json())


def rules_of(application: Application, run_id: int) -> CellRules:
    with application.database.reading() as session:
        run = session.get_one(ImportRun, run_id)
        return CellRules.of(run.mapping.get("rules") or {})
