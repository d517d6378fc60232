"""What a refusal says about whom: about this mailbox or number, or about us and the moment.

RFC 5321 section 4.2.3, RFC 3463 and RFC 5248 for the codes; rules of the job, section 5, for who is marked.
Only an answer to RCPT about the mailbox itself counts against a customer's address. Everything else (an
answer to MAIL FROM, sign-in, relaying, policy, rate, credit, a gateway's wrong address) speaks of us.
"""

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TypeVar

_ENHANCED = re.compile(r"\b5\.\d{1,3}\.\d{1,3}\b")
OF_THE_MAILBOX = {"5.1.1", "5.1.3", "5.1.6", "5.1.10", "5.2.1", "5.2.2"}
FOR_NOW = {"5.2.1", "5.2.2"}
"""Switched off or full: an address is given up only after several of these, days apart."""
BARE_CODES = {550, 551, 553}
OF_US = re.compile(
    r"relay|polic|block|black ?list|spam|spf|dkim|dmarc|reputation|authenticat|sign.?in|log.?in|denied"
    r"|not allowed|not permitted|rate|limit|too many|credit|ip address|client host|helo|ehlo|tls",
    re.IGNORECASE,
)
OF_RATE = re.compile(
    r"rate|too (?:many|fast)|limit|slow down|try again (?:in|later)|throttl|4\.7\.28|quota", re.IGNORECASE
)
"""Words by which a mail server asks for fewer at a time (common practice, no source)."""
NUMBER_GONE = 410
"""The one status by which a gateway says that the number or handle itself is gone."""
MANY, SHARE = 20, 0.1
FEW_ALIKE, SHARE_OF_FEW = 3, 0.2

Refused = TypeVar("Refused")


def names_the_mailbox(code: int, words: str) -> bool:
    """Whether an answer to RCPT says that this mailbox is not there, moved, switched off or full."""
    enhanced = _ENHANCED.search(words)
    if enhanced:
        return enhanced[0] in OF_THE_MAILBOX
    return code in BARE_CODES and not OF_US.search(words)


def is_for_good(words: str) -> bool:
    """Whether such an answer means for good; a mailbox that is full or switched off may be back."""
    enhanced = _ENHANCED.search(words)
    return enhanced is None or enhanced[0] not in FOR_NOW


def is_limit(code: int, words: str) -> bool:
    """Whether a mail server's answer asks for fewer at a time: 421 or 45x (RFC 5321, 4.2.1) and says so."""
    return code in (421, 450, 451, 452) and bool(OF_RATE.search(words)) and "4.2.2" not in words


def gateway_names_the_number(status: int) -> bool:
    """Whether a gateway's HTTP status says that the number or handle is gone."""
    return status == NUMBER_GONE


def refused_alike(batch: int, refusals: Iterable[tuple[Refused, str]]) -> Sequence[Refused]:
    """Those refusals that so many of a batch share that they can hardly be about single mailboxes.

    ``refusals`` are (what was refused, the network's words). From 20 messages on, more than a tenth alike.
    """
    refusals = list(refusals)
    alike = Counter(shape_of_words(words) for _, words in refusals)
    if batch < MANY:
        return []
    return [refused for refused, words in refusals if alike[shape_of_words(words)] > SHARE * batch]


def many_of_few(alike: int, answers: int) -> bool:
    """Whether refusals alike are too many of a day's answers to be about single mailboxes, where batches are
    small: from three on, more than a fifth of fewer than 20, more than a tenth of more (common practice, no
    source).
    """
    return alike >= FEW_ALIKE and alike > answers * (SHARE if answers >= MANY else SHARE_OF_FEW)


def shape_of_words(words: str) -> str:
    """The code and the first words, without addresses and numbers that differ from message to message."""
    return re.sub(r"[\w.+-]+@[\w.-]+|<[^>]*>|\d{4,}", "", words.lower())[:60]
