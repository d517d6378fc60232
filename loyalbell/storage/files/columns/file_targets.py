"""What the columns of each kind of file may mean."""

from loyalbell.storage.records.kinds import RECORDS
from loyalbell.storage.records.targets import Target

CUSTOMERS = (
    Target("id", "customer id", ("customer id", "id", "client id", "customer no", "customer number", "uid")),
    Target("first_name", "first name", ("first name", "first", "given name", "forename")),
    Target("last_name", "last name", ("last name", "last", "surname", "family name")),
    Target("full_name", "whole name", ("name", "full name", "customer name", "customer", "guest", "client")),
    Target("last_first", "whole name, last name first", ("last name first name", "name last first")),
    Target("email", "email", ("email", "e mail", "email address", "e mail address", "mail"), "email"),
    Target(
        "phone",
        "mobile phone",
        ("mobile phone", "mobile", "cell", "phone", "telephone", "phone number", "tel"),
        "phone",
    ),
    Target("chat_handle", "chat handle", ("chat handle", "chat", "handle", "chat name")),
    Target("language", "language", ("language", "lang", "locale")),
    Target("zone", "time zone", ("time zone", "timezone", "zone")),
    Target("birthday", "birthday", ("birthday", "birth date", "date of birth", "dob", "born")),
    Target(
        "joined",
        "customer since",
        ("customer since", "joined", "since", "signed up", "created", "created at", "sign up date"),
        "when",
    ),
    Target("street", "street", ("street", "address", "address 1", "address line 1", "street address")),
    Target("city", "city", ("city", "town")),
    Target("region", "state or region", ("region", "state", "province", "county")),
    Target("postal_code", "postal code", ("postal code", "zip", "zip code", "postcode")),
    Target(
        "email_agreed",
        "agreed to email",
        ("email agreed", "email consent", "email opt in", "newsletter"),
        "yes or no",
    ),
    Target(
        "text_agreed",
        "agreed to texts",
        ("text agreed", "text consent", "sms consent", "sms opt in"),
        "yes or no",
    ),
    Target("chat_agreed", "agreed to chat", ("chat agreed", "chat consent"), "yes or no"),
    Target(
        "agreed_at",
        "agreed on (day of the consent)",
        ("agreed on", "agreed at", "opt in date", "consent date", "subscribed on", "opted in at"),
        "when",
    ),
    Target(
        "before_last",
        "last purchase (before this book)",
        ("last purchase", "last order", "last visit", "last order date", "last purchase date", "last seen"),
        "when",
    ),
    Target(
        "before_first",
        "first purchase (before this book)",
        ("first purchase", "first order", "first order date", "first visit"),
        "when",
    ),
    Target(
        "before_orders",
        "number of purchases (before this book)",
        ("orders", "order count", "orders count", "number of orders", "purchases", "total orders", "visits"),
        "whole",
    ),
    Target(
        "before_total",
        "spent in all (before this book)",
        ("total spent", "lifetime value", "spent", "total spend", "lifetime spend", "revenue", "turnover"),
        "money",
    ),
    Target("tags", "tags (with ; between)", ("tags", "labels", "groups", "categories")),
    Target(
        "cares_for",
        "cares for (name, kind, birthday)",
        ("cares for", "pets", "children", "companions", "patients", "pet"),
    ),
    Target("note", "note", ("note", "notes", "remark", "remarks", "comment", "comments")),
    Target("closed", "closed since", ("closed", "closed since", "inactive since"), "when"),
    Target("deceased", "deceased since", ("deceased", "deceased since", "died"), "when"),
)
ORDERS = (
    Target(
        "order_id",
        "order id",
        ("order id", "order", "order no", "order number", "receipt", "invoice", "basket id"),
    ),
    Target(
        "customer_id",
        "customer id",
        ("customer id", "customer", "client id", "customer no", "household id"),
    ),
    Target("customer_name", "customer’s name", ("customer name", "buyer", "guest", "client", "name")),
    Target("email", "customer’s email", ("email", "customer email", "e mail"), "email"),
    Target("phone", "customer’s phone", ("phone", "mobile", "customer phone"), "phone"),
    Target(
        "placed",
        "day or time of the order",
        ("placed at", "placed", "date", "ordered at", "order date", "sale date", "time"),
        "when",
    ),
    Target(
        "placed_time",
        "time of day, beside the day",
        ("time", "order time", "time of day", "sale time", "hour"),
        "time of day",
    ),
    Target("department", "department", ("department", "dept", "section")),
    Target("location", "location", ("location", "store", "branch", "site")),
    Target("staff", "staff", ("staff", "served by", "employee", "seller")),
    Target("in_person", "made in person", ("in person", "made in person"), "yes or no"),
    Target("status", "status", ("status", "state", "order status")),
    Target("confirmed_at", "when it was confirmed", ("confirmed at", "confirmed"), "when"),
    Target("shipped_at", "when it was shipped", ("shipped at", "shipped"), "when"),
    Target("delivered_at", "when it was delivered", ("delivered at", "delivered"), "when"),
    Target("cancelled_at", "when it was cancelled", ("cancelled at", "canceled at", "cancelled"), "when"),
    Target("refunded_at", "when it was refunded", ("refunded at", "refund date"), "when"),
    Target(
        "tracking",
        "tracking number",
        ("tracking number", "tracking code", "tracking", "tracking no", "tracking id"),
    ),
    Target(
        "tracking_url",
        "link to follow the parcel",
        ("tracking url", "tracking link", "tracking address"),
    ),
    Target("total", "order total", ("order total", "total", "amount", "grand total"), "money"),
    Target("discount", "discount on the order", ("order discount", "discount"), "money"),
    Target("refunded", "amount refunded", ("refunded", "refund", "refund amount"), "money"),
    Target("item_id", "item id", ("item id", "sku", "product id", "article")),
    Target("item", "item", ("item", "product", "item name", "product name", "service")),
    Target("category", "item’s category", ("category", "item category", "product category")),
    Target("quantity", "quantity", ("quantity", "qty", "units"), "quantity"),
    Target(
        "unit_price",
        "price of one",
        ("unit price", "price each", "price per unit", "single price", "each", "rate"),
        "money",
    ),
    Target(
        "line_total",
        "line total",
        ("line total", "line amount", "price", "line price", "sales value"),
        "money",
    ),
    Target("line_discount", "discount on the line", ("line discount",), "money"),
)
LINES = tuple(
    target
    for target in ORDERS
    if target.name
    in (
        "order_id",
        "item_id",
        "item",
        "category",
        "quantity",
        "unit_price",
        "line_total",
        "line_discount",
    )
)
TARGETS: dict[str, tuple[Target, ...]] = {
    "customers": CUSTOMERS,
    "orders": ORDERS,
    "order-lines": LINES,
    **{name: kind.targets for name, kind in RECORDS.items()},
}
KINDS = tuple(TARGETS)
NEW = {
    "new:text": "a new field of yours: text",
    "new:number": "a new field: number",
    "new:yes or no": "a new field: yes or no",
    "new:date": "a new field: date",
    "new:one choice": "a new field: one choice",
    "new:several choices": "a new field: several choices",
    "new:yearly": "a new yearly date",
    "new:id": "an id in another program",
}
