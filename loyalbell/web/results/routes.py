"""Results: what came of each campaign, with the people behind each figure."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response

from loyalbell.core.results.attribution import DEFAULT_WINDOW_DAYS
from loyalbell.services.campaigns import queries as campaign_queries
from loyalbell.services.delivery import after_stop
from loyalbell.services.results.campaign_results import EXPLANATIONS, FIGURES, results_of
from loyalbell.storage.schema import Campaign, Message, Segment
from loyalbell.web.charts import hour_bars
from loyalbell.web.request import NotFound, RequestContext, SignedIn

router = APIRouter()
PAGE = 40
STOP_POLLING = 286  # htmx swaps this answer in and asks no more


@router.get("/results")
def list_page(context: RequestContext = SignedIn) -> Response:
    started = campaign_queries.started(context.application)
    found = [results_of(context.application, campaign.id) for campaign in started]
    return context.page("results/results.html", "results", found=found, window=DEFAULT_WINDOW_DAYS)


@router.get("/results/{campaign_id}")
def campaign_page(
    campaign_id: int, context: RequestContext = SignedIn, figure: str = "", page: int = 1
) -> Response:
    campaign = context.application.find(Campaign, campaign_id)
    if campaign is None:
        raise NotFound("No such campaign is on file.")
    segment = context.application.find(Segment, campaign.segment_id)
    message = context.application.find(Message, campaign.message_id)
    if campaign.started_at is None:
        return context.go(f"/campaigns/{campaign_id}")
    found = results_of(context.application, campaign_id)
    figure = figure if figure in FIGURES else "delivered"
    lines, page = list(found.people[figure].values()), max(page, 1)
    failed, failed_words = after_stop.failed_of(context.application, "campaign", campaign.id)
    values: dict[str, Any] = {
        "found": found,
        "segment": segment,
        "message": message,
        "failed": failed,
        "failed_words": failed_words,
        "figures": FIGURES,
        "explanations": EXPLANATIONS,
        "figure": figure,
        "lines": lines[(page - 1) * PAGE : page * PAGE],
        "total": len(lines),
        "page": page,
        "pages": max(1, -(-len(lines) // PAGE)),
        "window": DEFAULT_WINDOW_DAYS,
        "bars": hour_bars(found.by_hour),
    }
    if context.request.headers.get("HX-Target") == "results":
        status = 200 if campaign.state == "sending" else STOP_POLLING
        return HTMLResponse(context.piece("results/figures.html", **values), status_code=status)
    return context.page("results/campaign.html", "results", **values)
