"""Words that the parts of a plan share."""

from dataclasses import dataclass, field

from loyalbell.core.channels import TYPES
from loyalbell.core.clock.send_windows import EVERY_DAY, SendWindow
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.sequences.event_filter import EventFilter

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
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
    "answer": "a review or a survey answer",
    "opened": "one of our messages opened",
    "clicked": "a click on one of our links",
    "replied": "a reply to us",
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
    return ", else ".join(TYPES[channel].with_article for channel in channels)


def say_event_filter(what: EventFilter, names: Names) -> str:
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
        said += f" of {names.saying.money(what.least)} or more"
    if what.low > 0 or what.high < 100:
        said += f" scored {what.low} to {what.high} %"
    return said


def say_nth(nth: int) -> str:
    return {1: "first", 2: "second", 3: "third"}.get(nth, f"{nth}th")
