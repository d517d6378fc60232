"""Segments: reading what a rule gives, keeping it, finding the people in it."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.columns import Mask
from loyalbell.core.history.settled import places_of
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.references import Kind
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation import RuleEvaluation, evaluate, meets_line
from loyalbell.core.segments.explanation import Judged, explain
from loyalbell.core.segments.funnel import funnel
from loyalbell.core.segments.model import FieldCondition, Rule, read_rule, segments_in
from loyalbell.core.segments.problems import RuleProblem
from loyalbell.core.segments.sentence import say_rule
from loyalbell.core.segments.warnings import Warning, sparse_fields, warnings
from loyalbell.services import references
from loyalbell.services.application import Application
from loyalbell.storage.schema import Message, Offer, Person, Segment, Sequence

YEAR = 365 * 86_400

WEEK = timedelta(days=7)

SHOWN_PEOPLE, SHOWN_OVERLAPS = 6, 4


@dataclass(frozen=True)
class Member:
    """Somebody in a segment. ``spent`` is net, in minor units, ever."""

    person: Person
    last_order: datetime | None
    orders: int
    spent: int


@dataclass(frozen=True)
class Reading:
    """What a rule gives now. ``reach`` is people by channel, then by none of them.

    ``alone`` is how many of the rest each line takes away by itself; ``overlaps`` are (id, name, people in
    both).
    """

    rule: Rule
    words: str
    counts: list[int]
    people: int
    on_file: int
    money_share: float | None
    reach: list[tuple[str, int]]
    some: list[Member]
    warnings: list[Warning]
    alone: list[int]
    overlaps: list[tuple[int, str, int]]


class SegmentProblem(Exception):
    """Why a segment cannot be kept, in words."""


def saved_rules(session: Session) -> dict[int, Rule]:
    """Every saved segment's rule by id, for rules that lean on them.

    One that cannot be read is left out, as if it were not there: only what leans on it is stopped.
    """
    rules = {}
    for segment in session.scalars(select(Segment)):
        try:
            rules[segment.id] = rule_of(segment)
        except RuleProblem:
            continue
    return rules


def who(application: Application, rule: Rule, as_of: datetime | None = None) -> tuple[HistorySnapshot, Mask]:
    """The ledger, and who of it meets the rule now or at an instant. Raises ``RuleProblem``."""
    snapshot = application.snapshot()
    with application.database.reading() as session:
        saved = saved_rules(session) if segments_in(rule.root) else {}
    return snapshot, evaluate(rule, snapshot, as_of or application.clock.now(), saved)


def saying(application: Application, snapshot: HistorySnapshot) -> Saying:
    """What the ids in rules are called."""
    with application.database.reading() as session:
        names = dict(session.execute(select(Segment.id, Segment.name)).all())
        letters = dict(session.execute(select(Message.id, Message.name)).all())
        given = dict(session.execute(select(Offer.id, Offer.name)).all())
        sequences = dict(session.execute(select(Sequence.id, Sequence.name)).all())
    country = application.the_shop().country
    return Saying(snapshot.currency, snapshot.catalogue, names, letters, given, sequences, country)


def words_of(application: Application, rule: Rule) -> str:
    """The rule as a sentence."""
    return say_rule(rule, saying(application, application.snapshot()))


def read(application: Application, rule: Rule, some: int = SHOWN_PEOPLE) -> Reading:
    """What a rule gives now. Raises ``RuleProblem``."""
    now = application.clock.now()
    with application.database.reading() as session:
        saved = saved_rules(session)
    snapshot = application.snapshot()
    mask = evaluate(rule, snapshot, now, saved)
    counts = funnel(rule, snapshot, now, saved)
    return Reading(
        rule=rule,
        words=say_rule(rule, saying(application, snapshot)),
        counts=counts,
        people=int(mask.sum()),
        on_file=counts[0],
        money_share=_money_share(snapshot, mask, int(now.timestamp())),
        reach=_reach(snapshot, mask, int(now.timestamp())),
        some=members(application, snapshot, np.flatnonzero(mask)[:some]),
        warnings=[
            *warnings(rule, counts, int(evaluate(rule, snapshot, now - WEEK, saved).sum())),
            *sparse_fields(rule, _known_shares(snapshot, rule, now)),
        ],
        alone=_alone(rule, snapshot, now, saved),
        overlaps=_overlaps(application, rule, mask, snapshot, now, saved) if some else [],
    )


@dataclass(frozen=True)
class Size:
    """What a list says of a segment: how many are in it of all on file, and whom email reaches."""

    words: str
    people: int
    on_file: int
    by_email: int


def sizes(application: Application, segments: Iterable[Segment]) -> dict[int, Size]:
    """Of several segments at once, by id. Raises ``RuleProblem``."""
    now, snapshot = application.clock.now(), application.snapshot()
    with application.database.reading() as session:
        saved = saved_rules(session)
    by_email, known = snapshot.reachable(0, int(now.timestamp())), saying(application, snapshot)
    on_file, found = int(snapshot.on_file(int(now.timestamp())).sum()), {}
    for segment in segments:
        rule = rule_of(segment)
        mask = evaluate(rule, snapshot, now, saved)
        words = say_rule(rule, known)
        found[segment.id] = Size(words, int(mask.sum()), on_file, int((mask & by_email).sum()))
    return found


def _overlaps(
    application: Application,
    rule: Rule,
    mask: Mask,
    snapshot: HistorySnapshot,
    now: datetime,
    saved: dict[int, Rule],
) -> list[tuple[int, str, int]]:
    """(id, name, people in both) of the saved segments that share the most people with these."""
    with application.database.reading() as session:
        names = dict(
            session.execute(select(Segment.id, Segment.name).where(Segment.archived_at.is_(None))).all()
        )
    found = [
        (at, names[at], int((mask & evaluate(other, snapshot, now, saved)).sum()))
        for at, other in saved.items()
        if at in names and other != rule
    ]
    return sorted((one for one in found if one[2]), key=lambda one: -one[2])[:SHOWN_OVERLAPS]


def _alone(rule: Rule, snapshot: HistorySnapshot, now: datetime, saved: dict[int, Rule]) -> list[int]:
    """For each outermost line, how many more there would be without it (fewer, for *any*: how many only it
    brings).
    """
    evaluation = RuleEvaluation(snapshot, now, saved)
    masks = [meets_line(line, evaluation) for line in rule.root.lines]
    here, found = snapshot.on_file(int(now.timestamp())), []
    if rule.root.match == "none":
        masks = [~mask for mask in masks]
    for at, mask in enumerate(masks):
        others = masks[:at] + masks[at + 1 :]
        if rule.root.match == "any":
            rest = np.logical_or.reduce(others) if others else np.zeros_like(here)
            found.append(int((here & mask & ~rest).sum()))
        else:
            rest = np.logical_and.reduce(others) if others else np.ones_like(here)
            found.append(int((here & rest & ~mask).sum()))
    return found


def _known_shares(snapshot: HistorySnapshot, rule: Rule, now: datetime) -> dict[int, float]:
    asked = {line.field for line in rule.root.lines if isinstance(line, FieldCondition)}
    size = max(len(snapshot.people), 1)
    return {one: len(np.unique(snapshot.values_of(one, int(now.timestamp())).person)) / size for one in asked}


def _money_share(snapshot: HistorySnapshot, mask: Mask, now: int) -> float | None:
    """The segment's part of all money of the past 365 days; ``None`` where there was none."""
    rows = snapshot.orders.span(now - YEAR, now)
    kept = snapshot.orders.counted(rows, now)
    money = np.where(kept, snapshot.orders.net_money(rows, now), 0)
    whole = int(money.sum())
    return float(money[mask[snapshot.orders.person[rows]]].sum() / whole) if whole > 0 else None


def _reach(snapshot: HistorySnapshot, mask: Mask, now: int) -> list[tuple[str, int]]:
    by_channel = [mask & snapshot.reachable(number, now) for number in range(len(CHANNELS))]
    nobody = mask & ~np.logical_or.reduce(by_channel)
    counts = [(name, int(reached.sum())) for name, reached in zip(CHANNELS, by_channel, strict=True)]
    return [*counts, ("none of these", int(nobody.sum()))]


def members(
    application: Application, snapshot: HistorySnapshot, numbers: "np.ndarray[tuple[int], np.dtype[np.int64]]"
) -> list[Member]:
    """People by their numbers in the ledger, with what they bought so far."""
    now = int(application.clock.now().timestamp())
    bought = snapshot.orders
    rows = places_of(bought, np.sort(numbers), len(snapshot.people))
    rows = rows[(bought.at[rows] <= now) & (bought.void_at[rows] > now)]
    person = bought.person[rows]
    orders = snapshot.per_person(person)
    spent = snapshot.per_person(person, bought.net_money(rows, now))
    last = np.zeros(len(snapshot.people), dtype=np.int64)
    last[person] = bought.at[rows]
    with application.database.reading() as session:
        ids = [int(snapshot.people.ids[number]) for number in numbers]
        people = {p.id: p for p in session.scalars(select(Person).where(Person.id.in_(ids)))}
    return [
        Member(
            person=people[person_id],
            last_order=datetime.fromtimestamp(int(last[number]), application.clock.now().tzinfo)
            if orders[number]
            else None,
            orders=int(orders[number]),
            spent=int(spent[number]),
        )
        for person_id, number in zip(ids, numbers, strict=True)
        if person_id in people
    ]


def count_rule(
    application: Application, rule: Rule, as_of: datetime, with_ladder: bool, with_people: bool
) -> dict[str, object]:
    """What the command line says of a rule: people, and on asking the ladder and the ids."""
    snapshot, mask = who(application, rule, as_of)
    found: dict[str, object] = {
        "people": int(mask.sum()),
        "as_of": as_of.isoformat(),
        "words": say_rule(rule, saying(application, snapshot)),
    }
    if with_ladder:
        with application.database.reading() as session:
            found["ladder"] = funnel(rule, snapshot, as_of, saved_rules(session))
    if with_people:
        found["ids"] = [int(one) for one in snapshot.people.ids[mask]]
    return found


def people_in(application: Application, rule: Rule, skip: int, limit: int) -> tuple[int, list[Member]]:
    """How many are in it, and one page of them."""
    snapshot, mask = who(application, rule)
    found = np.flatnonzero(mask)
    return len(found), members(application, snapshot, found[skip : skip + limit])


def used_in(session: Session, segment_id: int) -> list[str]:
    """What uses a segment, in words."""
    return [str(use) for use in references.uses_of(session, Kind.SEGMENT, segment_id)]


def rule_of(segment: Segment) -> Rule:
    return read_rule(segment.rule)


def why(application: Application, rule: Rule, person_id: int) -> tuple[bool, list[Judged]] | None:
    """Whether a person is in, and each line's reason; ``None`` for nobody on file. Raises ``RuleProblem``."""
    snapshot, met = who(application, rule)
    number = int(np.searchsorted(snapshot.people.ids, person_id))
    if number >= len(snapshot.people) or int(snapshot.people.ids[number]) != person_id:
        return None
    with application.database.reading() as session:
        evaluation = RuleEvaluation(snapshot, application.clock.now(), saved_rules(session))
    return bool(met[number]), explain(rule.root, evaluation, number, saying(application, snapshot))


def every_segment(application: Application) -> list[Segment]:
    """All segments by name, those put away too."""
    with application.database.reading() as session:
        return list(session.scalars(select(Segment).order_by(Segment.name)))


def current_names(application: Application) -> list[tuple[int, str]]:
    """(id, name) of the segments that are not put away, by name."""
    return [(one.id, one.name) for one in every_segment(application) if one.archived_at is None]


def uses_of(application: Application, segment_ids: Iterable[int]) -> dict[int, list[str]]:
    """What uses each of the segments, in words."""
    with application.database.reading() as session:
        return {segment_id: used_in(session, segment_id) for segment_id in segment_ids}
