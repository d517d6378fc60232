"""Results of one campaign, with the people behind each figure."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.policy.origins import CAMPAIGN
from loyalbell.services.delivery import after_stop
from loyalbell.services.results.campaign_goal import goal_standing
from loyalbell.services.results.campaign_results import EXPLANATIONS, FIGURES, results_of
from loyalbell.services.results.experiments import of_origin
from loyalbell.services.results.overview import overview
from loyalbell.services.results.ranges import Days, days_of
from loyalbell.services.settings.channels import ResultsSettings, loaded
from loyalbell.storage.schema import Campaign, Message, Segment
from loyalbell.web.charts import hour_bars
from loyalbell.web.request import NotFound, RequestContext, SignedIn
from loyalbell.web.results.routes import PAGE, panel, parts_of
from loyalbell.web.results.views import Address, test_views, views

router = APIRouter()
STOP_POLLING = 286  # htmx swaps this answer in and asks no more


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
    days = _since_it_went_out(context, campaign)
    origin = (CAMPAIGN, campaign.id)
    row = next((row for row in overview(context.application, days).rows if row.origin == origin), None)
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
        "window": loaded(context.application, ResultsSettings).window_days,
        "bars": hour_bars(found.by_hour),
        "goal": goal_standing(context.application, found),
        "range_query": Address(days, "").link().partition("?")[2],
        "row": row,
        "tests": test_views(of_origin(context.application, origin)),
        **parts_of(context, origin, days),
    }
    if row is not None:
        values |= {"address": Address(days, ""), "shown": views([row])[0]}
        values |= panel(context, values["shown"], days)
    if context.request.headers.get("HX-Target") == "results":
        status = 200 if campaign.state == "sending" else STOP_POLLING
        return HTMLResponse(context.piece("results/figures.html", **values), status_code=status)
    return context.page("results/campaign.html", "results", **values)


def _since_it_went_out(context: RequestContext, campaign: Campaign) -> Days:
    """From the day on which a campaign first went out until today."""
    zone = context.application.the_shop().zone
    today = local_day(context.application.clock.now(), zone)
    began = local_day(campaign.started_at or campaign.made_at, zone)
    return days_of("own", today, zone, min(began, today).isoformat(), today.isoformat())
