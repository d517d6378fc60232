"""Asking for a second person's word from a page: kept at once, mailed once the page has answered."""

from typing import Any

from fastapi.responses import Response
from starlette.background import BackgroundTask

from loyalbell.services import approval_mail, approvals
from loyalbell.web.request import RequestContext


def ask_approval(
    context: RequestContext, kind: approvals.Kind, about: int, name: str, detail: dict[str, Any], back: str
) -> Response:
    """Goes on to the page ``back``, which says that it waits."""
    before = approvals.newest(context.application, kind, about)
    request = approvals.ask(context.application, kind, about, name, detail, context.visitor)
    answer = context.go(back)
    if not approval_mail.is_told_already(before, request):
        answer.background = BackgroundTask(
            approval_mail.tell_approvers, context.application, context.sender, request
        )
    return answer
