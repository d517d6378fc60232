"""A campaign's plan out of the form it is written in."""

from datetime import date, datetime, time
from typing import Any

from starlette.datastructures import FormData

from loyalbell.core.campaigns import CampaignPlan
from loyalbell.core.timing import at_local
from loyalbell.desk.campaigns import CannotSend
from loyalbell.web.visit import number_of, text_of

USUAL_TIME = "10:00"


def plan_from(form: FormData, zone: str) -> CampaignPlan:
    """Raises ``ValueError``, also as ``CannotSend``."""
    often = text_of(form, "often", "once")
    plan: dict[str, Any] = {
        "exclude": _numbers(form, "exclude"),
        "engaged_only": "engaged_only" in form,
        "engaged_days": number_of(form, "engaged_days") or 120,
        "held_back": number_of(form, "held_back") or 0,
        "at": _first(form, zone),
        "more": _more(form, zone) if often == "dates" else (),
        "repeat": _repeat(form) if often == "repeat" else None,
        "again": "again" in form,
        "pacing": _pacing(form) if "paced" in form else None,
        "parted_by": text_of(form, "parted_by", "share"),
        "variants": _variants(form),
    }
    if plan["more"] and plan["at"] is None:
        raise CannotSend("Say on which day it first goes out, then on which others.")
    return CampaignPlan.model_validate(plan)


def _numbers(form: FormData, name: str) -> list[int]:
    return [int(str(one)) for one in form.getlist(name) if str(one).isdigit()]


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
        "every": number_of(form, "every") or 1,
        "unit": unit,
        "weekdays": _numbers(form, "on") if unit == "weeks" else (),
        "same_weekday": unit == "months" and text_of(form, "month_by") == "weekday",
        "until": (text_of(form, "until") or None) if ends == "until" else None,
        "times": number_of(form, "times") if ends == "times" else None,
    }


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
        if str(message).isdigit()
    ]


def _whole(words: str) -> int:
    return int(words) if words.strip().isdigit() else 0
