"""Every kind of condition against a plain loop over one person and one row at a time."""

import unittest
from datetime import date, datetime, timedelta
from itertools import pairwise
from statistics import median
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import (
    APPOINTMENT_STATES,
    Appointments,
    Catalogue,
    Codes,
    Deliveries,
    Engagements,
    Enrolments,
    Events,
    FieldValues,
    HistorySnapshot,
    Lines,
    Memberships,
    Orders,
    People,
    Tags,
    WalkIns,
    WordCodes,
    YearlyDates,
)
from loyalbell.core.history.visits import EPOCH
from loyalbell.core.segments import model as m
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import Group, Rule
from tests.support import NOW, ZONE

SECONDS, DAY, WHO = int(NOW.timestamp()), 86_400, 4
AT = st.integers(SECONDS - 120 * DAY, SECONDS + 20 * DAY)
PERSON = st.integers(0, WHO - 1)


def days_ago(at: int) -> int:
    local = datetime.fromtimestamp(at, ZoneInfo(ZONE)).date()
    return (NOW.astimezone(ZoneInfo(ZONE)).date() - local).days


def compared(value: float, line) -> bool:
    return {"at least": value >= line.value, "at most": value <= line.value, "exactly": value == line.value}[
        line.comparison
    ]


def inside(at: int, period) -> bool:
    ago = days_ago(at)
    if at > SECONDS:
        return False
    return {
        "ever": lambda: True,
        "last days": lambda: ago < period.days,
        "before last days": lambda: ago >= period.days,
        "between days ago": lambda: period.least <= ago <= period.most,
        "between dates": lambda: (
            period.first <= datetime.fromtimestamp(at, ZoneInfo(ZONE)).date() <= period.last
        ),
    }[period.kind]()


COMPARED = st.sampled_from(("at least", "at most", "exactly"))
PERIODS = st.one_of(
    st.just(m.Ever()),
    st.builds(m.LastDays, days=st.integers(1, 90)),
    st.builds(m.BeforeLastDays, days=st.integers(1, 90)),
    st.tuples(st.integers(0, 90), st.integers(0, 90)).map(
        lambda p: m.BetweenDaysAgo(least=min(p), most=max(p))
    ),
    st.tuples(st.integers(0, 90), st.integers(0, 90)).map(
        lambda p: m.BetweenDates(
            first=date(2026, 5, 12) - timedelta(days=max(p)), last=date(2026, 5, 12) - timedelta(days=min(p))
        )
    ),
)
ROWS = st.lists(st.tuples(PERSON, AT, st.integers(0, 2), st.integers(1, 90)), max_size=14)


def people() -> People:
    return People.of(np.arange(1, WHO + 1), [-(2**40)] * WHO)


def book(**parts) -> HistorySnapshot:
    return HistorySnapshot(ZONE, "USD", people(), **parts)


def columns(rows, *names):
    table = np.array(rows, dtype=np.int64).reshape(-1, len(names))
    return {name: table[:, at] for at, name in enumerate(names)}


class EveryCondition(unittest.TestCase):
    """Each kind of line, one person and one row at a time."""

    def check(self, line, snapshot: HistorySnapshot, slow) -> None:
        found = evaluate(Rule(root=Group(lines=[line])), snapshot, NOW)
        self.assertEqual([bool(one) for one in found], [slow(person) for person in range(WHO)], line)

    @given(
        ROWS,
        COMPARED,
        st.integers(0, 60),
        PERIODS,
        st.sampled_from(("average", "days", "first", "last")),
        st.none() | st.integers(1, 3),
        st.none() | st.integers(1, 60),
    )
    def test_orders(self, rows, comparison, value, period, measure, nth, least) -> None:
        line = m.OrdersCondition(
            measure=measure, comparison=comparison, value=value, period=period, nth=nth, least=least
        )
        snapshot = book(orders=Orders.of(**columns(rows, "person", "at", "department", "money")))
        stood = sorted(
            ((at, key, person, money) for key, (person, at, _, money) in enumerate(rows)),
            key=lambda row: row[:2],
        )

        def slow(person: int) -> bool:
            theirs = [
                (at, money)
                for at, _, who, money in stood
                if who == person and at <= SECONDS and (least is None or money >= least)
            ]
            theirs = theirs if nth is None else theirs[nth - 1 : nth]
            theirs = [(at, money) for at, money in theirs if inside(at, period)]
            if measure == "days":
                return compared(len({days_ago(at) for at, _ in theirs}), line)
            if not theirs:
                return False
            if measure == "average":
                return compared(sum(money for _, money in theirs) / len(theirs), line)
            return compared(days_ago(theirs[0 if measure == "first" else -1][0]), line)

        self.check(line, snapshot, slow)

    @given(
        ROWS,
        COMPARED,
        st.integers(0, 4),
        PERIODS,
        st.sampled_from(("count", "quantity", "sum")),
        st.sampled_from((None, 1, 2)),
        st.sampled_from((None, "Food")),
    )
    def test_items(self, rows, comparison, value, period, measure, item, category) -> None:
        line = m.ItemsCondition(
            measure=measure, comparison=comparison, value=value, period=period, item=item, category=category
        )
        given = columns(rows, "person", "at", "item", "money")
        names = Catalogue(items={0: ("a", "Food", 0), 1: ("b", "Food", 0), 2: ("c", "Toys", 0)})
        snapshot = book(
            lines=Lines.of(**given, quantity=given["money"] * 100, key=np.arange(len(rows)) // 2),
            catalogue=names,
        )

        def slow(person: int) -> bool:
            kept = [
                (key // 2, money)
                for key, (who, at, what, money) in enumerate(rows)
                if who == person
                and inside(at, period)
                and item in (None, what)
                and (category is None or what in (0, 1))
            ]
            if measure == "count":
                return compared(len({order for order, _ in kept}), line)
            return compared(sum(money for _, money in kept) / (10 if measure == "quantity" else 1), line)

        if measure != "count" or len({key // 2 for key in range(len(rows))}) == len(
            {(key // 2, row[0]) for key, row in enumerate(rows)}
        ):
            self.check(line, snapshot, slow)

    def test_two_lines_of_an_order_are_one_time_bought(self) -> None:
        lines = Lines.of(person=[0, 0, 1, 1], at=[SECONDS] * 4, item=[1] * 4, key=[1, 1, 2, 3])
        self.check(m.ItemsCondition(item=1, value=2), book(lines=lines), lambda person: person == 1)

    @given(
        ROWS,
        st.lists(AT, min_size=WHO, max_size=WHO),
        COMPARED,
        st.integers(1, 3),
        st.integers(1, 40),
        st.sampled_from(("orders", "items")),
        st.none() | st.integers(0, 2),
    )
    def test_in_their_first_days(self, rows, said, comparison, value, days, about, department) -> None:
        """Counted from the day they are said to have joined, or from their first order if that was before."""
        given = columns(rows, "person", "at", "department", "money")
        joined = People.of(np.arange(1, WHO + 1), said)
        lines = Lines.of(**given, key=np.arange(len(rows)))
        snapshot = HistorySnapshot(ZONE, "USD", joined, orders=Orders.of(**given), lines=lines)
        line = (m.OrdersCondition if about == "orders" else m.ItemsCondition)(
            comparison=comparison, value=value, period=m.AfterJoining(days=days), department=department
        )
        until = days * DAY

        def slow(person: int) -> bool:
            theirs = [(at, of) for who, at, of, _ in rows if who == person and at <= SECONDS]
            became = min([said[person], *(at for who, at, *_ in rows if who == person)])
            kept = [at for at, of in theirs if became <= at < became + until and department in (None, of)]
            return became <= SECONDS and compared(len(kept), line)

        self.check(line, snapshot, slow)

    @given(ROWS, ROWS, st.sampled_from(("orders", "visits")), st.integers(1, 9), st.integers(2, 4))
    def test_usual_gaps(self, came, bought, what, low, fewest) -> None:
        line = m.GapCondition(what=what, low=low, high=low + 8, fewest=fewest)
        walked = columns(came, "person", "at", "location", "department")
        ordered = columns(bought, "person", "at", "location", "money")
        snapshot = book(
            walk_ins=WalkIns.of(**walked), orders=Orders.of(**ordered, in_person=[True] * len(bought))
        )

        def slow(person: int) -> bool:
            rows = [*bought, *came] if what == "visits" else bought
            days = sorted({-days_ago(at) for who, at, _, _ in rows if who == person and at <= SECONDS})
            gaps = [later - earlier for earlier, later in pairwise(days)]
            return len(days) >= fewest and low <= median(gaps) <= low + 8

        self.check(line, snapshot, slow)

    @given(
        st.lists(
            st.tuples(
                PERSON, AT, st.integers(1, 3), st.none() | st.tuples(st.integers(0, 40), st.integers(1, 3))
            ),
            max_size=12,
        ),
        st.sampled_from(("under way", "came in", "finished", "left", "held back")),
        st.none() | st.integers(1, 3),
        st.integers(0, 30),
        st.booleans(),
    )
    def test_sequences(self, rows, state, sequence, days, has) -> None:
        never = 2**62
        enrolments = [
            (
                who,
                at,
                which,
                never if end is None else at + end[0] * DAY * (end[1] != 3),
                0 if end is None else end[1],
            )
            for who, at, which, end in rows
        ]
        who, at, which, ended, how = zip(*enrolments, strict=True) if enrolments else ([],) * 5
        snapshot = book(enrolments=Enrolments.of(person=who, at=at, sequence=which, ended_at=ended, how=how))
        line = m.SequencesCondition(state=state, sequence=sequence, days=days, has=has)
        ends = {1: "finished", 2: "left", 3: "held back"}

        def one(at: int, ended: int, how: int) -> bool:
            if state == "under way":
                return at <= SECONDS < ended
            if state == "came in":
                when = at if how != 3 else None
            else:
                when = ended if ends.get(how) == state else None
            return (
                when is not None
                and at <= SECONDS
                and when <= SECONDS
                and (not days or when > SECONDS - days * DAY)
            )

        def slow(person: int) -> bool:
            found = any(
                one(at, ended, how)
                for who, at, which, ended, how in enrolments
                if who == person and sequence in (None, which)
            )
            return found == has

        self.check(line, snapshot, slow)

    @given(
        st.lists(
            st.tuples(PERSON, AT, st.integers(1, 3), st.integers(1, 40), st.none() | st.integers(0, 60)),
            max_size=12,
        ),
        st.sampled_from(("hold", "were given", "used", "let run out")),
        st.none() | st.integers(1, 3),
        st.integers(0, 30),
        st.booleans(),
    )
    def test_offers(self, rows, state, offer, days, has) -> None:
        rows = [
            (who, at, which, at + lasts * DAY, None if used is None else at + used * DAY // 2)
            for who, at, which, lasts, used in rows
        ]
        rows = [
            (who, at, which, until, used if used is not None and used < until else None)
            for who, at, which, until, used in rows
        ]
        line = m.OffersCondition(state=state, offer=offer, days=days, has=has)
        never = 2**62
        snapshot = book(
            codes=Codes.of(
                person=[row[0] for row in rows],
                at=[row[1] for row in rows],
                offer=[row[2] for row in rows],
                until=[row[3] for row in rows],
                used_at=[never if row[4] is None else row[4] for row in rows],
            )
        )

        def one(at: int, until: int, used: int | None) -> bool:
            if state == "hold":
                return (
                    at <= SECONDS < until
                    and (used is None or used > SECONDS)
                    and (not days or until <= SECONDS + days * DAY)
                )
            when = {"were given": at, "used": used, "let run out": until if used is None else None}[state]
            return (
                at <= SECONDS
                and when is not None
                and when <= SECONDS
                and (not days or when > SECONDS - days * DAY)
            )

        def slow(person: int) -> bool:
            found = any(
                one(at, until, used)
                for who, at, which, until, used in rows
                if who == person and offer in (None, which)
            )
            return found == has

        self.check(line, snapshot, slow)

    @given(ROWS, ROWS, COMPARED, st.integers(0, 4), PERIODS)
    def test_visits(self, came, bought, comparison, value, period) -> None:
        line = m.VisitsCondition(comparison=comparison, value=value, period=period)
        walked = columns(came, "person", "at", "location", "department")
        ordered = columns(bought, "person", "at", "location", "money")
        snapshot = book(
            walk_ins=WalkIns.of(**walked), orders=Orders.of(**ordered, in_person=ordered["money"] % 2 == 0)
        )

        def slow(person: int) -> bool:
            days: dict[tuple[int, int], int] = {}
            every = [(at, place) for who, at, place, _ in came if who == person]
            every += [(at, place) for who, at, place, money in bought if who == person and money % 2 == 0]
            for at, place in every:
                if at <= SECONDS:
                    days[days_ago(at), place] = min(at, days.get((days_ago(at), place), at))
            return compared(sum(inside(at, period) for at in days.values()), line)

        self.check(line, snapshot, slow)

    @given(
        st.lists(
            st.tuples(PERSON, AT, st.integers(0, 3), st.integers(0, 30), st.integers(0, 10)), max_size=12
        ),
        st.sampled_from(("ahead", "kept", "missed", "cancelled")),
        COMPARED,
        st.integers(0, 2),
        st.integers(0, 15),
        PERIODS,
    )
    def test_appointments(self, rows, state, comparison, value, ahead, period) -> None:
        line = m.AppointmentsCondition(
            state=state, comparison=comparison, value=value, ahead=ahead, period=period
        )
        given = columns(rows, "person", "at", "outcome", "lead", "late")
        snapshot = book(
            appointments=Appointments.of(
                person=given["person"],
                at=given["at"],
                outcome=given["outcome"],
                booked_at=given["at"] - given["lead"] * DAY,
                settled_at=np.where(given["outcome"] == 0, NEVER, given["at"] + given["late"] * DAY),
            )
        )

        def slow(person: int) -> bool:
            count = 0
            for who, at, outcome, lead, late in rows:
                if who != person or at - lead * DAY > SECONDS:
                    continue
                known = "booked" if outcome == 0 or at + late * DAY > SECONDS else APPOINTMENT_STATES[outcome]
                if state == "ahead":
                    count += known == "booked" and at > SECONDS and (not ahead or -days_ago(at) <= ahead)
                else:
                    count += known == state and inside(at, period)
            return compared(count, line)

        self.check(line, snapshot, slow)

    @given(
        st.lists(st.tuples(PERSON, AT, st.integers(0, 1), st.integers(1, 5)), max_size=12),
        st.lists(st.tuples(PERSON, AT, st.integers(0, 1), st.integers(1, 5)), max_size=12),
        st.sampled_from(("received", "opened")),
        st.sampled_from((None, "email")),
        COMPARED,
        st.integers(0, 3),
        PERIODS,
    )
    def test_messages(self, sent, opened, act, channel, comparison, value, period) -> None:
        line = m.MessagesCondition(
            act=act, channel=channel, comparison=comparison, value=value, period=period
        )
        bare = book()
        code = bare.words["opened"]
        got, did = (
            columns(sent, "person", "at", "channel", "message"),
            columns(opened, "person", "at", "channel", "message"),
        )
        snapshot = HistorySnapshot(
            ZONE,
            "USD",
            people(),
            words=bare.words,
            deliveries=Deliveries.of(**got),
            engagements=Engagements.of(
                **did, kind=np.full(len(opened), code), delivery=did["message"] * 10 + did["person"]
            ),
        )

        def slow(person: int) -> bool:
            rows = sent if act == "received" else opened
            kept = [
                (at, message)
                for who, at, by, message in rows
                if who == person and (channel is None or by == 0) and inside(at, period)
            ]
            return compared(len(kept) if act == "received" else len({message for _, message in kept}), line)

        self.check(line, snapshot, slow)

    @given(
        st.lists(st.tuples(PERSON, AT, st.integers(0, 2)), max_size=10),
        COMPARED,
        st.integers(0, 3),
        PERIODS,
        st.sampled_from((None, "page")),
        st.sampled_from(("", "/a", "/b")),
    )
    def test_events(self, rows, comparison, value, period, name, holds) -> None:
        line = m.EventsCondition(
            kind="looked", property=name, holds=holds, comparison=comparison, value=value, period=period
        )
        bare = book()
        texts = ['{"page": "/a"}', '{"page": "/B"}', "{}"]
        codes = [bare.words[text] for text in texts]
        given = columns(rows, "person", "at", "text")
        snapshot = HistorySnapshot(
            ZONE,
            "USD",
            people(),
            words=bare.words,
            events=Events.of(
                person=given["person"],
                at=given["at"],
                kind=np.full(len(rows), bare.words["looked"]),
                properties=np.array([codes[n] for n in given["text"]], dtype=np.int64),
            ),
        )

        def slow(person: int) -> bool:
            pages = ("/a", "/b", None)
            return compared(
                sum(
                    who == person
                    and inside(at, period)
                    and (name is None or (pages[n] is not None and holds in ("", pages[n])))
                    for who, at, n in rows
                ),
                line,
            )

        self.check(line, snapshot, slow)

    @given(
        st.lists(st.tuples(PERSON, AT, st.integers(1, 2), st.none() | st.integers(0, 60)), max_size=10),
        st.integers(1, 2),
        st.booleans(),
    )
    def test_tags(self, rows, tag, has) -> None:
        given = {
            "person": [r[0] for r in rows],
            "at": [r[1] for r in rows],
            "tag": [r[2] for r in rows],
            "until": [NEVER if r[3] is None else r[1] + r[3] * DAY for r in rows],
        }
        snapshot = book(tags=Tags.of(**given))

        def slow(person: int) -> bool:
            return has == any(
                who == person and what == tag and at <= SECONDS and (end is None or at + end * DAY > SECONDS)
                for who, at, what, end in rows
            )

        self.check(m.TagCondition(tag=tag, has=has), snapshot, slow)

    @given(
        st.dictionaries(PERSON, st.integers(-5, 5)),
        st.sampled_from(("is", "is not", "at least", "at most", "is known", "is not known")),
        st.integers(-5, 5),
    )
    def test_a_missing_fact_is_neither_so_nor_otherwise(self, held, comparison, value) -> None:
        snapshot = book(
            field_values=FieldValues.of(
                person=list(held),
                at=[SECONDS - DAY] * len(held),
                field=[1] * len(held),
                number=[float(n) for n in held.values()],
            ),
            catalogue=Catalogue(fields={1: ("Size", "number")}),
        )

        def slow(person: int) -> bool:
            if person not in held:
                return comparison == "is not known"
            n = held[person]
            return {
                "is": n == value,
                "is not": n != value,
                "at least": n >= value,
                "at most": n <= value,
                "is known": True,
                "is not known": False,
            }[comparison]

        self.check(m.FieldCondition(field=1, comparison=comparison, value=str(value)), snapshot, slow)

    @given(
        st.lists(st.tuples(st.integers(1, 12), st.integers(1, 28)), min_size=WHO, max_size=WHO),
        st.sampled_from(("in days", "days ago", "within", "month")),
        st.integers(0, 365),
        st.sampled_from(("birthday", "companion", "companion:dog", "wedding")),
    )
    def test_days_of_the_year(self, born, comparison, value, which) -> None:
        """Their own, a companion's, and a named day; days of another kind beside them count for nothing."""
        born[0] = (2, 29)
        words = WordCodes()
        wedding, dog, cat = (words[word] for word in ("wedding", "dog", "cat"))
        named = wedding if which == "wedding" else dog
        beside = {"companion": wedding, "companion:dog": cat}.get(which, dog)
        rows = [(0, beside, 5, 12, beside != wedding)]
        if which == "birthday":
            given = {"birthday_month": [mo for mo, _ in born], "birthday_day": [d for _, d in born]}
        else:
            given = {}
            rows += [(who, named, month, day, named == dog) for who, (month, day) in enumerate(born)]
        dates = YearlyDates.of(
            **columns(rows, "person", "name", "month", "day", "of_companion"), at=[0] * len(rows)
        )
        one = People.of(np.arange(1, WHO + 1), [-(2**40)] * WHO, **given)
        snapshot = HistorySnapshot(ZONE, "USD", one, yearly_dates=dates, words=words)
        today = date(2026, 5, 12)

        def slow(person: int) -> bool:
            month, day = born[person]
            if comparison == "month":
                return month == value
            leads = (
                range(value + 1) if comparison == "within" else [value if comparison == "in days" else -value]
            )
            for lead in leads:
                when = today + timedelta(days=lead)
                leap = when.year % 4 == 0
                kept = (2, 28) if (month, day) == (2, 29) and not leap else (month, day)
                if (when.month, when.day) == kept:
                    return True
            return False

        self.check(m.DateCondition(which=which, comparison=comparison, value=value), snapshot, slow)

    @given(
        st.lists(
            st.tuples(
                PERSON, st.integers(-40, 10), st.none() | st.integers(-5, 9), st.none() | st.integers(-20, 5)
            ),
            max_size=8,
        ),
        st.sampled_from(("runs", "renews in", "has ended", "none")),
        COMPARED,
        st.integers(0, 6),
    )
    def test_memberships(self, rows, state, comparison, days) -> None:
        today = (date(2026, 5, 12) - EPOCH).days
        no_day = -(2**31)
        snapshot = book(
            memberships=Memberships.of(
                person=[r[0] for r in rows],
                at=[SECONDS] * len(rows),
                started=[today + r[1] for r in rows],
                renews=[no_day if r[2] is None else today + r[2] for r in rows],
                ended=[no_day if r[3] is None else today + r[3] for r in rows],
            )
        )
        line = m.MembershipCondition(state=state, comparison=comparison, days=days)

        def slow(person: int) -> bool:
            theirs = [
                (renews, ended is not None and ended < 0)
                for who, start, renews, ended in rows
                if who == person and start <= 0
            ]
            runs = [renews for renews, over in theirs if not over]
            if state == "has ended":
                return any(over for _, over in theirs)
            if state in ("runs", "none"):
                return bool(runs) == (state == "runs")
            return any(
                r is not None
                and r >= 0
                and {"at least": r >= days, "at most": r <= days, "exactly": r == days}[comparison]
                for r in runs
            )

        self.check(line, snapshot, slow)
