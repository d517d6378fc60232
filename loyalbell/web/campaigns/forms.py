"""A campaign's plan out of the form it is written in."""

from datetime import date, datetime, time
from typing import Any

from starlette.datastructures import FormData

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.core.clock.local_time import at_local
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.web.request import number_of, text_of

USUAL_TIME = "10:00"


def plan_from(form: FormData, zone: str) -> CampaignPlan:
    """Raises ``ValueError``, also as ``CannotSend``."""
    often = text_of(form, "often", "once")
    plan: dict[str, Any] = {
        "exclude": _numbers(form, "exclude"),
        "engaged_only": "engaged_only" in form,
        "engaged_days": number_of(form, "engaged_days") or 120,
        "held_back": _number(form, "held_back", "how many per cent are held back") or 0,
        "at": _first(form, zone),
        "more": _more(form, zone) if often == "dates" else (),
        "repeat": _repeat(form) if often == "repeat" else None,
        "again": "again" in form,
        "pacing": _pacing(form) if "paced" in form else None,
        "parted_by": text_of(form, "parted_by", "share"),
        "variants": _variants(form),
        "goal": _goal(form) if "has_goal" in form else None,
    }
    if often == "dates" and not plan["more"]:
        raise CannotSend("Give at least one more day, or choose once.")
    if plan["more"] and plan["at"] is None:
        raise CannotSend("Say on which day it first goes out, then on which others.")
    return CampaignPlan.model_validate(plan)


def _numbers(form: FormData, name: str) -> list[int]:
    return [int(str(one)) for one in form.getlist(name) if str(one).isdecimal()]


def _goal(form: FormData) -> dict[str, Any]:
    return {
        "what": text_of(form, "goal_what", "clicked"),
        "share": _number(form, "goal_share", "how many per cent are the goal"),
        "days": _number(form, "goal_days", "within how many days the goal is to be reached"),
    }


def _first(form: FormData, zone: str) -> datetime | None:
    if text_of(form, "when") != "later":
        return None
    if not text_of(form, "day"):
        raise CannotSend("Say on which day it should go out.")
    return _instant(text_of(form, "day"), text_of(form, "clock"), zone)


def _instant(day: str, clock: str, zone: str) -> datetime:
    try:
        return at_local(date.fromisoformat(day), time.fromisoformat(clock or USUAL_TIME), zone)
    except ValueError:
        raise CannotSend(
            f"“{day} {clock}” is no day and time. Write them as 2026-05-12 and {USUAL_TIME}."
        ) from None


def _more(form: FormData, zone: str) -> list[datetime]:
    rows = zip(form.getlist("more_day"), form.getlist("more_clock"), strict=False)
    return [_instant(str(day), str(clock), zone) for day, clock in rows if str(day)]


def _repeat(form: FormData) -> dict[str, Any]:
    unit, ends = text_of(form, "unit", "weeks"), text_of(form, "ends", "never")
    return {
        "every": _number(form, "every", "every how many days, weeks or months"),
        "unit": unit,
        "weekdays": _numbers(form, "on") if unit == "weeks" else (),
        "same_weekday": unit == "months" and text_of(form, "month_by") == "weekday",
        "until": _last_day(form) if ends == "until" else None,
        "times": _number(form, "times", "how many times in all") if ends == "times" else None,
    }


def _last_day(form: FormData) -> str:
    if not text_of(form, "until"):
        raise CannotSend("Say until which day it goes out, or choose until you end it.")
    return text_of(form, "until")


def _number(form: FormData, name: str, what: str) -> int:
    found = number_of(form, name)
    if found is None:
        raise CannotSend(f"Write a whole number for {what}.")
    return found


def _pacing(form: FormData) -> dict[str, Any]:
    return {
        "batch": number_of(form, "batch") or 0,
        "minutes": number_of(form, "minutes") or 0,
        "weekdays": _numbers(form, "weekdays"),
        "begins": text_of(form, "begins"),
        "ends": text_of(form, "stops"),
    }


def _variants(form: FormData) -> list[dict[str, Any]]:
    """A row without a message is none."""
    rows = zip(*(form.getlist(name) for name in ("variant", "share", "for_segment")), strict=False)
    return [
        {"message": int(str(message)), "share": _whole(str(share)), "segment": _whole(str(segment)) or None}
        for message, share, segment in rows
        if str(message).isdecimal()
    ]


def _whole(words: str) -> int:
    return int(words) if words.strip().isdecimal() else 0
