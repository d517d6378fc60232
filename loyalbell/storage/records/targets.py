"""What a column of a file may mean."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Target:
    """``names`` are headings it goes by, in small letters without marks; ``reads`` how its cells are read."""

    name: str
    label: str
    names: tuple[str, ...]
    reads: str = "words"


WHOSE = (
    Target("id", "customer id", ("customer id", "customer", "client id", "customer no", "customer number")),
    Target("email", "customer’s email", ("email", "customer email", "e mail", "email address"), "email"),
    Target("phone", "customer’s phone", ("phone", "mobile", "customer phone", "phone number"), "phone"),
)
PLACE = (
    Target("department", "department", ("department", "dept", "section")),
    Target("location", "location", ("location", "store", "branch", "shop", "site")),
    Target("staff", "staff", ("staff", "served by", "employee", "with", "stylist", "doctor", "seller")),
)
ITEM = (
    Target("item_id", "item id", ("item id", "sku", "product id", "article", "service id")),
    Target(
        "item",
        "item or service",
        ("item", "product", "item name", "product name", "service", "treatment", "title"),
    ),
    Target("category", "item’s category", ("category", "item category", "product category")),
)
