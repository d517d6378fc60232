"""A sample file of each kind: every heading that is understood, and rows that show how to fill it in."""

import csv
import io

from loyalbell.core.history.money import minor_digits
from loyalbell.storage.files.columns.day_and_time import PARTNERS
from loyalbell.storage.files.columns.file_targets import TARGETS
from loyalbell.storage.records.targets import Target
from loyalbell.storage.schema import Shop

LEFT_OUT = frozenset((*PARTNERS.values(), "full_name", "last_first", "customer_name"))
CELLS = {
    "id": ("C-1001", "C-1002"),
    "customer_id": ("C-1001", "C-1002"),
    "external_id": ("1", "2"),
    "order_id": ("5001", "5002"),
    "first_name": ("Ann", "Bo"),
    "last_name": ("Pell", "Lisle"),
    "email": ("ann@example.com", "bo@example.org"),
    "address": ("ann@example.com", "bo@example.org"),
    "chat_handle": ("ann.pell", ""),
    "language": ("en", "es"),
    "birthday": ("1990-02-28", "--05-12"),
    "street": ("12 Mill Lane", ""),
    "city": ("Otterby", ""),
    "postal_code": ("12345", ""),
    "email_agreed": ("yes", "no"),
    "text_agreed": ("yes", ""),
    "tags": ("regular; likes tea", ""),
    "cares_for": ("Biscuit (dog, 2019-05-04)", ""),
    "status": ("delivered", "placed"),
    "item_id": ("T-1", "T-2"),
    "item": ("Green tea", "Oat biscuits"),
    "name": ("Green tea", "Oat biscuits"),
    "category": ("Tea", "Biscuits"),
    "department": ("Shop", "Shop"),
    "location": ("Main street", "Main street"),
    "staff": ("Bea", "Bea"),
    "plan": ("Gold", "Silver"),
    "term": ("yearly", "monthly"),
    "kind": ("review", "survey"),
    "channel": ("email", "text"),
    "state": ("agreed", "refused"),
    "source": ("sign-up card", "by phone"),
    "reason": ("by hand", "complaint"),
    "properties": ('{"page": "tea"}', ""),
    "link": ("https://example.com/tea", ""),
    "picture_url": ("https://example.com/tea.png", ""),
    "score": ("5", "4"),
    "best": ("5", "5"),
    "lasts_days": ("30", ""),
    "before_orders": ("12", ""),
}
OF_KIND = {
    ("appointments", "state"): ("kept", "booked"),
    ("events", "kind"): ("viewed page", "viewed page"),
    ("items", "external_id"): ("T-1", "T-2"),
}


def sample_file(kind: str, shop: Shop) -> str:
    """CSV text with a heading row and two rows."""
    targets = [target for target in TARGETS[kind] if target.name not in LEFT_OUT]
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([_heading(target) for target in targets])
    for row in (0, 1):
        writer.writerow([_cell(kind, target, shop)[row] for target in targets])
    return out.getvalue()


def _heading(target: Target) -> str:
    return target.names[0][:1].upper() + target.names[0][1:]


def _cell(kind: str, target: Target, shop: Shop) -> tuple[str, str]:
    known = OF_KIND.get((kind, target.name)) or CELLS.get(target.name)
    if known is not None:
        return known
    if target.reads == "when":
        return (
            ("2026-03-09 15:40", "2026-03-10 11:05")
            if target.name in ("placed", "at", "starts_at")
            else ("", "")
        )
    if target.reads == "day":
        return ("2026-01-01", "2026-02-01") if target.name == "started_on" else ("", "")
    if target.reads == "money":
        return _money(target.name, minor_digits(shop.currency))
    if target.reads == "phone":
        return _PHONES.get(shop.country, ""), ""
    if target.reads == "quantity":
        return "2", "1"
    return "", ""


def _money(name: str, digits: int) -> tuple[str, str]:
    if name not in ("total", "line_total", "price"):
        return "", ""
    return ("12.50", "8.00") if digits else ("1250", "800")


_PHONES = {"US": "(212) 555-0100", "GB": "020 7946 0100", "CA": "(416) 555-0100"}
"""Of the numbers kept for examples, where a form is commonly known."""
