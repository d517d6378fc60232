"""The made-up people behind the post room: what they do with a message, drawn from a seed and the message
alone.

Every share below is a true effect of the demo: results may be judged against it. A person has a warmth of
their own, from 0 to 1, drawn from their address, so that the same people react again and again; the share of
a reaction is ``base * (0.3 + 1.4 * warmth)``. The same message to the same person always has the same answer.
"""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from random import Random

SEED = "otterby"
MINUTE, HOUR, DAY = 60, 3_600, 86_400

OPENS, CLICKS_OF_OPENED, BUYS_OF_CLICKED = 0.42, 0.24, 0.22
BUYS_ANYWAY_BY_MESSAGE = 0.012
REFUSES_OF_OPENED, COMPLAINS_OF_OPENED, ANSWERS_OF_OPENED = 0.010, 0.0012, 0.018
AUTO_ANSWERS, BOUNCES_HARD, BOUNCES_SOFT = 0.010, 0.004, 0.010
TEXT_CLICKS, TEXT_STOPS, TEXT_ANSWERS, TEXT_FAILS = 0.17, 0.011, 0.045, 0.008
CHAT_CLICKS, CHAT_ANSWERS = 0.20, 0.16
FETCHES_BY_ITSELF = 0.30
"""So many of a hundred mailboxes fetch every picture at once, opened or not."""
ANSWERS = (
    "Thank you, see you soon!",
    "Are you open on Sunday?",
    "Can I come on Thursday at 3?",
    "Please call me about this.",
    "My dog passed away in March, please take him off.",
    "Is the code good for the online shop too?",
    "We moved away, sorry.",
    "Which shampoo was it that you used last time?",
    "I was just in yesterday!",
)


@dataclass(frozen=True)
class Arrived:
    """A message as it lies there.

    ``links`` are how many can be pressed; ``replies`` the answers a chat offers.
    """

    channel: str
    about: int
    recipient: str
    at: int
    links: int
    replies: Sequence[str] = ()
    service: bool = False


def warmth(recipient: str) -> float:
    """From 0 to 1, the same for one address for ever."""
    return _random("warmth", recipient).random()


def _random(*parts: object) -> Random:
    digest = hashlib.sha256("|".join([SEED, *(str(part) for part in parts)]).encode()).digest()
    return Random(int.from_bytes(digest[:8], "big"))  # noqa: S311 - made-up people


def reactions(message: Arrived) -> list[tuple[int, str]]:
    """(when, what): fetched, opened, clicked:N, refused, complained, answered:N, auto, bounced-hard,
    bounced-soft, bought, delivered, failed.
    """
    rng = _random(message.channel, message.about, message.recipient)
    scale = 0.3 + 1.4 * warmth(message.recipient)
    drawn = {"email": _email, "text": _text, "chat": _chat}[message.channel]
    return sorted(drawn(message, rng, scale))


def _later(rng: Random, typical: float) -> int:
    """Seconds after, most soon and few late."""
    return max(20, round(rng.expovariate(1 / typical)))


def _email(message: Arrived, rng: Random, scale: float) -> list[tuple[int, str]]:
    if rng.random() < BOUNCES_HARD:
        return [(message.at + 2 * MINUTE, "bounced-hard")]
    if rng.random() < BOUNCES_SOFT:
        return [(message.at + 4 * HOUR, "bounced-soft")]
    found: list[tuple[int, str]] = []
    if _random("mailbox", message.recipient).random() < FETCHES_BY_ITSELF:
        found.append((message.at + 15, "fetched"))
    if rng.random() < AUTO_ANSWERS:
        found.append((message.at + 30, "auto"))
    if rng.random() >= OPENS * scale:
        return found
    opened = message.at + _later(rng, 7 * HOUR)
    found.append((opened, "opened"))
    if message.links and rng.random() < CLICKS_OF_OPENED * scale:
        clicked = opened + rng.randint(8, 90)
        found.append((clicked, f"clicked:{rng.randrange(min(message.links, 3))}"))
        if rng.random() < BUYS_OF_CLICKED * scale:
            found.append((clicked + _later(rng, 1.5 * DAY), "bought"))
    elif rng.random() < BUYS_ANYWAY_BY_MESSAGE * scale:
        found.append((opened + _later(rng, 3 * DAY), "bought"))
    if rng.random() < REFUSES_OF_OPENED * (2 - scale):
        found.append((opened + rng.randint(20, 200), "refused"))
    if rng.random() < COMPLAINS_OF_OPENED * (2 - scale):
        found.append((opened + rng.randint(20, 200), "complained"))
    if rng.random() < ANSWERS_OF_OPENED * scale:
        found.append((opened + _later(rng, HOUR), f"answered:{rng.randrange(len(ANSWERS))}"))
    return found


def _text(message: Arrived, rng: Random, scale: float) -> list[tuple[int, str]]:
    if rng.random() < TEXT_FAILS:
        return [(message.at + MINUTE, "failed")]
    found = [(message.at + 6, "delivered")]
    if message.links and rng.random() < TEXT_CLICKS * scale:
        clicked = message.at + _later(rng, 40 * MINUTE)
        found.append((clicked, f"clicked:{rng.randrange(message.links)}"))
        if rng.random() < BUYS_OF_CLICKED * scale:
            found.append((clicked + _later(rng, DAY), "bought"))
    if rng.random() < TEXT_STOPS * (2 - scale):
        found.append((message.at + _later(rng, 30 * MINUTE), "stop"))
    elif rng.random() < TEXT_ANSWERS * scale:
        found.append((message.at + _later(rng, HOUR), f"answered:{rng.randrange(len(ANSWERS))}"))
    return found


def _chat(message: Arrived, rng: Random, scale: float) -> list[tuple[int, str]]:
    found = [(message.at + 4, "delivered")]
    if message.links and rng.random() < CHAT_CLICKS * scale:
        clicked = message.at + _later(rng, HOUR)
        found.append((clicked, "clicked:0"))
        if rng.random() < BUYS_OF_CLICKED * scale:
            found.append((clicked + _later(rng, DAY), "bought"))
    if rng.random() < CHAT_ANSWERS * scale:
        when = message.at + _later(rng, HOUR)
        quick = (
            f"pressed:{rng.randrange(len(message.replies))}"
            if message.replies and rng.random() < 0.7
            else f"answered:{rng.randrange(len(ANSWERS))}"
        )
        found.append((when, quick))
    return found
