"""Messages to start from, one for each occasion, in plain words that fit a shop, a restaurant, a salon or a
clinic.
"""

from collections.abc import Sequence

from loyalbell.core.messages import content as c
from loyalbell.services.messages.ready_made.appointments import APPOINTMENTS
from loyalbell.services.messages.ready_made.orders import ORDERS
from loyalbell.services.messages.ready_made.parts import HELLO, MessageTemplate, said
from loyalbell.services.messages.ready_made.regulars import REGULARS
from loyalbell.services.messages.ready_made.win_back import WIN_BACK
from loyalbell.services.messages.ready_made.yearly_dates import YEARLY_DATES

OCCASIONS: tuple[MessageTemplate, ...] = (
    MessageTemplate(
        "blank",
        "An empty letter",
        "your own words from the first line",
        said(c.EmailContent(blocks=[c.Heading(text=HELLO), c.Text()])),
    ),
    *WIN_BACK,
    *YEARLY_DATES,
    *ORDERS,
    *REGULARS,
    *APPOINTMENTS,
)


def find(key: str) -> MessageTemplate | None:
    return next((occasion for occasion in OCCASIONS if occasion.key == key), None)


def with_letterhead(content: c.MessageContent, letterhead: int | None) -> c.MessageContent:
    """Every email of it wrapped by a letterhead."""
    return content.model_copy(update={"writings": _wrapped(content.writings, letterhead)})


def _wrapped(writings: Sequence[c.AnyWriting], letterhead: int | None) -> list[object]:
    return [
        writing.model_copy(update={"letterhead": letterhead})
        if isinstance(writing, c.EmailContent)
        else writing
        for writing in writings
    ]
