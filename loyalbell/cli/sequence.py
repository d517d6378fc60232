"""``loyalbell sequence`` and ``loyalbell pace``: looking a sequence in a file over, rehearsing it, and pacing
people in.
"""

import json
import re
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

import typer

from loyalbell.cli.main import DataOption, fail, open_book
from loyalbell.core.clock.pacing import Pace, paced
from loyalbell.core.clock.send_windows import SendWindow
from loyalbell.core.clock.weekdays import read_weekdays
from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences.check import must_fix
from loyalbell.core.sequences.plan import Plan, PlanProblem, read_plan
from loyalbell.core.sequences.rehearsal_figures import Figures
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.sequences import drafts as sequence_drafts

app = typer.Typer(
    no_args_is_help=True, help="Sequences from files; their schema is printed by: loyalbell schema sequence."
)
FileArgument = typer.Argument(help="A sequence as JSON.")
Json = typer.Option(False, "--json", help="Print one JSON object.")
UNITS = {"m": 60, "h": 3_600, "d": 86_400}


def _read(file: Path) -> Plan:
    try:
        data = json.loads(file.read_text(encoding="utf-8"))
        if isinstance(data, dict):
            data.pop("name", None)
        return read_plan(data)
    except OSError as problem:
        raise fail(f"{file} cannot be read: {problem.strerror}.") from problem
    except ValueError as problem:
        words = str(problem) if isinstance(problem, PlanProblem) else f"It is not JSON: {problem}."
        raise fail(f"{file}: {words}") from problem


@app.command("check")
def check(file: Path = FileArgument, data: Path = DataOption, as_json: bool = Json) -> None:
    """Says every mistake and its place; exit 1 where something must be fixed."""
    plan, application = _read(file), open_book(data)
    try:
        found = sequence_drafts.mistakes(application, plan)
    finally:
        application.close()
    blocked = must_fix(found)
    if as_json:
        print(json.dumps({"blocked": blocked, "mistakes": [vars(one) for one in found]}))
    else:
        for one in found:
            print(f"{one.level}: {one.place}: {one.words}")
        print("It cannot start yet." if blocked else "It may ring.")
    raise typer.Exit(1 if blocked else 0)


@app.command("rehearse")
def rehearse(
    file: Path = FileArgument,
    data: Path = DataOption,
    days: int = typer.Option(rehearsals.PAST_DAYS, min=1, max=3_650, help="How many past days."),
    as_json: bool = Json,
) -> None:
    """What the sequence would have done over the past days of this book."""
    plan, application = _read(file), open_book(data)
    try:
        made = rehearsals.rehearse_past(application, plan, days=days, wait=True)
    except RuleProblem as problem:
        raise fail(f"{file}: {problem}") from problem
    finally:
        application.close()
    found = _as_data(made.figures, days)
    if as_json:
        print(json.dumps(found))
        return
    for name, value in found.items():
        if name != "by_day":
            print(f"{name}: {value}")


def _as_data(figures: Figures, days: int) -> dict[str, Any]:
    """What ``--json`` prints of a rehearsal."""
    return {
        "days": days,
        "entered": figures.entered,
        "people": figures.people,
        "messages": figures.messages,
        "people_with_a_message": figures.got_some,
        "weekly": {channel: round(count, 2) for channel, count in figures.weekly.items()},
        "normal_day": figures.normal,
        "heaviest_day": None
        if figures.heaviest is None
        else {"day": day_of(figures.heaviest.day).isoformat(), "messages": figures.heaviest.messages},
        "refused": [{"step": step, "cause": cause, "count": count} for step, cause, count in figures.refused],
        "stayed_out": [
            {"cause": cause, "people": people, "times": times} for cause, people, times in figures.stayed_out
        ],
        "came_back_before_any_message": figures.early,
        "replies": round(figures.replies, 2),
        "cost_minor": round(figures.cost),
        "baseline": {
            "came_back": figures.baseline.came_back,
            "of": figures.baseline.of,
            "days": figures.baseline.days,
            "interval": figures.baseline.interval(),
        },
        "pile_ups": [
            {
                "at": datetime.fromtimestamp(pile_up.at, UTC).isoformat(),
                "step": pile_up.step,
                "messages": pile_up.messages,
                "replies": round(pile_up.replies, 1),
                "answers": pile_up.answers,
            }
            for pile_up in figures.pile_ups
        ],
        "by_day": [
            {"day": day_of(day.day).isoformat(), "entered": day.entered, "messages": day.messages}
            for day in figures.days
        ],
    }


def pace(
    people: int = typer.Option(..., min=1),
    batch: int = typer.Option(..., min=1),
    every: str = typer.Option(..., help="Such as 15m, 1h, 1d."),
    weekdays: str = typer.Option("mon-sun", help="Such as mon-fri or tue,thu."),
    hours: str = typer.Option("00:00-24:00", help="Such as 08:00-20:00."),
    start: str = typer.Option(..., help="An ISO instant; without an offset it is of the zone."),
    zone: str = typer.Option("UTC"),
    as_json: bool = Json,
) -> None:
    """When the last of many people is in, a batch at a time.

    ``finished_by`` is the end of the last batch's interval.
    """
    amount = re.fullmatch(r"(\d{1,5})([mhd])", every.strip())
    span = re.fullmatch(r"(\d\d:\d\d)-(\d\d:\d\d)", hours.strip())
    if amount is None or span is None:
        raise fail("Write --every like 15m, 1h or 1d, and --hours like 08:00-20:00.")
    if zone not in available_timezones():
        raise fail(f"“{zone}” is not a time zone. Choose one such as America/New_York.")
    try:
        at = datetime.fromisoformat(start)
        days = read_weekdays(weekdays)
        release = SendWindow(kind="window", weekdays=days, begins=span[1], ends=span[2])
        at = at.replace(tzinfo=ZoneInfo(zone)) if at.tzinfo is None else at
        found = paced(
            people,
            int(at.timestamp()),
            Pace(batch, int(amount[1]) * UNITS[amount[2]], release),
            zone_of(zone),
        )
    except ValueError as problem:
        raise fail(f"That cannot be paced: {problem}") from problem
    said = {
        "batches": found.batches,
        "last_batch_at": _local(found.last_batch_at, zone),
        "finished_by": _local(found.finished_by, zone),
    }
    if as_json:
        print(json.dumps(said))
        return
    for name, value in said.items():
        print(f"{name}: {value}")


def _local(instant: int, zone: str) -> str:
    return datetime.fromtimestamp(instant, UTC).astimezone(ZoneInfo(zone)).isoformat()
