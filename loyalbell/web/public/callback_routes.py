"""Where text and chat networks call back: what was delivered, what failed, what somebody wrote."""

import time
from typing import Literal

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, Field, ValidationError

from loyalbell.channels.http_gateway import called_back
from loyalbell.services.replies import inbound
from loyalbell.services.settings.channels import GATEWAYS, loaded
from loyalbell.web.request import application_of

router = APIRouter()
MOST_BYTES = 100_000


class Callback(BaseModel):
    """``id`` is our own of the message, or theirs of what came in."""

    type: Literal["delivered", "failed", "received"]
    id: str = Field(min_length=1, max_length=300)
    sender: str = Field(default="", alias="from", max_length=100)
    text: str = Field(default="", max_length=20_000)
    permanent: bool = False
    reason: str = Field(default="", max_length=500)


@router.post("/callbacks/{channel}")
async def take(channel: str, request: Request) -> Response:
    """202 for what was taken, also where it was here before; 401 for a signature that does not hold."""
    application = application_of(request)
    if channel not in GATEWAYS or application.shop() is None:
        return JSONResponse({"problem": "There is no such network here."}, 404)
    body = await request.body()
    secret = loaded(application, GATEWAYS[channel]).secret
    if len(body) > MOST_BYTES or not called_back(
        secret, request.headers, body.decode("utf-8", "replace"), int(time.time())
    ):
        return JSONResponse({"problem": "The signature does not hold."}, 401)
    try:
        call = Callback.model_validate_json(body)
    except ValidationError as error:
        return JSONResponse({"problem": str(error.errors()[0]["msg"])}, 422)
    if call.type == "received":
        inbound.take_reply(application, channel, call.id, call.sender, call.text, application.clock.now())
    elif call.type == "delivered":
        inbound.delivered(application, channel, call.id)
    else:
        inbound.failed(
            application, channel, call.id, call.permanent, call.reason or "it could not be delivered"
        )
    return JSONResponse({"taken": call.id}, 202)
