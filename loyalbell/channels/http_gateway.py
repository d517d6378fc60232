"""Texts and chat messages handed to a network over HTTP, and its calls back, signed as Standard Webhooks 1.0
says.
"""

import hmac
import json
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from email.utils import parsedate_to_datetime
from urllib.parse import quote

import httpx

from loyalbell.channels.sender import Outcome, Outgoing, Result, Sender, not_handed_over
from loyalbell.channels.webhook import signature
from loyalbell.core.messages.refusals import gateway_names_the_number

TIMEOUT_SECONDS = 20.0
TOO_MANY = 429
OF_THIS_MESSAGE = (400, 413, 422)
"""Statuses that may be about what this one message holds; many alike are still taken to be about us."""
OLDEST_SECONDS = 300


class GatewaySender(Sender):
    """``POST url/messages`` with our own id as idempotency key.

    ``GET url/messages/ID`` tells whether it was taken.
    """

    def __init__(self, url: str, key: str, timeout: float = TIMEOUT_SECONDS) -> None:
        self.url, self.key, self.timeout = url.rstrip("/"), key, timeout

    def _client(self) -> httpx.Client:
        headers = {"Authorization": f"Bearer {self.key}", "User-Agent": "LoyalBell/1"}
        return httpx.Client(timeout=self.timeout, headers=headers, trust_env=False)

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        if not self.url:
            words = "no network is set in Settings"
            return [Outcome(one.delivery_id, "try later", words, about_us=True) for one in batch]
        outcomes: list[Outcome] = []
        with self._client() as client, ThreadPoolExecutor(self.side_by_side) as pool:
            for start in range(0, len(batch), self.side_by_side):
                group = batch[start : start + self.side_by_side]
                outcomes += pool.map(lambda one: self._hand_over(client, one), group)
                because = next((outcome for outcome in outcomes if outcome.about_us), None)
                if because is not None:
                    rest = batch[start + self.side_by_side :]
                    return outcomes + [not_handed_over(message, because) for message in rest]
        return outcomes

    def _hand_over(self, client: httpx.Client, message: Outgoing) -> Outcome:
        headers = {"Content-Type": "application/json", "Idempotency-Key": message.message_id}
        try:
            answer = client.post(f"{self.url}/messages", content=message.content, headers=headers)
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.InvalidURL):
            return Outcome(
                message.delivery_id, "try later", f"no connection to the network at {self.url}", about_us=True
            )
        except httpx.HTTPError as error:
            return Outcome(message.delivery_id, "unsure", f"{type(error).__name__}: {error}", about_us=True)
        return _answered(message, answer)

    def knows(self, message_id: str, channel: str = "text") -> bool | None:
        try:
            with self._client() as client:
                answer = client.get(f"{self.url}/messages/{quote(message_id, safe='')}")
        except (httpx.HTTPError, httpx.InvalidURL):
            return None
        return True if answer.is_success else False if answer.status_code == 404 else None

    def try_out(self) -> str:
        """What is wrong with the connection; empty where the network answers."""
        try:
            with self._client() as client:
                answer = client.get(f"{self.url}/")
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            return f"The network does not answer: {error}."
        if answer.status_code in (401, 403):
            return "The network does not accept the key. Copy it again from your account there."
        return "" if answer.is_success else f"The network answers with {answer.status_code}."


def _answered(message: Outgoing, answer: httpx.Response) -> Outcome:
    status = answer.status_code
    result = _result(status)
    return Outcome(
        message.delivery_id,
        result,
        _words(answer),
        about_us=result == "try later" and status not in OF_THIS_MESSAGE,
        is_limit=status == TOO_MANY,
        wait=_seconds_to_wait(answer.headers.get("retry-after", "")) if result == "try later" else None,
    )


def _result(status: int) -> Result:
    """Only the status for a number that is gone speaks of the customer; any other refusal of us."""
    if 200 <= status < 300 or status == 409:
        return "accepted"
    return "refused" if gateway_names_the_number(status) else "try later"


def _seconds_to_wait(retry_after: str) -> int | None:
    """``Retry-After``: seconds, or a date (RFC 9110, section 10.2.3)."""
    if retry_after.isdecimal():
        return int(retry_after)
    try:
        until = parsedate_to_datetime(retry_after)
    except ValueError:
        return None
    return max(0, round((until - datetime.now(until.tzinfo)).total_seconds()))


def _words(answer: httpx.Response) -> str:
    try:
        found = json.loads(answer.content)
    except ValueError:
        found = {}
    words = found.get("problem") if isinstance(found, dict) else None
    return f"{answer.status_code} {words or answer.reason_phrase}"


def called_back(secret: str, headers: Mapping[str, str], body: str, now: int) -> bool:
    """Whether a call comes from who holds the secret, and is not an old one again (five minutes either
    way).
    """
    given, at = headers.get("webhook-signature", ""), headers.get("webhook-timestamp", "")
    if not secret or not at.isdecimal() or abs(now - int(at)) > OLDEST_SECONDS:
        return False
    try:
        right = signature(secret, headers.get("webhook-id", ""), int(at), body)
    except ValueError:
        return False
    return any(hmac.compare_digest(one.encode(), right.encode()) for one in given.split(" "))
