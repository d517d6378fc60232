"""Where each kind of thing has its page."""

from urllib.parse import quote

from loyalbell.services.references import Use

PAGES = {
    "campaign": "/campaigns/{number}",
    "letterhead": "/letterheads",
    "message": "/messages/{number}",
    "offer": "/offers/{number}",
    "saved block": "/gallery",
    "saved view": "/customers/views/{number}",
    "segment": "/segments/{number}",
    "sequence": "/sequences/{number}",
}


def address_of(use: Use) -> str:
    """The page on which a use can be taken out."""
    return quote(PAGES[use.kind].format(number=use.number))
