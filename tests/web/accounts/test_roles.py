"""Every address, asked as each role: the table below is written from what the roles are for, not from the
gate that it holds to account.
"""

import re
from datetime import UTC, datetime
from html.parser import HTMLParser

from sqlalchemy import select

from loyalbell.services.accounts.passwords import hash_password
from loyalbell.services.accounts.permissions import Permission, Role
from loyalbell.storage.schema import Appointment, Department, Person, Sequence, Session, Suppression, User
from loyalbell.web import permissions
from loyalbell.web.app import AREAS
from loyalbell.web.request import SignedIn
from tests.web.client import PageClient
from tests.web.test_pages import PagesCase

PASSWORD = "three kettles sing"
OPEN_TO_ALL = set("POST /sign-out|POST /look|GET /|GET /handbook|GET /handbook/{name}".split("|")) | set(
    "GET /handbook/pictures/{name}|GET /own|POST /own/password|POST /own/second-factor".split("|")
)
OPEN_TO_ALL |= {"POST /own/second-factor/on", "POST /own/second-factor/off", "POST /own/sessions"}
FRONT_DESK = set(
    "GET /customers|GET /customers/{person_id}|GET /search|GET /till|POST /till|GET /replies"
    "|GET /replies/answers|GET /replies/{reply_id}|POST /replies/{reply_id}/answer"
    "|POST /replies/{reply_id}/settle|POST /customers/{person_id}/notes"
    "|POST /staff-notes/{note_id}/done".split("|")
)
BASIC_PARTS = ("who", "dates", "reach")
VIEWER = set(
    "GET /week|GET /calendar|GET /rhythm|GET /rhythm/line|GET /rhythm/moves|GET /rhythm/top|GET /rhythm/cells"
    "|GET /rhythm/value|GET /results|GET /results/tests|GET /results/domains|GET /results/{campaign_id}"
    "|GET /results/sequence/{sequence_id}|GET /results/{kind}/{number}.svg"
    "|GET /results/{kind}/{number}/links|GET /results/{kind}/{number}/links/mail"
    "|GET /results/{kind}/{number}/segments".split("|")
)
OWNER_ALONE = re.compile(
    r"(GET|POST) /(settings|other-programs|people|log)(\b.*)?"
    r"|POST /customers/many/erase|GET /customers/erased/1"
)
FILLED = {
    "{person_id}": "3", "{part}": "tags", "{view_id}": "1", "{act}": "erase", "{kind}": "campaign",
    "{number}": "1", "{form}": "csv", "{name}": "segment", "{token}": "x", "{step}": "a", "{arm}": "b",
    "{source}": "segment-1", "{key}": "x", "{channel}": "email", "{group}": "email", "{merge_id}": "1",
}  # fmt: skip


def routes() -> list[tuple[str, str]]:
    """(method, address) of every page that asks who one is."""
    found = []
    for area in AREAS:
        for route in area.router.routes:
            asks = any(one.call is SignedIn.dependency for one in route.dependant.dependencies)
            found += [(method, route.path) for method in sorted(route.methods) if asks]
    return found


def filled(path: str) -> str:
    """With a value for each of its parts."""
    path = re.sub(r"\{(\w+):int\}", r"{\1}", path)
    for name, value in FILLED.items():
        path = path.replace(name, value)
    return re.sub(r"\{\w+\}", "1", path)


def expected(role: str, method: str, path: str) -> bool:
    line = f"{method} {path}"
    if role == "owner" or line in OPEN_TO_ALL:
        return True
    if role == "marketer":
        return not OWNER_ALONE.fullmatch(f"{method} {filled(path)}")
    return line in (FRONT_DESK if role == "front desk" else VIEWER)


class Links(HTMLParser):
    """Where a page leads, with the method by which it does."""

    def __init__(self) -> None:
        super().__init__()
        self.found: set[tuple[str, str]] = set()

    def handle_starttag(self, tag: str, given: list[tuple[str, str | None]]) -> None:
        values = dict(given)
        for name, method in (("href", "GET"), ("hx-get", "GET"), ("hx-post", "POST"), ("formaction", "POST")):
            if tag != "link" and values.get(name):
                self.found.add((method, str(values[name])))
        if tag == "form" and values.get("action"):
            self.found.add((str(values.get("method") or "get").upper(), str(values["action"])))


def links_of(page: str, at: str) -> set[tuple[str, str]]:
    parser = Links()
    parser.feed(page)
    found = set()
    for method, link in parser.found:
        if link.startswith("?"):
            link = at.split("?")[0] + link
        if link.startswith("/") and not link.startswith(("/static", "/post-room", "/o/", "/u/", "/l/")):
            found.add((method, link.split("#")[0]))
    return found


class RolesCase(PagesCase):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            for role in Role:
                email = f"{role.replace(' ', '.')}@otterby.example"
                if session.scalar(select(User).where(User.email == email)) is None:
                    session.add(User(name=f"The {role}", email=email, password_hash=HASH, role=role))

    def as_role(self, role: str) -> PageClient:
        client = PageClient(self.app, raise_server_exceptions=False)
        self.addCleanup(client.close)
        email = f"{role.replace(' ', '.')}@otterby.example"
        form = {"_csrf": self.token(client.get("/sign-in").text), "email": email, "password": PASSWORD}
        page = client.post("/sign-in", data=form)
        self.assertEqual(page.status_code, 200)
        client.headers["X-CSRF-Token"] = self.token(page.text)
        return client


HASH = hash_password(PASSWORD)


class EveryRoute(RolesCase):
    def test_every_address_has_a_line_at_the_gate(self) -> None:
        for method, path in routes():
            self.assertIsNotNone(permissions.needed(method, filled(path)), f"{method} {path}")
        self.assertIsNone(permissions.needed("GET", "/not-yet-made"))
        self.assertFalse(permissions.may_go("owner", "/not-yet-made"))
        self.assertFalse(permissions.may_go("somebody", "/"))
        self.assertFalse(permissions.may_go(None, "/"))

    def test_each_role_reaches_what_it_is_for_and_nothing_else(self) -> None:
        for role in ("marketer", "front desk", "viewer"):
            client = self.as_role(role)
            for method, path in routes():
                if path in ("/sign-out", "/own/sessions", "/own/password") or "GET /export" in path:
                    continue
                address = filled(path)
                with self.subTest(role=role, address=f"{method} {address}"):
                    if expected(role, method, path):
                        self.assertTrue(permissions.may_go(role, address, method))
                    else:
                        answer = client.request(method, address, follow_redirects=False)
                        self.assertEqual(answer.status_code, 403)
                        self.assertIn("among your tasks", answer.text)

    def test_an_owner_is_refused_nowhere(self) -> None:
        for method, path in routes():
            self.assertTrue(permissions.may_go("owner", filled(path), method), path)

    def test_the_front_desk_keeps_basics_alone(self) -> None:
        client = self.as_role("front desk")
        for part in "who reach marks dates companions fields ids tags".split():
            answer = client.get(f"/customers/3/part/{part}?edit=1")
            self.assertEqual(answer.status_code, 200 if part in BASIC_PARTS else 403, part)

    def test_pages_lead_only_where_their_reader_may_go(self) -> None:
        """A button that answers “not yours” is a defect."""
        for role in Role:
            client, seen, open_pages = self.as_role(role), set(), ["/", "/own", "/handbook"]
            while open_pages and len(seen) < 60:
                at = open_pages.pop()
                page = client.get(at)
                self.assertLess(page.status_code, 400, f"{role} {at}")
                for method, link in sorted(links_of(page.text, at)):
                    path = link.split("?")[0]
                    with self.subTest(role=role, page=at, link=f"{method} {link}"):
                        self.assertTrue(is_open(path) or permissions.may_go(role, path, method))
                    kind = re.sub(r"\d+", "1", path)
                    if method == "GET" and kind not in seen and may_be_walked(path) and path != at:
                        seen.add(kind)
                        open_pages.append(link)

    def test_a_viewer_sees_no_customer(self) -> None:
        with self.application.database.reading() as session:
            people = session.scalars(select(Person)).all()
        known = {
            text.lower() for one in people for text in (one.email, one.phone, one.name, one.last_name) if text
        }
        client = self.as_role("viewer")
        for address in (
            "/ /week /calendar /rhythm /rhythm/top?percent=10 /rhythm/value /rhythm/cells /results"
            " /results/1 /results/tests /results/domains /results/sequence/1 /results/sequence/2"
            " /results/campaign/1/links /results/campaign/1/links/mail /results/campaign/1/segments"
        ).split():
            page = client.get(address)
            self.assertLess(page.status_code, 405, address)
            words = re.sub(r"<[^>]+>", " ", page.text.lower())
            said = {one for one in known if re.search(rf"(?<!\w){re.escape(one)}(?!\w)", words)}
            self.assertEqual(said, set(), address)


def is_open(path: str) -> bool:
    """Of a page that anybody may see."""
    return path.startswith(
        ("/sign-up", "/preferences", "/offer/", "/picture/", "/sign-in", "/view/", "/api/", "/places/")
    )


def may_be_walked(path: str) -> bool:
    return not is_open(path) and not path.startswith(("/export", "/imports/sample", "/results."))


class TextAlone(RolesCase):
    def test_a_mail_of_text_alone_is_shown_with_links_and_runs_nothing(self) -> None:
        """Seen: an invitation stood in the post room as “no HTML part”."""
        raw = (
            b"From: a@x.example\r\nTo: b@y.example\r\nSubject: Hi\r\n\r\n"
            b"<script>alert(1)</script> http://127.0.0.1:8000/join/abc_d-1\r\n"
        )
        self.room.keep("a@x.example", "b@y.example", raw, datetime(2026, 5, 12, 13, 0, tzinfo=UTC))
        number = self.room.newest()[0].id
        page = self.as_role("owner").get(f"/post-room/{number}/html").text
        self.assertIn('<a href="http://127.0.0.1:8000/join/abc_d-1" target="_top"', page)
        self.assertNotIn("<script>", page)


class Bounds(RolesCase):
    def test_the_front_desk_keeps_a_refusal_and_no_consent(self) -> None:
        client = self.as_role("front desk")
        said = {"channel": "email", "state": "agreed", "source": "counter"}
        self.assertIn("does not want messages", client.post("/customers/5/part/reach", data=said).text)
        client.post("/customers/5/part/reach", data={"act": "suppress", "channel": "email"})
        with self.application.database.reading() as session:
            marks = session.scalars(select(Suppression).where(Suppression.person_id == 5)).all()
        self.assertEqual([one.reason for one in marks if one.lifted_at is None][-1:], ["by hand"])
        number = marks[-1].id
        client.post("/customers/5/part/reach", data={"act": "lift", "suppression": str(number)})
        with self.application.database.reading() as session:
            self.assertIsNone(session.get_one(Suppression, number).lifted_at)

    def test_the_front_desk_finds_somebody_and_does_not_leaf_through_the_book(self) -> None:
        client = self.as_role("front desk")
        for address in ("/customers", "/customers?q=a", "/customers?after=40", "/customers?q=ab&after=40"):
            self.assertNotIn('href="/customers/', client.get(address).text, address)
        self.assertIn('href="/customers/', client.get("/customers?q=ab").text)

    def test_the_front_desk_sees_whom_it_expects_today_in_their_order(self) -> None:
        """The demo stands at Tuesday 12 May 2026, 9:40 in New York (UTC-4)."""
        with self.application.database.transaction() as session:
            for person, hour, state in ((4, 20, "booked"), (5, 12, "kept"), (6, 15, "cancelled")):
                at = datetime(2026, 5, 12, hour, 5, tzinfo=UTC)
                session.add(Appointment(person_id=person, starts_at=at, state=state))
            # the last minute of the day before, and the first of the day after
            for person, at in ((7, datetime(2026, 5, 12, 3, 59)), (8, datetime(2026, 5, 13, 4))):
                session.add(Appointment(person_id=person, starts_at=at.replace(tzinfo=UTC), state="booked"))
        page = self.as_role("front desk").get("/").text
        table = page[page.index("Expected today") : page.index("<h2>Replies")]
        seen = re.findall(r'>(\d+:\d\d)</td> <td><a href="/customers/(\d+)"', table)
        self.assertEqual([one for one in seen if one[1] in ("5", "4")], [("8:05", "5"), ("16:05", "4")])
        self.assertFalse({one[1] for one in seen} & {"6", "7", "8"})

    def test_the_front_desk_cannot_narrow_the_book_by_a_rule(self) -> None:
        client = self.as_role("front desk")
        page = client.get("/customers?q=ab&segment=1&columns=spent,band").text
        self.assertIn("abara", page.lower())
        self.assertNotIn("Spent", page)
        self.assertNotIn('name="segment"', page)

    def test_who_is_bound_to_a_department_leaves_the_others_alone(self) -> None:
        with self.application.database.transaction() as session:
            own, other = session.scalars(select(Department.id).limit(2)).all()
            session.get_one(Sequence, 1).department_id = own
            session.get_one(Sequence, 2).department_id = other
            name = session.get_one(Sequence, 2).name
            marketer = session.scalar(select(User).where(User.email == "marketer@otterby.example"))
            marketer.departments = [own]
        client = self.as_role("marketer")
        self.assertEqual(client.post("/sequences/2/pause").status_code, 403)
        self.assertIn("another department", client.post("/sequences/2/pause").text)
        said = client.post("/sequences", data={"sequence_id": "2", "name": name, "plan": "{}"})
        self.assertIn("another department", said.text)
        self.assertEqual(client.post("/sequences/1/pause", follow_redirects=False).status_code, 303)
        self.assertEqual(client.post("/sequences/order", data={"sequence": ["2", "1"]}).status_code, 403)
        self.assertNotIn("/rank", client.get("/sequences").text)
        with self.application.database.transaction() as session:
            session.scalar(select(User).where(User.email == "marketer@otterby.example")).departments = []

    def test_the_front_desk_reads_saved_replies_and_leaves_them(self) -> None:
        page = self.as_role("front desk").get("/replies/answers").text
        self.assertIn("card-paper", page)
        self.assertNotIn("<textarea", page)
        self.assertIn("<textarea", self.as_role("marketer").get("/replies/answers").text)

    def test_a_role_that_changes_holds_from_the_next_click(self) -> None:
        client = self.as_role("marketer")
        self.assertEqual(client.get("/segments").status_code, 200)
        with self.application.database.transaction() as session:
            session.scalar(select(User).where(User.email == "marketer@otterby.example")).role = "front desk"
        self.assertEqual(client.get("/segments").status_code, 403)
        with self.application.database.transaction() as session:
            user = session.scalar(select(User).where(User.email == "marketer@otterby.example"))
            user.role = "marketer"
            self.assertEqual(session.scalars(select(Session.waits_for_code)).all().count(True), 0)

    def test_downloads_of_customers_need_the_right_to(self) -> None:
        client = self.as_role("front desk")
        for address in ("/export/customers.csv", "/segments/1/people", "/imports/1/refused.csv"):
            self.assertEqual(client.get(address).status_code, 403, address)
        self.assertNotIn(Permission.EXPORT, {permissions.needed("GET", "/customers/1")})
