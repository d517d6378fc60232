"""``python -m scripts.lived_history``: makes the demo's fourteen months anew (about a minute).

Everything is drawn by keyed hashes, so that the same program makes the same file. What is planted stands in
``loyalbell/demo/lived.py``.
"""

import gzip
import json
import tempfile
from bisect import bisect_right
from collections import defaultdict
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from itertools import count
from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from loyalbell.core.clock.zones import DAY, zone_of
from loyalbell.core.offers.terms import Line, expires, given, make_code
from loyalbell.core.policy.assignment import uniform
from loyalbell.core.policy.delivery_state import WITHHELD
from loyalbell.core.policy.holdout import Holdout
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import MessageStep, Plan, every_step
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import Rehearsal, RehearsalScene, Sent
from loyalbell.core.sequences.simulated_history import REACTS_AFTER
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.triggers import TriggerHit, trigger_hits
from loyalbell.core.sequences.walk import Position
from loyalbell.demo.build import build_demo
from loyalbell.demo.lived import BEGAN, BROUGHT_BACK, FILE, HELD_OUT, HELD_OUT_SINCE, TABLES, key_of
from loyalbell.demo.sequences import RINGING
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import compiled_version, offers_in, run_of
from loyalbell.services.offers.queries import terms_of, worth
from loyalbell.services.sequences.shop_policy import around_of, live_plans, send_policy_of
from loyalbell.storage import schema
from loyalbell.storage.schema import ConsentEntry, MessageVersion, Order, OrderLine, Person, Shop

RATES = {
    ("email", "opened"): 0.42,
    ("email", "clicked"): 0.07,
    ("text", "clicked"): 0.10,
    ("email", "replied"): 0.004,
    ("text", "replied"): 0.01,
}
NEWSLETTERS = (
    (datetime(2025, 9, 9, 14, tzinfo=UTC), "News from Otterby, September"),
    (datetime(2025, 10, 14, 14, tzinfo=UTC), "News from Otterby, October"),
    (datetime(2025, 11, 11, 15, tzinfo=UTC), "Warm coats, November"),
    (datetime(2025, 12, 9, 15, tzinfo=UTC), "Presents for paws"),
    (datetime(2026, 1, 13, 15, tzinfo=UTC), "A quiet January"),
    (datetime(2026, 2, 10, 15, tzinfo=UTC), "News from Otterby, February"),
    (datetime(2026, 3, 10, 14, tzinfo=UTC), "Spring is near"),
    (datetime(2026, 4, 7, 14, tzinfo=UTC), "News from Otterby, April"),
)
NEWSLETTER_REACHES, NEWSLETTER_HELD = 0.35, 0.20
SECOND_MESSAGE = {"Warm coats, November": 1.0, "Presents for paws": 2.2}
"""Campaigns of which half get another message, and how many times as often that one is clicked."""
GOALS = {"Presents for paws": 12, "Spring is near": 15}
"""Campaigns with a goal, by the share in per cent that should press a link: one reached, one missed."""
WITH_ORDER_STOP = {"order", "visit"}
REFUSED_ONE_IN, BOUNCED_ONE_IN = 70, 160
RETURNS = 30
USES_A_CODE = 0.5
Row = list[Any]


@dataclass
class Run:
    """One run of somebody through a sequence, as it was played."""

    play: int
    person: int
    entered: int
    hit: TriggerHit
    sent: list[Sent] = field(default_factory=list)
    refused: list[tuple[int, str, str]] = field(default_factory=list)
    state: str = "under way"
    cause: str | None = None
    ended: int | None = None
    position: Position | None = None


class History:
    """Plays the past, plants what messages change, and writes rows as the book keeps them."""

    def __init__(self, application: Application) -> None:
        self.application = application
        self.now, self.began = application.clock.now(), BEGAN
        self.low, self.high = int(self.began.timestamp()), int(self.now.timestamp())
        self.rows: dict[str, list[Row]] = {table: [] for table in TABLES}
        self.snapshot = application.snapshot()
        self.ids = self.snapshot.people.ids.tolist()
        with application.database.reading() as session:
            policy = send_policy_of(session, session.get_one(Shop, 1), self.now)
            around = around_of(session, policy)
            self.live: list[tuple[schema.Sequence, Plan]] = live_plans(session)
            people = list(session.scalars(select(Person).order_by(Person.id)))
            self.address = {one.id: {"email": one.email, "text": one.phone} for one in people}
            self.zones = {one.id: zone_of(one.zone or "America/New_York") for one in people}
            versions = session.execute(
                select(MessageVersion.message_id, func.max(MessageVersion.id)).group_by(
                    MessageVersion.message_id
                )
            )
            self.version_of = {message: version for message, version in versions}
            self.last_delivery = session.scalar(select(func.max(schema.Delivery.id))) or 0
            self.last_order = session.scalar(select(func.max(Order.id))) or 0
            self.agreed = set(
                session.scalars(
                    select(ConsentEntry.person_id).where(
                        ConsentEntry.channel == "email", ConsentEntry.state == "agreed"
                    )
                )
            )
            self._orders(session)
            self._written(session)
        self.holdout = Holdout(HELD_OUT, HELD_OUT_SINCE)
        self.policy, self.around = replace(policy, holdout=self.holdout), around
        self.keys = [key_of(template) for template in RINGING]
        self.extra: dict[int, list[int]] = defaultdict(list)

    def _orders(self, session: Any) -> None:
        self.bought: dict[int, list[tuple[int, int]]] = defaultdict(list)
        query = select(Order.person_id, Order.placed_at, Order.id).where(Order.cancelled_at.is_(None))
        for person, at, number in session.execute(query.order_by(Order.placed_at)):
            self.bought[person].append((int(at.timestamp()), number))
        self.orders = {one.id: one for one in session.scalars(select(Order))}
        self.lines: dict[int, list[OrderLine]] = defaultdict(list)
        for line in session.scalars(select(OrderLine)):
            self.lines[line.order_id].append(line)

    def _written(self, session: Any) -> None:
        """What stands in each version: its links and its offers, by channel."""
        shop = session.get_one(Shop, 1)
        self.links: dict[tuple[int, str], tuple[str, ...]] = {}
        self.offers_in: dict[tuple[int, str], list[int]] = {}
        for version in self.version_of.values():
            for channel in ("email", "text"):
                made = compiled_version(session, shop, version, channel, "")
                if made is not None:
                    self.links[version, channel] = made.links
                    self.offers_in[version, channel] = sorted(offers_in(made))
        self.offers = {one.id: one for one in session.scalars(select(schema.Offer))}
        self.worths = {
            offer.id: worth(session, offer, [Line(10**6)])
            for offer in self.offers.values()
            if terms_of(offer).kind == "item"
        }
        self.totals = {order.id: order.total_minor for order in self.orders.values()}
        self.departments = {order.id: order.department_id for order in self.orders.values()}
        self.given: dict[tuple[int, int, str], int] = {}
        self.redeemed: set[int] = set()

    # what was played

    def play(self) -> list[Run]:
        known = SequenceHistory(self.snapshot, self.policy, self.low - 800 * DAY, self.high)
        crossed = [
            trigger_hits(plan.start, self.snapshot, self.low, self.high, self.around) for _, plan in self.live
        ]
        scenes = [
            RehearsalScene(self.keys[number], tree_of(plan), one.rank, crossed=crossed[number], number=one.id)
            for number, (one, plan) in enumerate(self.live)
        ]
        letters = self._newsletters()
        found = rehearse(scenes, known, self.low, self.high, self.around, RATES, letters)
        return self._runs(found, crossed)

    def _runs(self, found: Rehearsal, crossed: list[list[TriggerHit]]) -> list[Run]:
        hits = {(number, hit.person, hit.at): hit for number, some in enumerate(crossed) for hit in some}
        runs: dict[tuple[int, int, int], Run] = {}
        for at, play, person in found.entered:
            runs[play, person, at] = Run(play, person, at, hits[play, person, at])
        for stay in found.stayed_out:
            if stay.cause == "held back":
                hit = hits[stay.play, stay.person, stay.at]
                runs[stay.play, stay.person, stay.at] = Run(
                    stay.play, stay.person, stay.at, hit, state="held back", ended=stay.at
                )
        for sent in found.sent:
            run = runs[sent.play, sent.person, sent.entered]
            # two reasons at one instant (twins with one birthday) are taken as one
            if all(one.step != sent.step for one in run.sent):
                run.sent.append(sent)
        for one in found.refused:
            runs[one.play, one.person, one.entered].refused.append((one.at, one.step, one.cause))
        for out in found.outs:
            run = runs[out.play, out.person, out.entered]
            run.state, run.cause, run.ended = out.state, out.cause or None, out.at
        for play, person, position in found.standing:
            runs[play, person, position.entered].position = position
        return sorted(runs.values(), key=lambda run: (run.entered, run.play, run.person))

    # what is planted

    def plant(self, runs: list[Run]) -> None:
        """People whom a message brings back order once more, and what would have followed is not sent."""
        by_person: dict[int, list[Run]] = defaultdict(list)
        for run in runs:
            by_person[run.person].append(run)
        for run in sorted((one for one in runs if one.sent), key=lambda one: one.sent[0].at):
            at = self._brought_back(run)
            if at is not None:
                for other in by_person[run.person]:
                    self._ends(other, at)

    def _brought_back(self, run: Run) -> int | None:
        if not run.sent:
            return None
        template, person = RINGING[run.play], self.ids[run.person]
        share, first = BROUGHT_BACK.get(template, 0.0), run.sent[0].at
        if uniform(self.keys[run.play], person, f"back {run.entered}") >= share:
            return None
        times = [at for at, _ in self.bought[person]] + self.extra[person]
        if any(first < at <= first + RETURNS * DAY for at in times):
            return None
        within = uniform(self.keys[run.play], person, f"day {run.entered}")
        zone = self.zones[person]
        day = zone.day(first + DAY) + int(within * 12)
        at = zone.instant(day, round((10 + 7 * uniform(self.keys[run.play], person, "hour")) * 3_600))
        if at >= self.high or bisect_right(self.bought[person], (at, 0)) == 0:
            return None
        self.extra[person].append(at)
        return at

    def _ends(self, run: Run, at: int) -> None:
        stops = {what.what for what in self.live[run.play][1].exit_events}
        if not stops & WITH_ORDER_STOP or run.state == "held back" or run.entered > at:
            return
        if run.ended is not None and run.ended <= at:
            return
        run.sent = [one for one in run.sent if one.at <= at]
        run.refused = [one for one in run.refused if one[0] <= at]
        run.state, run.cause, run.ended, run.position = "left", "stop: order", at, None

    # rows

    def write(self, runs: list[Run]) -> None:
        orders = self._extra_orders()
        for run in runs:
            self._enrolment(run)
            for sent in run.sent:
                self._delivery(run, sent, orders)
            told = {sent.step for sent in run.sent}
            for at, step, cause in run.refused:
                if step not in told:
                    self._withheld(run, at, step, cause)
                    told.add(step)
        self._refusals()

    def _extra_orders(self) -> dict[int, list[tuple[int, int]]]:
        """Made from the last purchase before. Returns by person (instant, number)."""
        made: dict[int, list[tuple[int, int]]] = defaultdict(list)
        number = self.last_order
        for at, person in sorted((at, person) for person, times in self.extra.items() for at in times):
            before = self.bought[person]
            like = self.orders[before[max(bisect_right(before, (at, 0)) - 1, 0)][1]]
            number += 1
            self.rows["orders"].append(
                [number, f"R{number:07}", person, like.department_id, at, 0, like.total_minor, "USD"]
            )
            self.rows["order_line"] += [
                [number, line.item_id, float(line.quantity), line.total_minor] for line in self.lines[like.id]
            ]
            self.totals[number], self.departments[number] = like.total_minor, like.department_id
            made[person].append((at, number))
        return made

    def _enrolment(self, run: Run) -> None:
        sequence, _ = self.live[run.play]
        at = run.position
        self.rows["enrolment"].append(
            [
                *(sequence.id, sequence.live_version_id, self.ids[run.person], run.hit.key, run.hit.anchor),
                *(run.entered, run.state, run.cause),
                at.step if at else None,
                at.due if at else None,
                int(at.settled) if at else 0,
                at.tried if at else None,
                ",".join(one.step for one in run.sent),
                "",
                "[]",
                run.ended,
            ]
        )

    def _delivery(self, run: Run, sent: Sent, orders: dict[int, list[tuple[int, int]]]) -> None:
        sequence, plan = self.live[run.play]
        person = self.ids[run.person]
        step = next(one for one in every_step(plan.steps) if one.id == sent.step)
        assert isinstance(step, MessageStep) and step.message is not None
        number = self._sent_row(
            "sequence", sequence.id, sent.step, run.hit.key, person, step.message, sent.channel, sent.at
        )
        own = [at for at, _ in orders.get(person, ()) if sent.at < at <= sent.at + 5 * DAY]
        version = self.version_of[step.message]
        self._events(number, self.keys[run.play], person, sent, own, self.links.get((version, sent.channel)))
        for offer in self.offers_in.get((version, sent.channel), ()):
            self._code(run, offer, number, sent, orders)

    def _code(
        self, run: Run, offer_id: int, delivery: int, sent: Sent, orders: dict[int, list[tuple[int, int]]]
    ) -> None:
        """One code a person, offer and run; about half of those who order in its time use it."""
        person = self.ids[run.person]
        in_run = run_of(self.live[run.play][0].id, run.hit.key)
        if (offer_id, person, in_run) in self.given:
            return
        offer, number = self.offers[offer_id], len(self.rows["offer_code"]) + 1
        self.given[offer_id, person, in_run] = number
        signs = count()
        code = make_code(lambda most: int(uniform("signs", number, str(next(signs))) * most))
        until = expires(terms_of(offer), datetime.fromtimestamp(sent.at, UTC), "America/New_York")
        over = int(until.timestamp()) if until else self.high
        self.rows["offer_code"].append(
            [number, offer_id, person, delivery, code, sent.at, over, terms_of(offer).uses, in_run]
        )
        later = sorted(
            (at, order)
            for at, order in [*self.bought[person], *orders.get(person, ())]
            if sent.at < at < min(over, self.high) and order not in self.redeemed
        )
        if later and uniform("uses a code", number, in_run) < USES_A_CODE:
            self._redeemed(number, offer, *later[0])

    def _redeemed(self, code: int, offer: schema.Offer, at: int, order: int) -> None:
        total = self.totals[order]
        line = Line(total, None, None, self.departments[order])
        found = self.worths.get(offer.id) or given(terms_of(offer), [line])
        if found.problem:
            return
        self.redeemed.add(order)
        self.rows["offer_code"][code - 1][7] -= 1
        self.rows["redemption"].append([code, at, "Till", total, found.benefit, found.cost, order])

    def _sent_row(
        self, kind: str, origin: int, step: str, key: str, person: int, message: int, channel: str, at: int
    ) -> int:
        number = self.last_delivery + len(self.rows["delivery"]) + 1
        text = channel == "text"
        token = f"lived{number:06}{round(uniform(f'token {kind}', number, str(at)) * 1e8):08}"
        self.rows["delivery"].append(
            [
                *(number, kind, origin, step, key, person, self.version_of[message], channel),
                *(self.address[person][channel] or "", token, "sent", None, at, 1, at, at),
                *(1 if text else None, 2 if text else None),
            ]
        )
        return number

    def _withheld(self, run: Run, at: int, step_id: str, cause: str) -> None:
        sequence, plan = self.live[run.play]
        step = next((one for one in every_step(plan.steps) if one.id == step_id), None)
        if not isinstance(step, MessageStep) or step.message is None:
            return
        number = self.last_delivery + len(self.rows["delivery"]) + 1
        person = self.ids[run.person]
        self.rows["delivery"].append(
            [
                *(number, "sequence", sequence.id, step_id, run.hit.key, person),
                *(self.version_of[step.message], step.channels[0], None, f"lived{number:06}w"),
                *(str(WITHHELD), cause, at, 0, None, None, None, None),
            ]
        )

    def _events(
        self,
        number: int,
        key: str,
        person: int,
        sent: Sent,
        own: list[int],
        links: tuple[str, ...] | None,
        times: float = 1.0,
    ) -> None:
        """As drawn when it was played; whoever it brought back has mostly pressed a link before."""
        did = {
            act
            for act in ("opened", "clicked")
            if uniform(key, person, f"{act} {sent.step}") < times * RATES.get((sent.channel, act), 0.0)
        }
        at = sent.at + REACTS_AFTER
        if own and uniform(key, person, f"pressed {sent.at}") < 0.8:
            did.add("clicked")
            at = min(at, own[0] - 600)
        if "clicked" in did and sent.channel == "email":
            did.add("opened")
        for act in sorted(did, reverse=True):
            if at < self.high:
                link, where = self._link(number, links) if act == "clicked" else (None, None)
                self.rows["delivery_event"].append([number, act, at, link, where])

    def _link(self, number: int, links: tuple[str, ...] | None) -> tuple[int, str | None]:
        """Which was pressed: the first three times as often as the second, and so on."""
        drawn, place = uniform("which link", number, "pressed"), 0
        while drawn >= 0.75 and place + 1 < len(links or ()):
            drawn, place = (drawn - 0.75) / 0.25, place + 1
        where = links[place] if links else None
        return place, where[:500] if where and "{{" not in where else None

    # newsletters

    def _newsletters(self) -> list[tuple[int, int]]:
        """Writes the campaigns. Returns (instant, person number) of what they sent."""
        went, numbers = [], {person: number for number, person in enumerate(self.ids)}
        for at, (when, name) in enumerate(NEWSLETTERS):
            campaign, second = 2 + at, int(when.timestamp())
            self.rows["campaign"].append(
                [
                    *(campaign, name, 1, 2, self.version_of[2], '["email"]'),
                    json.dumps(self._campaign_plan(name)),
                    *("sent", second - 3_600, second, second, "Ida Marsh"),
                ]
            )
            for person in sorted(self.agreed):
                key = f"newsletter {campaign}"
                known = [moment for moment, _ in self.bought[person] if moment < second]
                if (
                    not known
                    or not self.address[person]["email"]
                    or uniform(key, person, "gets it") > NEWSLETTER_REACHES
                ):
                    continue
                if self.holdout.holds(person, when.date()):
                    continue
                if uniform(key, person, "held back") < NEWSLETTER_HELD:
                    self._held_row(campaign, person, second)
                    continue
                is_second = name in SECOND_MESSAGE and uniform(key, person, "which") < 0.5
                message = 1 if is_second else 2
                number = self._sent_row("campaign", campaign, "", "", person, message, "email", second)
                went.append((second, numbers[person]))
                times = SECOND_MESSAGE[name] if is_second else 1.0
                self._events(
                    number,
                    key,
                    person,
                    Sent(second, 0, numbers[person], "", "email", 0),
                    [],
                    self.links.get((self.version_of[message], "email")),
                    times,
                )
        return went

    def _campaign_plan(self, name: str) -> dict[str, Any]:
        variants = [{"message": 1, "share": 50}] if name in SECOND_MESSAGE else []
        plan = {"held_back": round(100 * NEWSLETTER_HELD), "engaged_only": False, "variants": variants}
        share = GOALS.get(name)
        return plan if share is None else plan | {"goal": {"what": "clicked", "share": share, "days": 7}}

    def _held_row(self, campaign: int, person: int, at: int) -> None:
        number = self.last_delivery + len(self.rows["delivery"]) + 1
        self.rows["delivery"].append(
            [
                *(number, "campaign", campaign, "", "", person, self.version_of[2], "email", None),
                *(f"lived{number:06}h", str(WITHHELD), "held back", at, 0, None, None, None, None),
            ]
        )

    # what people answered

    def _refusals(self) -> None:
        """Some unsubscribe with, or cannot be reached by, the last email that they got."""
        last: dict[int, Row] = {}
        for row in self.rows["delivery"]:
            before = last.get(row[5])
            if row[7] == "email" and row[10] == "sent" and (before is None or row[15] > before[15]):
                last[row[5]] = row
        for person, row in sorted(last.items()):
            at, drawn = row[15] + 2 * REACTS_AFTER, uniform("refusals", person, "email")
            if at >= self.high:
                continue
            if drawn < 1 / REFUSED_ONE_IN:
                self.rows["delivery_event"].append([row[0], "refused", at, None, None])
                self.rows["consent_entry"].append([person, "email", "refused", at, "unsubscribe link", ""])
        answers = [
            row
            for row in self.rows["delivery"]
            if row[10] == "sent" and uniform("answers", row[0], "wrote") < 0.0015
        ]
        for place, row in enumerate(answers[-24:]):
            waits = place >= 21
            said = ANSWERS[place % len(ANSWERS)]
            at = row[15] + 3 * REACTS_AFTER
            self.rows["reply"].append(
                [
                    *(row[7], f"lived-{row[0]}", row[8], row[5], row[0], 1, at, "", said, "answer"),
                    *("new" if waits else "done", None if waits else at + 7_200),
                ]
            )
            self.rows["delivery_event"].append([row[0], "replied", at, None, None])


ANSWERS = (
    "Thank you for thinking of us! We will be in on Saturday.",
    "Do you still have the salmon biscuits?",
    "She is doing so well on the new food.",
    "Could you move our appointment to the week after?",
    "We moved away last month, sorry to leave you.",
    "Is the quiet hour still on Tuesdays?",
)
COLUMNS = {
    "campaign": "id name segment_id message_id message_version_id channels plan state made_at started_at"
    " ended_at by",
    "orders": "id external_id person_id department_id placed_at refunded_minor total_minor currency",
    "order_line": "order_id item_id quantity total_minor",
    "enrolment": "sequence_id version_id person_id key anchor_at entered_at state cause step due_at settled"
    " tried_at sent awaits trail ended_at",
    "delivery": "id origin_kind origin_id step occurrence person_id message_version_id channel address token"
    " state cause due_at attempts handed_at sent_at parts cost_minor",
    "delivery_event": "delivery_id kind at link detail",
    "offer_code": "id offer_id person_id delivery_id code issued_at expires_at uses_left run",
    "redemption": "code_id at by purchase_minor given_minor cost_minor order_id",
    "consent_entry": "person_id channel state at source wording",
    "reply": "channel network_id address person_id delivery_id inward at subject text kind state done_at",
}


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="loyalbell-lived-") as folder:
        application = build_demo(Path(folder) / "demo", held_back=True)
        history = History(application)
        runs = history.play()
        history.plant(runs)
        history.write(runs)
        application.close()
    kept = {table: {"columns": COLUMNS[table].split(), "rows": history.rows[table]} for table in TABLES}
    data = json.dumps(kept, ensure_ascii=False, separators=(",", ":")).encode()
    FILE.write_bytes(gzip.compress(data, 9, mtime=0))
    for table in TABLES:
        print(f"{table:>16} {len(history.rows[table]):>7,}")
    print(f"{FILE.stat().st_size / 1e6:.1f} MB")


if __name__ == "__main__":
    main()
