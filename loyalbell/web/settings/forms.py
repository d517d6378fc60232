"""The shop's settings out of the form they are written in."""

from collections.abc import Mapping
from typing import Any

from loyalbell.services.settings.places import OTHER_CODES, zone_named
from loyalbell.services.settings.shop import ShopForm


def read_shop_form(form: Mapping[str, Any]) -> ShopForm:
    def text(name: str) -> str:
        return str(form.get(name, "")).strip()

    port = text("smtp_port")
    return ShopForm(
        name=text("name"),
        zone=zone_named(text("zone")),
        currency=text("currency").upper(),
        country=OTHER_CODES.get(text("country").upper(), text("country").upper()),
        postal_address=text("postal_address"),
        public_url=text("public_url").rstrip("/"),
        sender_name=text("sender_name") or text("name"),
        sender_email=text("sender_email"),
        smtp_host=text("smtp_host"),
        smtp_port=int(port) if port.isdecimal() else 0,
    )
