"""Rhythm: how often people come back, and segments cut from it."""

from math import isfinite
from typing import Any
from urllib.parse import urlencode

import numpy as np
from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response

from loyalbell.core.history.settled import worked_out
from loyalbell.core.rhythm.bands import BANDS
from loyalbell.core.segments.model import (
    BandCondition,
    Condition,
    Group,
    ItemsCondition,
    OrdersCondition,
    Rule,
    ScoresCondition,
    TopCondition,
)
from loyalbell.services.rhythm import page_figures
from loyalbell.services.rhythm.figures import Looking, NotAPart
from loyalbell.services.rhythm.page_figures import Names
from loyalbell.web.request import NotFound, RequestContext, SignedIn
from loyalbell.web.rhythm import charts as pictures
from loyalbell.web.rhythm.views import names_of

router = APIRouter()
COHORTS_SHOWN = 13
SHOWN_ITEMS = 40


def _looking(context: RequestContext) -> tuple[Names, Looking]:
    names = names_of(context)
    try:
        return names, page_figures.looking(context.application, names)
    except NotAPart as problem:
        raise NotFound(str(problem)) from problem


def rule_address(*lines: Condition) -> str:
    """Where a new segment with these lines is opened."""
    return "/segments/new?" + urlencode({"rule": Rule(root=Group(lines=list(lines))).model_dump_json()})


@router.get("/rhythm")
def rhythm_page_of(context: RequestContext = SignedIn) -> Response:
    names, looking = _looking(context)
    repeat = page_figures.repeat(context.application, names)
    bands = page_figures.bands(context.application, names)
    concentration = page_figures.concentration(context.application, names)
    department = looking.part.department
    values: dict[str, Any] = {
        "of": context.request.query_params.get("of", ""),
        "parts": _parts(looking),
        "repeat": repeat["all"],
        "first": repeat["first_to_second"],
        "second": _second(context),
        "curve": pictures.repeat_picture(repeat["all"]),
        "bands": bands,
        "band_links": {
            one["band"]: rule_address(BandCondition(bands=(one["band"],), department=department))
            for one in bands["bands"]
        },
        "cells": pictures.grid_cells(page_figures.grid(context.application, names)),
        "concentration": concentration,
        "concentration_line": pictures.concentration_line(concentration),
        "cohorts": page_figures.cohorts(context.application, names)["cohorts"][-COHORTS_SHOWN:],
        "line": _line_values(context, names, looking, repeat["all"]["winback_days"] or 60),
        "top": _top_values(context, names, looking, concentration, page_figures.TOP_PERCENT),
    }
    return context.page("rhythm/rhythm.html", "rhythm", **values)


def _second(context: RequestContext) -> list[tuple[str, list[dict[str, Any]]]]:
    """First to second purchase, for the whole shop only: by department, and by item."""
    if context.request.query_params.get("of"):
        return []
    application = context.application
    return [
        ("department", page_figures.second_purchases(application)),
        ("item", page_figures.second_purchases(application, True)),
    ]


def _parts(looking: Looking) -> list[tuple[str, list[tuple[str, str]]]]:
    known = looking.snapshot.catalogue
    lines = looking.snapshot.lines
    sold = worked_out(lines, "sold by item", lambda: np.bincount(lines.item, minlength=1))
    best = sorted(known.items, key=lambda at: -int(sold[at]) if at < len(sold) else 0)[:SHOWN_ITEMS]
    categories = sorted({category for _, category, _ in known.items.values() if category})
    return [
        ("Departments", [(f"department:{name}", name) for name in known.departments.values()]),
        ("Categories", [(f"category:{name}", name) for name in categories]),
        ("Items, the most sold first", [(f"item:{known.items[at][0]}", known.items[at][0]) for at in best]),
    ]


@router.get("/rhythm/moves")
def moves(context: RequestContext = SignedIn) -> Response:
    names, _ = _looking(context)
    values = {
        "of": context.request.query_params.get("of", ""),
        "movement": page_figures.movement(context.application, names),
        "names": list(BANDS),
    }
    return HTMLResponse(context.piece("rhythm/moves.html", **values))


@router.get("/rhythm/line")
def line(context: RequestContext = SignedIn, day: int = 60) -> Response:
    names, looking = _looking(context)
    return HTMLResponse(
        context.piece("rhythm/line.html", line=_line_values(context, names, looking, min(max(day, 1), 3_650)))
    )


def _line_values(context: RequestContext, names: Names, looking: Looking, day: int) -> dict[str, Any]:
    """Who has been away for ``day`` days or longer, and what becomes of such people without help."""
    last = page_figures.last_bought(context.application, names)
    away = (last >= 0) & (looking.today - last >= day) & looking.snapshot.on_file(looking.as_of)
    curve = page_figures.repeat(context.application, names)["all"]
    part = looking.part
    condition: Condition = OrdersCondition(measure="last", value=day, department=part.department)
    if part.item is not None or part.category is not None:
        condition = ItemsCondition(measure="last", value=day, item=part.item, category=part.category)
    return {
        "day": day,
        "people": int(away.sum()),
        "come": page_figures.beyond(curve, day) if curve["curve"] else None,
        "address": rule_address(condition),
    }


@router.get("/rhythm/top")
def top(context: RequestContext = SignedIn, percent: float = page_figures.TOP_PERCENT) -> Response:
    names, looking = _looking(context)
    found = page_figures.concentration(context.application, names)
    return HTMLResponse(
        context.piece(
            "rhythm/top.html",
            top=_top_values(
                context,
                names,
                looking,
                found,
                min(max(percent, 1.0), 100.0) if isfinite(percent) else page_figures.TOP_PERCENT,
            ),
        )
    )


def _top_values(
    context: RequestContext, names: Names, looking: Looking, found: Any, percent: float
) -> dict[str, Any]:
    curve = found["curve"]
    shares = np.interp(percent / 100, [point[0] for point in curve], [point[1] for point in curve])
    people = -(-round(percent * found["people"]) // 100)
    condition = TopCondition(percent=percent, department=looking.part.department)
    return {
        "percent": percent,
        "people": people,
        "share": float(shares),
        "address": rule_address(condition),
        "common": page_figures.in_common(context.application, names, percent),
    }


@router.get("/rhythm/cells")
def cells(context: RequestContext = SignedIn) -> Response:
    """A segment of the cells that were ticked."""
    chosen = []
    for cell in context.request.query_params.getlist("cell"):
        recency, _, frequency = cell.partition("-")
        if recency in "12345" and frequency in "12345" and recency and frequency:
            chosen.append((int(recency), int(frequency)))
    return context.go(rule_address(ScoresCondition(cells=tuple(chosen))) if chosen else "/rhythm")


@router.get("/rhythm/value")
def value(context: RequestContext = SignedIn) -> Response:
    names, _ = _looking(context)
    found = page_figures.value(context.application, names)
    job = context.application.jobs.find(page_figures.value_job(context.application, names))
    pairs = pictures.calibration_pairs(found["calibration"]) if found and "calibration" in found else []
    values = {"value": found, "job": job, "pairs": pairs, "of": context.request.query_params.get("of", "")}
    return HTMLResponse(context.piece("rhythm/value.html", **values))
