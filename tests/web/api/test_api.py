"""What other programs send: taken once, refused with reasons, and never answered with a crash."""

import csv
import io
import json
from datetime import timedelta

import schemathesis
from fastapi import FastAPI
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given, settings
from openapi_spec_validator import validate
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.integrations import api_tokens
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.sequences import publishing
from loyalbell.storage.schema import CustomField
from loyalbell.web.api.app import create_api
from loyalbell.web.rate_limits import RateLimit
from tests.storage.files.test_export import out
from tests.support import NOW, ApplicationCase, FakeSender

CHECKS = [
    not_a_server_error,
    status_code_conformance,
    content_type_conformance,
    response_schema_conformance,
]
CLOUD = "application/cloudevents+json"


class ApiCase(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.api = create_api(self.application, RateLimit(burst=10**9))
        self.token = api_tokens.make_token(self.application, "till", list(api_tokens.SCOPES), "Ida")
        self.client = TestClient(self.api, headers={"Authorization": f"Bearer {self.token}"})

    def send(self, path: str, body: object, **headers: str) -> tuple[int, dict]:
        found = self.client.post(path, json=body, headers=headers)
        if found.status_code >= 400:
            self.assertEqual(found.headers["Content-Type"], "application/problem+json")
            self.assertEqual(found.json()["status"], found.status_code)
        return found.status_code, found.json()

    def result(self, path: str, body: object, **headers: str) -> tuple[int, int, int, int]:
        status, found = self.send(path, body, **headers)
        self.assertLess(status, 300, found)
        return found["created"], found["changed"], found["unchanged"], len(found["refused"])


class BringingIn(ApiCase):
    def setUp(self) -> None:
        super().setUp()
        self.wren = self.add_person("wren@example.com")
        plan = read_plan(
            {
                "start": {"on": "hand"},
                "steps": [{"do": "message", "id": "m", "message": self.letter()}],
                "again": {"kind": "each"},
            }
        )
        self.sequence = sequence_commands.keep(self.application, None, "By the site", plan, "Ida")
        self.path = f"/sequences/{self.sequence}/people"
        self.people = [{"email": "WREN@example.com"}, {"email": "nobody@example.com"}]

    def test_each_once_for_a_reason_and_those_unknown_are_named(self) -> None:
        publishing.publish(self.application, self.sequence, publishing.Choices(), "Ida")
        body = {"people": self.people, "reason": "workshop"}
        self.assertEqual(self.result(self.path, body), (1, 0, 0, 1))
        self.clock.move_on(timedelta(days=40))
        self.assertEqual(self.result(self.path, body), (0, 0, 1, 1))
        self.assertEqual(self.result(self.path, body | {"reason": "another"}), (1, 0, 0, 1))
        key = {"Idempotency-Key": "k1"}
        for _ in range(2):
            self.assertEqual(self.result(self.path, {"people": self.people[:1]}, **key), (1, 0, 0, 0))
        sender = FakeSender()
        tick(self.application, sender)
        self.assertEqual({one.recipient for one in sender.handed}, {"wren@example.com"})

    def test_what_does_not_ring_takes_nobody_and_a_token_needs_the_right(self) -> None:
        self.assertEqual(self.send(self.path, {"people": self.people})[0], 404)
        self.assertEqual(self.send("/sequences/99/people", {"people": self.people})[0], 404)
        other = api_tokens.make_token(self.application, "site", ["history"], "Ida")
        headers = {"Authorization": f"Bearer {other}"}
        self.assertEqual(self.send(self.path, {"people": self.people}, **headers)[0], 403)


class Sending(ApiCase):
    def test_a_customer_with_everything(self) -> None:
        with self.application.database.transaction() as session:
            session.add(CustomField(name="Size", kind="number", choices=[], made_at=NOW))
        whole = {
            "id": "C1",
            "email": "Wren@EXAMPLE.com",
            "phone": "(212) 555-0142",
            "birthday": "--02-29",
            "tags": ["vip"],
            "fields": {"size": 38.5},
            "dates": {"Anniversary": "2020-02-29"},
            "ids": {"till": "9"},
            "companions": [{"name": "Biscuit", "kind": "dog", "birthday": "2020-01-01"}],
            "consents": [{"channel": "email", "state": "agreed", "at": "2026-01-01"}],
            "language": "es-mx",
        }
        self.assertEqual(self.result("/people", whole), (1, 0, 0, 0))
        self.assertEqual(self.result("/people", whole), (0, 0, 1, 0))
        row = next(csv.DictReader(io.StringIO(out(self.application, "customers"))))
        self.assertEqual(
            (row["Email"], row["Mobile phone"], row["Birthday"]),
            ("Wren@EXAMPLE.com", "+12125550142", "'--02-29"),
        )
        self.assertEqual(
            (row["Size"], row["Anniversary (yearly)"], row["ID in till"]), ("38.5", "2020-02-29", "9")
        )
        self.assertEqual(
            self.result("/people", {"email": "wren@example.COM", "first_name": "Wren"}), (0, 1, 0, 0)
        )
        read = self.client.get("/people/C1").json()
        self.assertEqual(
            (read["first_name"], read["consents"]["email"], read["tags"]), ("Wren", "agreed", ["vip"])
        )

    def test_a_refusal_holds_against_undated_words(self) -> None:
        self.send("/people", {"id": "C1", "consents": [{"channel": "text", "state": "refused"}]})
        self.send("/people", {"id": "C1", "consents": [{"channel": "text", "state": "agreed"}]})
        self.assertEqual(self.client.get("/people/C1").json()["consents"]["text"], "refused")
        self.clock.move_on(timedelta(days=1))
        later = {"channel": "text", "state": "agreed", "at": self.clock.now().isoformat()}
        self.send("/people", {"id": "C1", "consents": [later]})
        self.assertEqual(self.client.get("/people/C1").json()["consents"]["text"], "agreed")

    def test_orders_again_and_again(self) -> None:
        self.send("/people", {"id": "C1"})
        order = {
            "external_id": "R1",
            "id": "C1",
            "placed": "2026-05-10T10:00:00-04:00",
            "lines": [{"item": "Tea", "total": "5.10"}, {"item": "Cake", "total": "6", "quantity": "1.5"}],
        }
        self.assertEqual(self.result("/orders", order), (1, 0, 0, 0))
        self.assertEqual(self.result("/orders", order), (0, 0, 1, 0))
        self.assertEqual(
            self.result("/orders", order | {"refunded": "5.10", "refunded_at": "2026-05-11"}), (0, 1, 0, 0)
        )
        snapshot = self.application.snapshot()
        self.assertEqual((snapshot.orders.money.tolist(), snapshot.orders.refunded.tolist()), ([1110], [510]))
        many = {
            "records": [
                order,
                order | {"external_id": "R2"},
                order | {"external_id": "R2"},
                order | {"external_id": "R3", "id": "who"},
            ]
        }
        status, found = self.send("/orders/batch", many)
        self.assertEqual(
            (status, found["created"], [one["at"] for one in found["refused"]]), (200, 1, [2, 3])
        )
        self.assertEqual(self.application.snapshot().orders.money.tolist(), [1110, 1110])

    def test_the_same_key_is_carried_out_once(self) -> None:
        self.send("/people", {"id": "C1"})
        event = {"id": "C1", "kind": "rang", "at": "2026-05-01"}
        first = self.client.post("/events", json=event, headers={"Idempotency-Key": "k"})
        self.assertEqual(
            self.send("/visits", {"id": "C1", "at": "2026-05-01"}, **{"Idempotency-Key": "k"})[0], 409
        )
        again = self.client.post("/events", json=event, headers={"Idempotency-Key": "k"})
        self.assertEqual((again.status_code, again.json()), (first.status_code, first.json()))
        self.assertEqual(again.headers["Idempotent-Replayed"], "true")
        self.clock.move_on(timedelta(days=3))
        self.send("/visits", {"id": "C1", "at": "2026-05-02"}, **{"Idempotency-Key": "other"})
        self.assertEqual(self.result("/events", event, **{"Idempotency-Key": "k"}), (0, 0, 1, 0))

    def test_cloud_events(self) -> None:
        self.send("/people", {"id": "C1"})
        # CloudEvents 1.0.2, section 3: the required attributes
        event = {
            "specversion": "1.0",
            "id": "A234-1234-1234",
            "source": "/mycontext",
            "type": "com.example.someevent",
            "subject": "C1",
            "time": "2018-04-05T17:31:00Z",
            "comexampleextension1": "value",
            "data": {"appinfoA": "abc"},
        }
        for _ in range(2):
            found = self.client.post("/events", content=json.dumps(event), headers={"Content-Type": CLOUD})
            self.assertLess(found.status_code, 300, found.text)
        batch = json.dumps([event, event | {"id": "B"}])
        kind = "application/cloudevents-batch+json; charset=utf-8"
        found = self.client.post("/events", content=batch, headers={"Content-Type": kind})
        self.assertEqual((found.json()["created"], found.json()["unchanged"]), (1, 1))
        self.assertEqual(len(self.application.snapshot().events), 2)
        for content, media, status in (
            (batch, CLOUD, 422),
            ("{", CLOUD, 400),
            ("{}", "text/xml", 415),
            ("[]", "application/json", 422),
        ):
            found = self.client.post("/events", content=content, headers={"Content-Type": media})
            self.assertEqual(found.status_code, status, found.text)
        del event["specversion"]
        self.assertEqual(
            self.client.post("/events", content=json.dumps(event), headers={"Content-Type": CLOUD}).json()[
                "errors"
            ][0]["pointer"],
            "/specversion",
        )

    def test_who_may_do_what(self) -> None:
        only = api_tokens.make_token(self.application, "site", ["history"], "Ida")
        headers = {"Authorization": f"Bearer {only}"}
        self.assertEqual(self.send("/people", {"id": "C1"}, **headers)[0], 403)
        self.assertEqual(self.send("/visits", {"id": "C1", "at": "2026-05-01"}, **headers)[0], 422)
        for wrong in ("Bearer lb_none", "Basic abc", "Bearer", ""):
            self.assertEqual(self.send("/people", {"id": "C1"}, Authorization=wrong)[0], 401)
        api_tokens.revoke(self.application, 2, "Ida")
        self.assertEqual(self.send("/visits", {"id": "C1", "at": "2026-05-01"}, **headers)[0], 401)
        with self.application.database.reading() as session:
            kept = session.connection().exec_driver_sql("SELECT * FROM api_token").all()
        self.assertNotIn(only, str(kept))

    def test_limits(self) -> None:
        now = [0.0]
        rate = RateLimit(burst=2, per_second=0.5, clock=lambda: now[0])
        self.assertEqual([rate.take(1), rate.take(1), rate.take(1), rate.take(2)], [0, 0, 2.0, 0])
        now[0] = 2.0
        self.assertEqual((rate.take(1), rate.take(1)), (0, 2.0))
        self.assertEqual(self.send("/people/batch", {"records": [{"id": "C"}] * 1_001})[0], 422)
        self.assertEqual(self.client.post("/people", content=b" " * 8_000_001).status_code, 413)
        self.assertEqual(self.send("/people", {"id": "C1", "nope": 1})[1]["errors"][0]["pointer"], "/nope")


class Described(ApiCase):
    def setUp(self) -> None:
        super().setUp()
        self.mounted = FastAPI()
        self.mounted.mount("/api/v1", self.api)
        self.mounted.get("/openapi.json")(self.api.openapi)

    def test_the_description_is_openapi(self) -> None:
        description = self.client.get("/openapi.json").json()
        self.assertEqual(description["openapi"][:3], "3.1")
        validate(description)

    def test_anything_at_all_is_answered(self) -> None:
        """Fuzzed from our own description: no crash, and every answer as described."""
        self.send("/people", {"id": "C1"})
        schema = schemathesis.openapi.from_asgi("/openapi.json", self.mounted)
        for found in schema.get_all_operations():
            operation = found.ok()
            with self.subTest(operation.label):
                self.fuzz(operation)

    def fuzz(self, operation: schemathesis.APIOperation) -> None:
        allowed = {"Authorization": f"Bearer {self.token}"}

        @settings(
            max_examples=30,
            deadline=None,
            derandomize=True,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(case=operation.as_strategy())
        def run(case: schemathesis.Case) -> None:
            case.call_and_validate(headers=allowed, checks=CHECKS)

        run()
