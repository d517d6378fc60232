"""Segments: reading what a rule gives, keeping it, finding the people in it."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.columns import Mask
from loyalbell.core.ledger import CHANNELS, Ledger
from loyalbell.core.segments.evaluate import Asking, evaluate, meets_line
from loyalbell.core.segments.explain import Judged, explain
from loyalbell.core.segments.ladder import ladder
from loyalbell.core.segments.model import (
    FieldCondition,
    Group,
    PeopleCondition,
    Rule,
    read_rule,
    segments_in,
)
from loyalbell.core.segments.sentence import Saying, say_rule
from loyalbell.core.segments.warnings import Warning, sparse_fields, warnings
from loyalbell.desk.desk import Desk
from loyalbell.store.tables import Campaign, Message, Offer, Person, Segment, Sequence

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

    ``alone`` is how many of the rest each line takes away by itself; ``overlaps`` are (id, name, people in both).
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
    """Every saved segment's rule by id, for rules that lean on them."""
    return {segment.id: rule_of(segment) for segment in session.scalars(select(Segment))}


def who(desk: Desk, rule: Rule, as_of: datetime | None = None) -> tuple[Ledger, Mask]:
    """The ledger, and who of it meets the rule now or at an instant. Raises ``RuleProblem``."""
    ledger = desk.ledger()
    with desk.book.reading() as session:
        saved = saved_rules(session) if segments_in(rule.root) else {}
    return ledger, evaluate(rule, ledger, as_of or desk.clock.now(), saved)


def saying(desk: Desk, ledger: Ledger) -> Saying:
    """What the ids in rules are called."""
    with desk.book.reading() as session:
        names = dict(session.execute(select(Segment.id, Segment.name)).all())
        letters = dict(session.execute(select(Message.id, Message.name)).all())
        given = dict(session.execute(select(Offer.id, Offer.name)).all())
        sequences = dict(session.execute(select(Sequence.id, Sequence.name)).all())
    return Saying(ledger.currency, ledger.catalogue, names, letters, given, sequences)


def words_of(desk: Desk, rule: Rule) -> str:
    """The rule as a sentence."""
    return say_rule(rule, saying(desk, desk.ledger()))


def read(desk: Desk, rule: Rule, some: int = SHOWN_PEOPLE) -> Reading:
    """What a rule gives now. Raises ``RuleProblem``."""
    now = desk.clock.now()
    with desk.book.reading() as session:
        saved = saved_rules(session)
    ledger = desk.ledger()
    mask = evaluate(rule, ledger, now, saved)
    counts = ladder(rule, ledger, now, saved)
    return Reading(
        rule=rule,
        words=say_rule(rule, saying(desk, ledger)),
        counts=counts,
        people=int(mask.sum()),
        on_file=counts[0],
        money_share=_money_share(ledger, mask, int(now.timestamp())),
        reach=_reach(ledger, mask, int(now.timestamp())),
        some=members(desk, ledger, np.flatnonzero(mask)[:some]),
        warnings=[
            *warnings(rule, counts, int(evaluate(rule, ledger, now - WEEK, saved).sum())),
            *sparse_fields(rule, _known_shares(ledger, rule, now)),
        ],
        alone=_alone(rule, ledger, now, saved),
        overlaps=_overlaps(desk, rule, mask, ledger, now, saved) if some else [],
    )


def _overlaps(
    desk: Desk, rule: Rule, mask: Mask, ledger: Ledger, now: datetime, saved: dict[int, Rule]
) -> list[tuple[int, str, int]]:
    """(id, name, people in both) of the saved segments that share the most people with these."""
    with desk.book.reading() as session:
        names = dict(
            session.execute(select(Segment.id, Segment.name).where(Segment.archived_at.is_(None))).all()
        )
    found = [
        (at, names[at], int((mask & evaluate(other, ledger, now, saved)).sum()))
        for at, other in saved.items()
        if at in names and other != rule
    ]
    return sorted((one for one in found if one[2]), key=lambda one: -one[2])[:SHOWN_OVERLAPS]


def _alone(rule: Rule, ledger: Ledger, now: datetime, saved: dict[int, Rule]) -> list[int]:
    """For each outermost line, how many more there would be without it (fewer, for *any*: how many only it brings)."""
    asking = Asking(ledger, now, saved)
    masks = [meets_line(line, asking) for line in rule.root.lines]
    here, found = ledger.on_file(int(now.timestamp())), []
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


def _known_shares(ledger: Ledger, rule: Rule, now: datetime) -> dict[int, float]:
    asked = {line.field for line in rule.root.lines if isinstance(line, FieldCondition)}
    size = max(len(ledger.people), 1)
    return {one: len(np.unique(ledger.values_of(one, int(now.timestamp())).person)) / size for one in asked}


def _money_share(ledger: Ledger, mask: Mask, now: int) -> float | None:
    """The segment's part of all money of the past 365 days; ``None`` where there was none."""
    rows = ledger.orders.span(now - YEAR, now)
    kept = ledger.orders.counted(rows, now)
    money = np.where(kept, ledger.orders.net_money(rows, now), 0)
    whole = int(money.sum())
    return float(money[mask[ledger.orders.person[rows]]].sum() / whole) if whole > 0 else None


def _reach(ledger: Ledger, mask: Mask, now: int) -> list[tuple[str, int]]:
    by_channel = [mask & ledger.reachable(number, now) for number in range(len(CHANNELS))]
    nobody = mask & ~np.logical_or.reduce(by_channel)
    counts = [(name, int(reached.sum())) for name, reached in zip(CHANNELS, by_channel, strict=True)]
    return [*counts, ("none of these", int(nobody.sum()))]


def members(
    desk: Desk, ledger: Ledger, numbers: "np.ndarray[tuple[int], np.dtype[np.int64]]"
) -> list[Member]:
    """People by their numbers in the ledger, with what they bought so far."""
    now = int(desk.clock.now().timestamp())
    rows = ledger.orders.span(-(2**62), now)
    counted = ledger.orders.counted(rows, now) & np.isin(ledger.orders.person[rows], numbers)
    person = ledger.orders.person[rows][counted]
    orders = ledger.per_person(person)
    spent = ledger.per_person(person, ledger.orders.net_money(rows, now)[counted])
    last = np.zeros(len(ledger.people), dtype=np.int64)
    last[person] = ledger.orders.at[rows][counted]
    with desk.book.reading() as session:
        ids = [int(ledger.people.ids[number]) for number in numbers]
        people = {p.id: p for p in session.scalars(select(Person).where(Person.id.in_(ids)))}
    return [
        Member(
            person=people[person_id],
            last_order=datetime.fromtimestamp(int(last[number]), desk.clock.now().tzinfo)
            if orders[number]
            else None,
            orders=int(orders[number]),
            spent=int(spent[number]),
        )
        for person_id, number in zip(ids, numbers, strict=True)
        if person_id in people
    ]


def count_rule(
    desk: Desk, rule: Rule, as_of: datetime, with_ladder: bool, with_people: bool
) -> dict[str, object]:
    """What the command line says of a rule: people, and on asking the ladder and the ids."""
    ledger, mask = who(desk, rule, as_of)
    found: dict[str, object] = {
        "people": int(mask.sum()),
        "as_of": as_of.isoformat(),
        "words": say_rule(rule, saying(desk, ledger)),
    }
    if with_ladder:
        with desk.book.reading() as session:
            found["ladder"] = ladder(rule, ledger, as_of, saved_rules(session))
    if with_people:
        found["ids"] = [int(one) for one in ledger.people.ids[mask]]
    return found


def people_in(desk: Desk, rule: Rule, skip: int, limit: int) -> tuple[int, list[Member]]:
    """How many are in it, and one page of them."""
    ledger, mask = who(desk, rule)
    found = np.flatnonzero(mask)
    return len(found), members(desk, ledger, found[skip : skip + limit])


def keep(desk: Desk, segment_id: int | None, name: str, rule: Rule, by: str) -> int:
    """Saves a new segment or a changed one. Raises ``SegmentProblem``."""
    name = " ".join(name.split())
    if not name:
        raise SegmentProblem("Give the segment a name, so that you find it again.")
    if len(name) > 120:
        raise SegmentProblem("The name is too long; 120 characters at most.")
    if not rule.root.lines:
        raise SegmentProblem("Add at least one line. Without one the segment is everyone on file.")
    with desk.book.writing() as session:
        _check_leaning(session, segment_id, rule)
        taken = session.scalar(select(Segment.id).where(func.lower(Segment.name) == name.lower()))
        if taken is not None and taken != segment_id:
            raise SegmentProblem(f"There is a segment called “{name}” already. Choose another name.")
        segment = session.get(Segment, segment_id) if segment_id else None
        if segment is None:
            segment = Segment()
            session.add(segment)
        segment.name, segment.rule = name, rule.model_dump(mode="json")
        segment.changed_at, segment.by = desk.clock.now(), by
        session.flush()
        desk.note(session, by, "saved a segment", segment=name)
        return segment.id


def _check_leaning(session: Session, segment_id: int | None, rule: Rule) -> None:
    """Raises ``SegmentProblem`` where the rule would lean on itself, or on a segment that is not there."""
    saved = saved_rules(session)
    seen: set[int] = set()
    waiting = list(segments_in(rule.root))
    while waiting:
        one = waiting.pop()
        if one == segment_id:
            raise SegmentProblem("This segment would lean on itself, by way of another. Take that line away.")
        if one not in saved:
            raise SegmentProblem("A line asks for a segment that has been deleted. Choose another.")
        if one not in seen:
            seen.add(one)
            waiting += segments_in(saved[one].root)


def archive(desk: Desk, segment_id: int, away: bool, by: str) -> None:
    """Puts a segment away, or takes it out again. What uses it goes on using it."""
    with desk.book.writing() as session:
        segment = session.get_one(Segment, segment_id)
        segment.archived_at = desk.clock.now() if away else None
        desk.note(
            session, by, "put a segment away" if away else "took a segment out again", segment=segment.name
        )


def drop(desk: Desk, segment_id: int, by: str) -> None:
    """Raises ``SegmentProblem`` while a campaign refers to it."""
    with desk.book.writing() as session:
        uses = used_in(session, segment_id)
        if uses:
            raise SegmentProblem(f"This segment is used in {uses[0]}; it cannot be deleted.")
        segment = session.get_one(Segment, segment_id)
        desk.note(session, by, "deleted a segment", segment=segment.name)
        session.delete(segment)


def used_in(session: Session, segment_id: int) -> list[str]:
    names = session.scalars(select(Campaign.name).where(Campaign.segment_id == segment_id))
    leaning = [
        segment.name
        for segment in session.scalars(select(Segment).where(Segment.id != segment_id).order_by(Segment.name))
        if segment_id in segments_in(rule_of(segment).root)
    ]
    return [*(f"the campaign “{name}”" for name in names), *(f"the segment “{name}”" for name in leaning)]


def rule_of(segment: Segment) -> Rule:
    return read_rule(segment.rule)


def why(desk: Desk, rule: Rule, person_id: int) -> tuple[bool, list[Judged]] | None:
    """Whether a person is in, and each line's reason; ``None`` for nobody on file. Raises ``RuleProblem``."""
    ledger, met = who(desk, rule)
    number = int(np.searchsorted(ledger.people.ids, person_id))
    if number >= len(ledger.people) or int(ledger.people.ids[number]) != person_id:
        return None
    with desk.book.reading() as session:
        asking = Asking(ledger, desk.clock.now(), saved_rules(session))
    return bool(met[number]), explain(rule.root, asking, number, saying(desk, ledger))


def freeze(desk: Desk, segment_id: int, by: str) -> int:
    """A fixed segment of those who are in now. Returns its id."""
    with desk.book.reading() as session:
        segment = session.get_one(Segment, segment_id)
    ledger, met = who(desk, rule_of(segment))
    ids = tuple(int(one) for one in ledger.people.ids[met])
    day = desk.clock.now().astimezone(ZoneInfo(ledger.zone)).date()
    return keep_fixed(desk, f"{segment.name}, as on {day}", ids, by)


def keep_fixed(desk: Desk, name: str, ids: tuple[int, ...], by: str) -> int:
    """A fixed segment of these people under a free name. Returns its id."""
    rule = Rule(root=Group(lines=[PeopleCondition(ids=ids)]))
    return keep(desk, None, _free_name(desk, name), rule, by)


def copy(desk: Desk, segment_id: int, by: str) -> int:
    """A copy under a name of its own. Returns its id."""
    with desk.book.reading() as session:
        segment = session.get_one(Segment, segment_id)
    return keep(desk, None, _free_name(desk, f"{segment.name}, copy"), rule_of(segment), by)


def _free_name(desk: Desk, name: str) -> str:
    with desk.book.reading() as session:
        taken = {known.lower() for known in session.scalars(select(Segment.name))}
    name = name[:110]
    return next(one for one in (name, *(f"{name} {n}" for n in range(2, 10_000))) if one.lower() not in taken)
