"""What an address of Rhythm asks for."""

from loyalbell.services.rhythm.page_figures import Names
from loyalbell.web.request import RequestContext


def names_of(context: RequestContext) -> Names:
    """The part of the shop that the address names."""
    given = context.request.query_params.get("of", "")
    kind, _, name = given.partition(":")
    return Names(**{kind: name}) if kind in ("department", "category", "item") and name else Names()
