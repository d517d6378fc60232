"""Sequences to start from, each opening as a finished draft filled from this shop's rhythm, offers and
catalogue.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import select

from loyalbell.core.messages import content as c
from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.application import Application
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import message_templates
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.rhythm.queries import shop_gap
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.settings.channels import CareSettings, TextSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.schema import Message, Offer

Data = dict[str, Any]
DAYTIME = {"kind": "window", "weekdays": [1, 2, 3], "begins": "10:00", "ends": "12:00"}
ANY_DAY = {"kind": "window", "weekdays": [0, 1, 2, 3, 4, 5, 6], "begins": "10:00", "ends": "18:00"}
TEXT_FIRST = ["text", "email"]
ORDER, VISIT = {"what": "order"}, {"what": "visit"}
CAME = [ORDER, VISIT]


@dataclass(frozen=True)
class SequenceTemplate:
    key: str
    name: str
    why: str
    build: Callable[["Making"], Data]


@dataclass
class Making:
    """One draft in the making: gives steps their identities, and messages from the library or from their
    template.
    """

    application: Application
    by: str
    count: int = 0
    known: dict[str, int] = field(default_factory=dict)

    def _id(self, sign: str) -> str:
        self.count += 1
        return f"{sign}{self.count}"

    def message(self, key: str, channels: list[str] | None = None, release: Data | None = None) -> Data:
        return {
            "do": "message",
            "id": self._id("m"),
            "message": self.letter(key),
            "channels": channels or ["email"],
            "release": release or ANY_DAY,
        }

    def wait(self, amount: int, unit: str = "days") -> Data:
        return {"do": "wait", "id": self._id("w"), "span": {"amount": amount, "unit": unit}}

    def step(self, do: str, **more: Any) -> Data:
        return {"do": do, "id": self._id("s"), **more}

    def letter(self, key: str) -> int:
        """The message made from the template earlier, or a new one; its offer is one that can be given."""
        if key not in self.known:
            template = message_templates.find(key)
            assert template is not None
            with self.application.database.reading() as session:
                there = session.scalar(select(Message.id).where(Message.name == template.name))
                offer = session.scalar(select(Offer.id).where(Offer.archived_at.is_(None)).order_by(Offer.id))
            letterhead = message_queries.letterheads(self.application)
            content = message_templates.with_letterhead(
                template.content, letterhead[0].id if letterhead else None
            )
            self.known[key] = there or message_commands.keep(
                self.application, None, template.name, with_offer(content, offer), self.by, template.purpose
            )
        return self.known[key]

    def waking(self, clock: str) -> str:
        """The time, or the end of the shop's quiet hours where that comes later in the morning."""
        ends = loaded(self.application, CareSettings).quiet_ends
        return max(clock, ends) if clock < "12:00" else clock

    def can_text(self) -> bool:
        """Whether a text network has been set up."""
        return bool(loaded(self.application, TextSettings).url)

    def gap(self) -> int:
        """The shop's typical days between two purchases."""
        return max(
            round(shop_gap(self.application, self.application.snapshot(), self.application.clock.now())), 1
        )


def with_offer(content: c.MessageContent, offer: int | None) -> c.MessageContent:
    """Blocks that wait for an offer get this one."""
    data = content.model_dump(mode="json")
    for writing in data["writings"]:
        for block in writing.get("blocks", ()):
            if block["kind"] == "offer" and block.get("offer") is None:
                block["offer"] = offer
    return c.read_content(data)


def _rule(*lines: Data) -> Data:
    return {"version": 1, "root": {"match": "all", "lines": list(lines)}}


def _after(*what: Data) -> Data:
    return {"on": "event", "happening": what[0]}


def _win_back_steps(m: Making, days: int) -> list[Data]:
    return [m.wait(days), *_win_back_messages(m)]


def _win_back_messages(m: Making, first: list[str] = TEXT_FIRST) -> list[Data]:
    return [
        m.message("win-back", first, DAYTIME),
        m.wait(3),
        m.message("win-back-offer"),
        m.wait(5),
        m.message("win-back-last"),
        m.wait(5),
        m.message("goodbye"),
        m.wait(7),
        m.step(
            "fork",
            arms=[{"did": "clicked", "steps": []}],
            otherwise=[m.step("stop contact", channels=["email"])],
        ),
    ]


def _win_back(m: Making) -> Data:
    short, long = 2 * m.gap(), round(2.5 * m.gap())
    arms = [
        {"name": f"after {short} days", "share": 50, "steps": _win_back_steps(m, short)},
        {"name": f"after {long} days", "share": 50, "steps": _win_back_steps(m, long)},
    ]
    return {
        "start": _after(ORDER),
        "again": {"kind": "each"},
        "stops": CAME,
        "held_back": 10,
        "steps": [m.step("lot", arms=arms)],
        "goal": {"happening": ORDER, "days": 30, "share": 15},
    }


def _past_the_line(m: Making, days: int) -> Data:
    """For those whose last order is so many days ago: who is past that already can be brought in, paced."""
    away = _rule({"about": "orders", "measure": "last", "comparison": "at least", "value": days})
    return {
        "start": {"on": "segment", "way": "joins", "rule": away, "at": "09:00"},
        "again": {"kind": "after", "days": max(90, days)},
        "stops": CAME,
        "held_back": 10,
        "steps": _win_back_messages(m, TEXT_FIRST if m.can_text() else ["email"]),
        "goal": {"happening": ORDER, "days": 30, "share": 15},
    }


def _late_regulars(m: Making) -> Data:
    """On any day: a window of few weekdays would gather those of the others into a load that the guard must
    hold.
    """
    late = _rule({"about": "band", "bands": ["late"]}, {"about": "orders", "value": 3})
    start = {"on": "segment", "way": "joins", "rule": late, "at": "09:00"}
    return {
        "start": start,
        "again": {"kind": "after", "days": 90},
        "stops": CAME,
        "steps": [m.message("win-back", TEXT_FIRST), m.wait(7), m.message("win-back-offer")],
    }


def _birthday(m: Making) -> Data:
    noon = {"kind": "exact", "begins": "12:00"}
    steps = [
        m.message("birthday"),
        m.step("wait", kind="until near", span={"amount": 0, "unit": "days"}),
        m.message("birthday-day", TEXT_FIRST, noon),
    ]
    return {
        "start": {"on": "date", "which": "birthday", "days": -14, "at": "09:00"},
        "again": {"kind": "each"},
        "steps": steps,
    }


def _companion(m: Making) -> Data:
    return {
        "start": {"on": "date", "which": "companion", "days": -7, "at": "09:00"},
        "again": {"kind": "each"},
        "steps": [m.message("companion-birthday")],
    }


def _anniversary(m: Making) -> Data:
    years = {
        "on": "segment",
        "way": "is in",
        "rule": _rule({"about": "orders", "measure": "first", "comparison": "exactly", "value": 365}),
        "at": "10:00",
    }
    return {"start": years, "steps": [m.message("anniversary")]}


def _thanks(m: Making) -> Data:
    return {
        "start": _after(ORDER),
        "again": {"kind": "after", "days": 30},
        "steps": [m.wait(1), m.message("thanks")],
    }


def _review(m: Making) -> Data:
    return {
        "start": _after({"what": "order", "nth": 1}),
        "stops": [{"what": "answer"}],
        "steps": [m.wait(7), m.message("review")],
    }


def _item_thanks(m: Making) -> Data:
    return {
        "start": _after({"what": "order", "others": True, "nth": 1}),
        "stops": [{"what": "answer"}],
        "steps": [m.wait(5), m.message("review", TEXT_FIRST)],
    }


def _refill(m: Making) -> Data:
    with m.application.database.reading() as session:
        lasting = session.execute(
            select(schema.Item.id, schema.Item.lasts_days)
            .where(schema.Item.lasts_days > 0)
            .order_by(schema.Item.lasts_days)
        ).all()
    days = (lasting[len(lasting) // 2][1] or 30) if lasting else 30
    items = [at for at, lasts in lasting if lasts == days]
    again = {"what": "order", "items": items}
    return {
        "start": _after(again),
        "again": {"kind": "each"},
        "stops": [again],
        "steps": [m.wait(max(days - 5, 1)), m.message("refill", TEXT_FIRST)],
    }


def _second(m: Making) -> Data:
    once = _rule({"about": "orders", "comparison": "exactly", "value": 1})
    steps = [
        m.step(
            "fork",
            arms=[
                {
                    "rule": _rule({"about": "reach", "channel": "email"}),
                    "steps": [m.message("second"), m.wait(7)],
                }
            ],
            otherwise=[m.step("hand off", list="Call or write by hand")],
        ),
    ]
    return {
        "start": {"on": "lack", "happening": {"what": "order"}, "days": 30, "at": "10:00"},
        "only": once,
        "stops": [ORDER],
        "steps": steps,
    }


def _vip(m: Making) -> Data:
    best = _rule({"about": "top", "percent": 10, "days": 365})
    steps = [m.message("vip"), m.wait(1), m.message("new-for-vip"), m.wait(1), m.message("expires")]
    return {
        "start": {"on": "segment", "way": "joins", "rule": best, "at": "09:00"},
        "again": {"kind": "after", "days": 180},
        "stops": [ORDER],
        "steps": steps,
    }


def _recall(m: Making) -> Data:
    year_on = _rule(
        {"about": "visits", "measure": "last", "comparison": "exactly", "value": 365},
        {"about": "appointments", "state": "ahead", "comparison": "exactly", "value": 0},
    )
    start = {"on": "segment", "way": "is in", "rule": year_on, "at": "09:00"}
    return {
        "start": start,
        "again": {"kind": "after", "days": 300},
        "stops": [{"what": "booking"}, VISIT],
        "steps": [m.message("recall", TEXT_FIRST, ANY_DAY), m.wait(14), m.message("recall")],
    }


def _reminder(m: Making) -> Data:
    start = {"on": "date", "which": "appointment", "days": -1, "at": "10:00"}
    return {
        "start": start,
        "again": {"kind": "each"},
        "stops": [{"what": "appointment cancelled"}],
        "steps": [m.message("reminder", TEXT_FIRST, {"kind": "at once"})],
    }


def _missed(m: Making) -> Data:
    return {
        "start": _after({"what": "appointment missed"}),
        "again": {"kind": "each"},
        "stops": [{"what": "booking"}],
        "steps": [m.wait(2, "hours"), m.message("missed", TEXT_FIRST)],
    }


def _renewal(m: Making) -> Data:
    yearly = _rule({"about": "membership", "state": "runs", "term": "yearly"})
    return {
        "start": {"on": "date", "which": "renewal", "days": -3, "at": "10:00"},
        "only": yearly,
        "again": {"kind": "each"},
        "steps": [m.message("renewal", release={"kind": "at once"})],
    }


def _welcome(m: Making) -> Data:
    start = {
        "on": "segment",
        "way": "joins",
        "rule": _rule({"about": "consent", "channel": "email", "state": "agreed"}),
        "at": "09:00",
    }
    return {"start": start, "steps": [m.message("welcome", release={"kind": "at once"})]}


def _keep_in_touch(m: Making) -> Data:
    steps = [m.wait(1), m.message("keep-in-touch")]
    for _ in range(5):
        steps += [m.wait(30), m.message("keep-in-touch")]
    return {"start": {"on": "hand"}, "again": {"kind": "after", "days": 180}, "steps": steps}


def _dated_series(m: Making) -> Data:
    steps = [m.message("welcome", release={"kind": "at once"})]
    for days, clock in ((2, "07:55"), (3, "11:05"), (14, "09:15")):
        steps += [
            m.wait(days),
            m.message("keep-in-touch", release={"kind": "exact", "begins": m.waking(clock)}),
        ]
    return {"start": {"on": "hand"}, "steps": steps}


def _never_reacts(m: Making) -> Data:
    weeks = {"kind": "last days", "days": 504}
    silent = _rule(
        {"about": "consent", "channel": "email", "state": "agreed"},
        {"about": "messages", "act": "received", "channel": "email", "period": weeks},
        {"about": "messages", "act": "opened", "comparison": "exactly", "value": 0, "period": weeks},
        {"about": "messages", "act": "clicked", "comparison": "exactly", "value": 0, "period": weeks},
        {"about": "orders", "comparison": "exactly", "value": 0, "period": weeks},
    )
    end = m.step(
        "fork", arms=[{"did": "clicked", "steps": []}], otherwise=[m.step("stop contact", channels=["email"])]
    )
    return {
        "start": {"on": "segment", "way": "joins", "rule": silent, "at": "09:00"},
        "stops": CAME,
        "steps": [m.message("never-reacts"), m.wait(14), end],
    }


def _tiers(m: Making) -> Data:
    steps: list[Data] = []
    for weeks, key in ((2, "win-back"), (2, "win-back-offer"), (4, "vip")):
        steps += [m.wait(weeks, "weeks"), m.message(key, TEXT_FIRST, DAYTIME)]
    return {"start": _after(VISIT), "again": {"kind": "each"}, "stops": CAME, "steps": steps}


def _re_engage(m: Making) -> Data:
    quiet = _rule({"about": "band", "bands": ["quiet"]})
    steps = [m.message("win-back", ["chat", "text"], DAYTIME), m.wait(5), m.message("win-back-offer")]
    return {
        "start": {"on": "segment", "way": "joins", "rule": quiet, "at": "09:00"},
        "again": {"kind": "after", "days": 180},
        "stops": CAME,
        "steps": steps,
    }


OCCASIONS: tuple[SequenceTemplate, ...] = (
    SequenceTemplate("blank", "From nothing", "your own, step by step", lambda m: {"steps": []}),
    SequenceTemplate(
        "win-back",
        "Win them back",
        "four words after an order that nothing followed, two waits tested against each other",
        _win_back,
    ),
    SequenceTemplate(
        "late-regulars",
        "Late regulars",
        "as soon as a regular is late against their own rhythm",
        _late_regulars,
    ),
    SequenceTemplate(
        "re-engage", "Quiet ones", "chat or text first, then an email, until they are back", _re_engage
    ),
    SequenceTemplate(
        "tiers", "2, 4 and 8 weeks", "after each visit, each offer better than the one before", _tiers
    ),
    SequenceTemplate("birthday", "Birthday", "a gift two weeks before, a word at noon on the day", _birthday),
    SequenceTemplate(
        "companion", "A companion’s birthday", "a week before the day of whom they care for", _companion
    ),
    SequenceTemplate("anniversary", "A year with us", "a year after their first order", _anniversary),
    SequenceTemplate("thanks", "Thanks for an order", "the day after, at most once a month", _thanks),
    SequenceTemplate("review", "Ask for a review", "a week after the first purchase only", _review),
    SequenceTemplate(
        "review-others", "Review of everything else", "for what no other sequence names", _item_thanks
    ),
    SequenceTemplate("refill", "Running out", "before what they bought is used up", _refill),
    SequenceTemplate(
        "second",
        "Second purchase",
        "a month after the only order; a list to call where there is no address",
        _second,
    ),
    SequenceTemplate("vip", "Our best customers", "thanks, what is new, and a last call in three days", _vip),
    SequenceTemplate(
        "recall", "A year on, nothing booked", "on the day a year after the last visit", _recall
    ),
    SequenceTemplate("reminder", "Appointment reminder", "the day before", _reminder),
    SequenceTemplate("missed", "Missed appointment", "two hours after", _missed),
    SequenceTemplate("renewal", "Membership renewal", "three days before, yearly terms only", _renewal),
    SequenceTemplate("welcome", "Welcome", "when they have agreed to emails", _welcome),
    SequenceTemplate("keep-in-touch", "Keep in touch", "six monthly messages", _keep_in_touch),
    SequenceTemplate("dated", "A dated series", "four messages at their own times of the day", _dated_series),
    SequenceTemplate(
        "never-reacts", "Goodbye, unless you stay", "for those who agreed and never open", _never_reacts
    ),
)


def make(application: Application, key: str, by: str) -> int | None:
    """A kept draft of an occasion with its messages in the library.

    Its id, or ``None`` for an unknown one.
    """
    found = next((occasion for occasion in OCCASIONS if occasion.key == key), None)
    if found is None:
        return None
    plan = read_plan(found.build(Making(application, by)))
    return sequence_commands.keep(
        application, None, _free_name(application, found.name if key != "blank" else "New sequence"), plan, by
    )


def make_win_back(application: Application, days: int, by: str) -> int:
    """A kept draft that wins back whose last order is ``days`` days ago or longer; its id."""
    plan = read_plan(_past_the_line(Making(application, by), days))
    name = _free_name(application, f"Win back after {days} days")
    return sequence_commands.keep(application, None, name, plan, by)


def _free_name(application: Application, name: str) -> str:
    with application.database.reading() as session:
        taken = {one.lower() for one in session.scalars(select(schema.Sequence.name))}
    return next(
        one for one in (name, *(f"{name} {at}" for at in range(2, 1_000))) if one.lower() not in taken
    )
