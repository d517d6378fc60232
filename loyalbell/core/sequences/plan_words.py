"""A plan in plain words."""

from dataclasses import dataclass, field

from loyalbell.core.clock.send_windows import EVERY_DAY, SendWindow
from loyalbell.core.history.money import say_money
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.sentence import say_rule
from loyalbell.core.sequences import plan as p

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
CHANNEL_WORDS = {"email": "email", "text": "text", "chat": "chat"}
WHAT_WORDS: dict[str, str] = {
    "order": "an order",
    "order confirmed": "an order confirmed",
    "order shipped": "an order shipped",
    "order delivered": "an order delivered",
    "order cancelled": "an order cancelled",
    "visit": "a visit",
    "booking": "an appointment booked",
    "appointment kept": "an appointment kept",
    "appointment missed": "an appointment missed",
    "appointment cancelled": "an appointment cancelled",
    "membership": "a membership begun",
    "tag": "a tag put on",
    "event": "an event",
    "answer": "a review or an answer",
    "opened": "a message of ours opened",
    "clicked": "a link of ours pressed",
    "replied": "an answer to us",
}


@dataclass(frozen=True)
class Names:
    """What the ids in a plan are called."""

    saying: Saying
    messages: dict[int, str] = field(default_factory=dict)
    offers: dict[int, str] = field(default_factory=dict)
    sequences: dict[int, str] = field(default_factory=dict)


def say_days(weekdays: tuple[int, ...]) -> str:
    """``any day``, ``Mon–Fri``, ``Tue–Thu``, ``Mon, Thu``."""
    kept = sorted(set(weekdays))
    if kept == list(EVERY_DAY):
        return "any day"
    if len(kept) > 2 and kept[-1] - kept[0] == len(kept) - 1:
        return f"{DAYS[kept[0]]}–{DAYS[kept[-1]]}"
    return ", ".join(DAYS[at] for at in kept)


def say_clock(clock: str) -> str:
    return clock.removeprefix("0")


def say_release(release: SendWindow) -> str:
    if release.kind == "at once":
        return "at once"
    days = say_days(release.weekdays)
    if release.kind == "exact":
        return f"at exactly {say_clock(release.begins)}, {days}"
    return f"{days}, {say_clock(release.begins)} to {say_clock(release.ends)}"


def say_channels(channels: tuple[str, ...]) -> str:
    """``a text, or an email if none is agreed``."""
    first, *rest = (CHANNEL_WORDS[one] for one in channels)
    article = "an" if first == "email" else "a"
    return f"{article} {first}" + "".join(f", else {'an' if one == 'email' else 'a'} {one}" for one in rest)


def say_event_filter(what: p.EventFilter, names: Names) -> str:
    catalogue = names.saying.catalogue
    said = WHAT_WORDS[what.what]
    if what.nth is not None:
        said = f"their {say_nth(what.nth)} {said.removeprefix('an ').removeprefix('a ')}"
    if what.what == "tag":
        said = f"the tag “{catalogue.tags.get(what.tag or 0, 'deleted')}” put on"
    if what.what == "event":
        said = f"the event “{what.event}”"
    of = [
        *(catalogue.items.get(at, ("an item no longer on file", "", 0))[0] for at in what.items),
        *what.categories,
        *(catalogue.departments.get(at, "") for at in what.departments),
    ]
    if of:
        said += f" of {' or '.join(one for one in of if one)}"
    if what.others:
        said += " of what no other sequence names"
    if what.least is not None:
        said += f" of {say_money(what.least, names.saying.currency)} or more"
    if what.low > 0 or what.high < 100:
        said += f" scored {what.low} to {what.high} %"
    return said


def say_nth(nth: int) -> str:
    return {1: "first", 2: "second", 3: "third"}.get(nth, f"{nth}th")


def say_start(start: p.Start, names: Names) -> str:
    if isinstance(start, p.OnEvent):
        return f"Starts with {say_event_filter(start.event_filter, names)}"
    if isinstance(start, p.OnInactivity):
        return (
            f"Starts {start.days} days after {say_event_filter(start.event_filter, names)}, if nothing of the"
            " kind came since"
        )
    if isinstance(start, p.OnDate):
        return f"Starts {say_offset(start.days)} {say_date(start.which)} at {say_clock(start.at)}"
    if isinstance(start, p.OnSegment):
        who = say_rule(start.rule, names.saying).removeprefix("Customers who ").removeprefix("Customers ")
        when = {
            "joins": "when it newly holds that they",
            "leaves": "when it no longer holds that they",
            "is in": "for those who then",
        }[start.way]
        return f"Starts, each day at {say_clock(start.at)}, {when} {who}"
    return "Starts by hand"


def say_offset(days: int) -> str:
    if not days:
        return "on"
    count = f"{abs(days)} day{'s' if abs(days) != 1 else ''}"
    return f"{count} {'before' if days < 0 else 'after'}"


def say_date(which: str) -> str:
    known = {
        "birthday": "their birthday",
        "companion": "a companion’s birthday",
        "renewal": "the day their membership renews",
        "appointment": "an appointment",
    }
    return known.get(
        which,
        (
            f"the birthday of their {which.partition(':')[2]}"
            if which.startswith("companion:")
            else f"their “{which}”"
        ),
    )


def say_wait(wait: p.WaitStep, names: Names) -> str:
    if wait.kind == "for":
        return f"Rest {wait.span}"
    if wait.kind == "until time":
        return f"Rest until {say_days(wait.weekdays)}, {say_clock(wait.at)}"
    if wait.kind == "until date":
        return f"Rest until {wait.day or 'a day still to be said'}, {say_clock(wait.at)}"
    if wait.kind == "until event":
        return f"Rest until {say_event_filter(wait.event_filter, names)}, {wait.span} at most"
    return f"Rest until {wait.span} before the date that brought them in"


def say_step(step: p.AnyStep, names: Names) -> str:
    if isinstance(step, p.WaitStep):
        return say_wait(step, names)
    if isinstance(step, p.MessageStep):
        name = names.messages.get(step.message or 0, "a message still to be chosen")
        return f"Send {say_channels(step.channels)}: {name}, {say_release(step.release)}"
    if isinstance(step, p.ForkStep):
        return "Choose the way by what holds"
    if isinstance(step, p.RandomSplitStep):
        return f"Draw lots: {' to '.join(f'{arm.share} %' for arm in step.arms)}"
    return _say_small(step, names)


def _say_small(step: p.AnyStep, names: Names) -> str:
    catalogue = names.saying.catalogue
    if isinstance(step, p.OfferStep):
        return f"Give a code of {names.offers.get(step.offer or 0, 'an offer still to be chosen')}"
    if isinstance(step, p.SetStep):
        if step.tag is not None:
            return (
                f"{'Take off' if step.off else 'Put on'} the tag “{catalogue.tags.get(step.tag, 'deleted')}”"
            )
        field_name = catalogue.fields.get(step.field or 0, ("a field still to be chosen", ""))[0]
        return f"Set {field_name} to “{step.value}”" if step.value else f"Empty {field_name}"
    if isinstance(step, p.NotifyStaffStep):
        return f"Tell the staff: {step.words or '…'}"
    if isinstance(step, p.HookStep):
        return f"Tell other programs{f': {step.name}' if step.name else ''}"
    if isinstance(step, p.HandOffStep):
        return f"Add them to the hand-off list “{step.list or '…'}”"
    if isinstance(step, p.BringStep):
        return (
            "Bring them into"
            f" {names.sequences.get(step.sequence or 0, 'another sequence, still to be chosen')} as well"
        )
    if isinstance(step, p.StopContactStep):
        return f"Stop contacting them by {', '.join(step.channels)}"
    return "End"


def say_arm(arm: p.Arm, names: Names, steps: dict[str, str]) -> str:
    """``steps``: the names of messages by step identity."""
    if arm.rule is not None:
        who = (
            say_rule(arm.rule, names.saying).removeprefix("Customers ")
            if arm.rule.root.lines
            else "everybody"
        )
        return f"{'none of those ' if arm.denied else ''}{who}"
    about = f"“{steps.get(arm.step, 'a step that is gone')}”" if arm.step else "the last message"
    did = {"got": "got", "opened": "opened", "clicked": "pressed a link in", "replied": "answered"}[
        str(arm.did)
    ]
    if arm.denied:
        did = {
            "got": "did not get",
            "opened": "did not open",
            "clicked": "pressed no link in",
            "replied": "did not answer",
        }[str(arm.did)]
    return f"who {did} {about}"


def say_reentry(again: p.ReentryPolicy) -> str:
    if again.kind == "never":
        return "Nobody comes in twice"
    if again.kind == "each":
        return "They come in once for each of them"
    return f"They may come in again after {again.days} days"


def say_exits(plan: p.Plan, names: Names) -> str:
    said = [say_event_filter(one, names) for one in plan.exit_events]
    if plan.exit_condition is not None:
        said.append("meeting “" + say_rule(plan.exit_condition, names.saying) + "”")
    return f"{' or '.join(said)} ends it, asked before each message" if said else "Nothing ends it early"
