"""Settings of the channels: what each still lacks, a connection test, links, staff and proof-readers."""

from collections.abc import Mapping
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.channels.dkim_signing import BadKey, new_key, public_key, signed
from loyalbell.channels.http_gateway import GatewaySender
from loyalbell.channels.smtp import SmtpSender
from loyalbell.channels.webhook import new_secret
from loyalbell.core.channels import CHANNELS
from loyalbell.core.messages.sender_records import Sender, alignment, records_for
from loyalbell.core.validation_errors import say_error
from loyalbell.services.delivery.circuits import believe, closed_now, try_now
from loyalbell.services.delivery.senders import ShopSender
from loyalbell.services.messages import spam_filter
from loyalbell.services.messages.preflight_context import what_channels_lack
from loyalbell.services.settings import sender_address
from loyalbell.services.settings.channels import (
    GATEWAYS,
    EmailSettings,
    GatewaySettings,
    LinkSettings,
    ProofReader,
    ProofSettings,
    StaffSettings,
    keep,
    loaded,
)
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of

router = APIRouter()
WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
SELECTOR = "bell"
"""Of a key that is made here."""
PROBE = (
    b"From: a@b.example\r\nTo: c@d.example\r\nSubject: x\r\nDate: Tue, 12 May 2026 09:40:00"
    b" +0000\r\n\r\nx\r\n"
)


@router.get("/settings/channels")
def channels(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _page(context, saved=bool(saved))


def _page(
    context: RequestContext,
    problem: str | None = None,
    saved: bool = False,
    fresh: Mapping[str, str] | None = None,
) -> Response:
    """``fresh`` are secrets just made, by channel: shown once."""
    application = context.application
    values: dict[str, Any] = {
        "lacks": what_channels_lack(application),
        "closed": closed_now(application),
        "email": loaded(application, EmailSettings),
        "sender_confirmed": sender_address.confirmed(application),
        "gateways": {channel: loaded(application, group) for channel, group in GATEWAYS.items()},
        "links": loaded(application, LinkSettings),
        "staff": loaded(application, StaffSettings),
        "proofs": loaded(application, ProofSettings).readers,
        **_records(context),
    }
    values |= {
        "weekdays": WEEKDAYS,
        "problem": problem,
        "saved": saved,
        "fresh": fresh or {},
        "filter_there": spam_filter.installed(),
    }
    return context.page("settings/channels.html", "settings", 422 if problem else 200, **values)


def _records(context: RequestContext) -> dict[str, Any]:
    """What the sender's domain must publish, and whether its parts fit together."""
    shop, email = context.application.the_shop(), loaded(context.application, EmailSettings)
    try:
        public = public_key(email.dkim_key) if email.dkim_key else ""
    except BadKey:
        public = ""
    sender = Sender(
        shop.sender_email,
        shop.smtp_host,
        email.bounce_domain,
        email.dkim_domain,
        email.dkim_selector,
        public,
    )
    is_complete, said = alignment(sender)
    return {"records": records_for(sender), "is_complete": is_complete, "alignment": said}


def _email(context: RequestContext, form: FormData, kept: EmailSettings) -> EmailSettings:
    data = {
        key: text_of(form, key).strip()
        for key in ("reply_to", "tls", "user", "bounce_domain", "dkim_domain", "dkim_selector")
    }
    for secret in ("password", "dkim_key"):
        given = text_of(form, secret).strip()
        data[secret] = "" if text_of(form, f"no_{secret}") else given or getattr(kept, secret)
    if text_of(form, "new_dkim_key"):
        data["dkim_key"] = new_key()
        data["dkim_domain"] = (
            data["dkim_domain"] or context.application.the_shop().sender_email.rpartition("@")[2]
        )
        data["dkim_selector"] = data["dkim_selector"] or SELECTOR
    made = EmailSettings.model_validate(data)
    if made.dkim_key:
        public_key(made.dkim_key)
        signed(PROBE, made.dkim_domain, made.dkim_selector, made.dkim_key)
    return made


def _social(text: str) -> list[tuple[str, str]]:
    found = []
    for line in text.splitlines():
        name, _, address = line.partition(" ")
        if name and address.strip().startswith(("https://", "http://")):
            found.append((name.replace("_", " "), address.strip()))
        elif line.strip():
            raise ValueError(
                f"“{line.strip()}” is no name and address such as: Pictures https://pictures.example/us"
            )
    return found


def _readers(text: str) -> list[ProofReader]:
    found = []
    for line in text.splitlines():
        parts = [part.strip() for part in line.split(",")]
        if parts and parts[0]:
            found.append(
                ProofReader(
                    name=parts[0],
                    email=parts[1] if len(parts) > 1 else "",
                    phone=parts[2] if len(parts) > 2 else "",
                    chat=parts[3] if len(parts) > 3 else "",
                )
            )
    return found


@router.post("/settings/channels/{group}")
def save(group: str, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        made = _made(context, group, form)
    except (ValidationError, ValueError, BadKey) as problem:
        words = f"{say_error(problem.errors()[0])}." if isinstance(problem, ValidationError) else str(problem)
        return _page(context, words)
    before = loaded(context.application, GATEWAYS[group]).secret if group in GATEWAYS else ""
    keep(context.application, made, group, context.by)
    if isinstance(made, GatewaySettings) and made.secret != before:
        return _page(context, saved=True, fresh={group: made.secret})
    return context.go("/settings/channels?saved=yes")


def _made(context: RequestContext, group: str, form: FormData) -> Any:
    given: Mapping[str, str] = {key: str(value).strip() for key, value in form.items()}
    if group == "email":
        return _email(context, form, loaded(context.application, EmailSettings))
    if group in GATEWAYS:
        kept = loaded(context.application, GATEWAYS[group])
        secret = new_secret() if given.get("new_secret") or not kept.secret else kept.secret
        data = {
            **given,
            "key": given.get("key") or kept.key,
            "secret": secret,
            "cost_minor": given.get("cost_minor") or 0,
        }
        return GATEWAYS[group].model_validate(data)
    if group == "links":
        return LinkSettings.model_validate({**given, "social": _social(given.get("social", ""))})
    if group == "staff":
        return StaffSettings.model_validate(
            {**given, "weekdays": [int(str(one)) for one in form.getlist("weekdays")]}
        )
    if group == "proofs":
        return ProofSettings(readers=_readers(given.get("readers", "")))
    raise NotFound("There are no such settings.")


@router.post("/settings/channels/{channel}/again")
def again(channel: str, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """A person's word on a channel that is not accepted: try it now, or believe its refusals."""
    if channel not in CHANNELS:
        raise NotFound("There is no such channel.")
    if text_of(form, "word") == "gone":
        believe(context.application, channel, context.by)
    else:
        try_now(context.application, channel, context.by)
    context.wake()
    return context.go("/settings/channels")


@router.post("/settings/sender")
def ask_sender(context: RequestContext = SignedIn) -> Response:
    """Sends a link to the sender's own address."""
    try:
        address = sender_address.ask(
            context.application, ShopSender(context.application, SmtpSender), context.by
        )
    except sender_address.NotAsked as problem:
        return context.problem(str(problem))
    return HTMLResponse(context.piece("settings/asked.html", address=address))


@router.post("/settings/channels/{channel}/try")
def try_out(channel: str, context: RequestContext = SignedIn) -> Response:
    """Tries the connection as it is kept; nothing is sent."""
    shop = context.application.the_shop()
    if channel == "email":
        email = loaded(context.application, EmailSettings)
        words = SmtpSender(
            shop.smtp_host, shop.smtp_port, tls=email.tls, user=email.user, password=email.password
        ).try_out()
    elif channel in GATEWAYS:
        gateway = loaded(context.application, GATEWAYS[channel])
        words = GatewaySender(gateway.url, gateway.key).try_out()
    else:
        raise NotFound("There is no such channel.")
    return HTMLResponse(context.piece("settings/tried.html", words=words))
