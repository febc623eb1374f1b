"""People let in with no more than they need: every call by every role, no money for who may not see any, and acts above one's limit."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from anyio.from_thread import start_blocking_portal
from argon2 import PasswordHasher
from fastapi.routing import APIRoute
from fastapi.testclient import TestClient
from sqlalchemy import func, select

from amber_lane.api.app import GUARDED, make_app, make_app_state
from amber_lane.api.people import sign_in
from amber_lane.core.permissions import Permission as P
from amber_lane.core.permissions import Scope, built_in, whole
from amber_lane.data.orders import PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.people import Approval, PersonSpending
from amber_lane.data.shelf import Sku
from amber_lane.services.base import credentials
from amber_lane.services.mapping import lanes
from amber_lane.services.people import roles, users
from amber_lane.settings import Settings

from ..small import Small

WORD = "seven quiet herons"
ROLES = built_in("GBP")
# What anybody can be asked before they are known, and programs and agents, who have keys and pages of their own.
OPEN = ("/api/v1/session", "/api/v1/program", "/api/v1/mine")


class House:
    """One application, with a client for each person."""

    def __init__(self, small: Small, folder: Path) -> None:
        self.small = small
        state = make_app_state(Settings(data=folder, database_url=small.db.url, jobs=False, web=folder), clock=small.clock)
        self.app = make_app(state)

    def person(self, role: str, name: str = "", scope: Scope = users.NOBODYS) -> TestClient:
        name = name or role.title()
        mail = f"{name.lower()}@amber-lane.example"
        self.small.write(lambda context: users.make_person(context, name, mail, WORD, role, scope))
        client = TestClient(self.app, headers={"X-Amber-Lane": "1"}, raise_server_exceptions=False)
        answer = client.post("/api/v1/session", json={"mail": mail, "password": WORD})
        assert answer.status_code == 200, answer.text
        return client


@pytest.fixture
def house(small: Small, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[House]:
    monkeypatch.setattr(credentials, "_hasher", PasswordHasher(time_cost=1, memory_cost=8, parallelism=1))
    monkeypatch.setattr(sign_in, "_NOBODY", credentials.hash_password("nobody at all"))
    small.respond()
    yield House(small, tmp_path)


def routes() -> list[APIRoute]:
    return [one for part in GUARDED for one in part.router.routes if isinstance(one, APIRoute)]


def called(route: APIRoute) -> dict[str, Any]:
    """A call as somebody curious would make it: things that are not there, and nothing in it."""
    kinds = {"form": "csv", "name": "lanes", "owner": "store", "what": "orders", "token": "0" * 24, "paper": "list"}
    path = re.sub(r"{(\w+)}", lambda found: kinds.get(found[1], "999999"), f"/api/v1{route.path}")
    (method,) = route.methods - {"HEAD"}
    return {"method": method, "url": path, "json": None if method in ("GET", "DELETE") else {}}


def test_every_call_says_what_it_needs_and_nobody_gets_more(house: House) -> None:
    mine = routes()
    told = TestClient(house.app).get("/api/openapi.json").json()["paths"]
    others = {path for path in told if not path.startswith(OPEN)} - {f"/api/v1{one.path}" for one in mine}
    assert len(mine) > 300 and others == {"/api/health"}, "every other call has a door of its own"
    people = {name: Scope(frozenset({1}), frozenset({1})) if role.own_page else Scope() for name, role in ROLES.items()}
    cookies = {name: dict(house.person(name, scope=scope).cookies) for name, scope in people.items()}

    async def ask() -> list[object]:
        wrong: list[object] = []
        at = httpx.ASGITransport(house.app, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=at, base_url="http://testserver", headers={"X-Amber-Lane": "1"}) as client:
            for route in (one for one in mine if not one.path.endswith("/events")):
                needed = {P(one) for one in route.openapi_extra["x-needs"]}
                client.cookies.clear()
                stranger = await client.request(**called(route))
                if stranger.status_code not in (401, 422) and "/hooks/" not in route.path:
                    wrong.append(("nobody", route.path, stranger.status_code))
                for name, role in ROLES.items():
                    client.cookies = cookies[name]
                    answer = await client.request(**called(route))
                    # What a sheet or a list holds is asked for by itself.
                    may = needed <= role.permissions and not role.own_page
                    refused = answer.status_code == 403 and ("this needs somebody" in answer.text or "your own page" in answer.text)
                    if answer.status_code >= 500 or (refused == may and not (may and "/sheets/" in route.path)):
                        wrong.append((name, sorted(route.methods), route.path, answer.status_code, answer.text[:100]))
        return wrong

    # In a loop of its own thread: a browser's test beside may have left one running here.
    with start_blocking_portal() as portal:
        assert portal.call(ask) == []


def test_a_mapper_settles_the_queue_and_sees_no_money(house: House, small: Small) -> None:
    lane = small.lane(6)
    manager, mapper = house.person("manager"), house.person("mapper")
    assert (
        manager.post(f"/api/v1/lanes/{lane.id}/close", json={"version": lane.version, "reason": "it cost £12.40 more"}).status_code == 200
    )
    small.order("W-1", ("S-6", 1, 3000))
    seen: dict[str, str] = {}

    def get(path: str, **params: Any) -> Any:
        answer = mapper.get(f"/api/v1{path}", params=params)
        assert answer.status_code == 200, answer.text
        seen[path] = answer.text
        return answer.json()

    (row,) = get("/lanes/to-settle")["rows"]
    assert (row["sku"], row["orders"], row["waiting"]) == ("S-6", 1, None)
    found = get("/lanes/skus/6/candidates", words="I-5")
    assert found[0]["cost"] is found[0]["landed"] is found[0]["profit"] is None and found[0]["stock"] == 20
    ask = {"sku_id": 6, "parts": [{"item_id": found[0]["item_id"], "units": "1/2"}]}
    looked = mapper.post("/api/v1/lanes/preview", json=ask).json()
    assert looked["price"] is None and looked["orders"] == 1
    assert mapper.post("/api/v1/lanes", json=ask).status_code == 201
    # What another began goes on, whoever else sees that it runs.
    job = manager.post("/api/v1/lanes/sure").json()["job"]
    assert mapper.post(f"/api/v1/jobs/{job}/stop").status_code == 403
    assert get("/lanes/to-settle")["rows"] == [] and small.lane(6).opened_by == "Mapper"
    for path in (
        "/lanes",
        "/lanes/skus/6",
        "/lanes/skus/6/family",
        f"/lanes/{small.lane(6).id}",
        "/lanes/faults",
        "/today",
        "/acts",
        "/pulse",
        "/shelf",
    ):
        get(path)
    get("/find", words="S-6")
    for path, text in seen.items():
        assert not re.search(r"[£€$¥]\s?\d|\d\s?GBP|\"amount\"", text), path
    acts = get("/acts")["rows"]
    assert {one["who"] for one in acts} == {"Mapper"}, "what others did is not theirs to read"
    # What is counted of their work they see themselves, to the same figures.
    mine = mapper.get("/api/v1/my-work").json()
    person = next(one for one in manager.get("/api/v1/setup/people").json() if one["name"] == "Mapper")
    assert mine == manager.get(f"/api/v1/setup/people/{person['id']}/work").json() | {}
    assert [(one["acts"], one["count"], one["undone"]) for one in mine["rows"]] == [(1, 1, 0)] and mine["lanes_opened"] == 1
    # Their own act they take back; a manager's they do not.
    closed = manager.get("/api/v1/acts", params={"filters": "kind:lane.close"}).json()["rows"][0]
    assert mapper.post(f"/api/v1/acts/{closed['id']}/undo").status_code == 403
    opened = next(one for one in acts if one["undo"] == "open")
    assert mapper.post(f"/api/v1/acts/{opened['id']}/undo").status_code == 200
    assert [one["undone"] for one in mapper.get("/api/v1/my-work").json()["rows"]] == [1]


def test_somebody_limited_sees_their_own_goods_alone(house: House, small: Small) -> None:
    small.write(lambda context: context.session.get(Sku, 5).__setattr__("category", "Lamps"))
    manager, mapper = house.person("manager"), house.person("mapper", scope=Scope(categories=frozenset({"Lamps"})))
    for number in (5, 6):
        lane = small.lane(number)
        assert manager.post(f"/api/v1/lanes/{lane.id}/close", json={"version": lane.version, "reason": ""}).status_code == 200
    assert [one["sku"] for one in mapper.get("/api/v1/lanes/to-settle").json()["rows"]] == ["S-5"]
    assert [one["name"] for one in mapper.get("/api/v1/find", params={"words": "S-"}).json()] == ["S-5"]
    assert mapper.get("/api/v1/lanes/skus/6").status_code == 404
    ask = {"sku_id": 6, "parts": [{"item_id": 6, "units": "1"}]}
    assert mapper.post("/api/v1/lanes", json=ask).status_code == mapper.post("/api/v1/lanes/preview", json=ask).status_code == 404
    assert mapper.post("/api/v1/lanes/many", json={"picks": [{"sku_id": 6, "item_id": 6}]}).status_code == 404
    # What does not look to these limits is shut to them, and Today tells nothing of others' goods.
    assert mapper.get("/api/v1/lanes").status_code == mapper.get("/api/v1/shelf").status_code == 403
    assert mapper.get("/api/v1/today").json()["alerts"] == []
    ask = {"sku_id": 5, "parts": [{"item_id": 5, "units": "1"}]}
    assert mapper.post("/api/v1/lanes", json=ask).status_code == 201
    of_two = house.person("mapper", "Second", Scope(suppliers=frozenset({2})))
    assert of_two.get("/api/v1/lanes/skus/6/candidates", params={"words": "I-5"}).json() == []
    ask = {"sku_id": 6, "parts": [{"item_id": 5, "units": "1"}]}
    assert of_two.post("/api/v1/lanes", json=ask).status_code == 404


def test_an_act_above_a_limit_waits_for_somebody_who_may(house: House, small: Small) -> None:
    small.write(lambda context: roles.keep(context, roles.Role("buyer", ROLES["buyer"].permissions, 600, 500), 0))
    manager, buyer, other = house.person("manager", "Vera"), house.person("buyer", "Tom"), house.person("buyer", "Una")
    orders = [small.order(f"O-{n}", ("S-2", 1, 900)) for n in range(3)]
    first = buyer.post("/api/v1/orders/send", json={"orders": [orders[0].id]})
    assert first.status_code == 200
    (bought,) = small.all(select(PurchaseOrder))
    assert small.all(select(PersonSpending.amount)) == [bought.goods + bought.shipping + bought.handling]
    asked = buyer.post("/api/v1/orders/send", json={"orders": []})
    assert asked.status_code == 202 and asked.json()["waits"] and "may spend £6.00 a day" in asked.json()["message"]
    assert small.all(select(func.count()).select_from(PurchaseOrder)) == [1], "nothing is bought before somebody who may says so"
    # The same wish is asked for once; an order that came since is none of it.
    assert buyer.post("/api/v1/orders/send", json={"orders": []}).status_code == 202
    late = small.order("O-9", ("S-2", 1, 900))
    (row,) = small.all(select(Approval))
    assert row.body["orders"] == [orders[1].id, orders[2].id] and row.amount == sum(part[2] for part in row.parts)

    def seen(client: TestClient) -> list[str]:
        return [one["message"] for one in client.get("/api/v1/today").json()["alerts"] if one["kind"] == "Your word"]

    assert len(seen(manager)) == 1 and "Tom asks for your word: buy 2 orders" in seen(manager)[0]
    # No limit alone makes nobody's word count: who buys nothing decides nothing of it, and neither does who works for one store.
    reads = roles.Role("reads all", frozenset({P.SEE_ORDERS, P.SEE_MONEY}), None, None)
    owner = roles.Role("owner", ROLES["buyer"].permissions, None, None)
    small.write(lambda context: [roles.keep(context, one) for one in (reads, owner)])
    outside = house.person("reads all", "Ray"), house.person("owner", "Olu", Scope(stores=frozenset({1})))
    for client in outside:
        assert seen(client) == [] == client.get("/api/v1/approvals").json()
        assert client.post(f"/api/v1/approvals/{row.id}/refuse", json={"version": row.version}).status_code == 403
    assert seen(buyer) == seen(other) == [], "whose own limit is no higher decides nothing"
    for client in (buyer, other):
        assert client.post(f"/api/v1/approvals/{row.id}/approve", json={}).status_code == 403
    # One of the two is approved; bought once, in the name of both, and never a second time.
    approved = manager.post(f"/api/v1/approvals/{row.id}/approve", json={"parts": [orders[2].id]})
    assert approved.status_code == 200, approved.text
    assert {one.order_id for one in small.all(select(PurchaseOrder))} == {orders[0].id, orders[2].id}
    assert manager.post(f"/api/v1/approvals/{row.id}/approve", json={}).status_code == 409
    sent = small.act("order.send")
    assert sent.who == "Vera, asked by Tom" and small.act("approval.approve").who == "Vera"
    # Refused with a reason, which whoever asked reads on Today; nothing is done.
    assert buyer.post("/api/v1/orders/send", json={"orders": [late.id, orders[1].id]}).status_code == 202
    wish = small.all(select(Approval).where(Approval.state == "waiting"))[0]
    assert manager.post(f"/api/v1/approvals/{wish.id}/refuse", json={"version": wish.version, "reason": "too dear now"}).status_code == 200
    told = [one for one in buyer.get("/api/v1/today").json()["alerts"] if one["kind"] == "Refused"]
    assert len(told) == 1 and told[0]["reason"] == "too dear now"
    assert len(small.all(select(PurchaseOrder))) == 2 and seen(manager) == []


def test_a_refund_above_a_limit_and_a_price_that_rose_meanwhile(house: House, small: Small) -> None:
    small.write(lambda context: roles.keep(context, roles.Role("buyer", ROLES["buyer"].permissions, 300, 1000), 0))
    manager, buyer = house.person("manager", "Vera"), house.person("buyer", "Tom")
    one, two = small.order("R-1", ("S-1", 1, 900)), small.order("R-2", ("S-2", 1, 900))
    assert buyer.post(f"/api/v1/orders/{one.id}/cancel", json={"reason": "asked"}).status_code == 200
    assert buyer.post(f"/api/v1/orders/{two.id}/cancel", json={"reason": "asked"}).status_code == 202
    (row,) = small.all(select(Approval))
    assert (row.limit, row.amount) == ("refund", 900)
    assert buyer.post(f"/api/v1/approvals/{row.id}/withdraw").status_code == 200
    assert manager.post(f"/api/v1/approvals/{row.id}/approve", json={}).status_code == 409
    assert buyer.post("/api/v1/orders/send", json={"orders": [two.id]}).status_code == 202
    wish = small.all(select(Approval).where(Approval.state == "waiting"))[0]
    small.sweep({2: (400, 20)})
    dearer = manager.post(f"/api/v1/approvals/{wish.id}/approve", json={})
    assert dearer.status_code == 409 and small.all(select(PurchaseOrder)) == []
    assert small.all(select(Approval.state).where(Approval.id == wish.id)) == ["waiting"], "what failed is not decided"


def test_a_person_is_invited_and_their_rights_change_at_once(house: House, small: Small) -> None:
    manager = house.person("manager", "Vera")
    ask = {"name": "", "mail": "Tom@amber-lane.example", "role": "mapper"}
    assert manager.post("/api/v1/setup/people", json=ask | {"role": "no such"}).status_code == 422
    answer = manager.post("/api/v1/setup/people", json=ask)
    assert answer.status_code == 201 and answer.json()["link"] == "", "it is mailed, and shown to nobody else"
    assert any("is invited as mapper" in one for one in small.all(select(AuditEntry.message)))
    tom = TestClient(house.app, headers={"X-Amber-Lane": "1"})
    assert tom.post("/api/v1/session", json={"mail": ask["mail"], "password": users.NO_PASSWORD}).status_code == 401
    with small.db.reading() as s:
        body = s.scalars(select(Outbox.body).where(Outbox.key.startswith("invite:"))).one()
    link = re.findall(r"invited=(\S+)", body["body"])[0]
    assert tom.post("/api/v1/session/invitation", json={"link": link}).json()["role"] == "mapper"
    assert tom.post("/api/v1/session/new-password", json={"link": link, "password": WORD}).status_code == 422
    weak = tom.post("/api/v1/session/invitation/accept", json={"link": link, "name": "Tom", "password": "tom"})
    assert weak.status_code == 422 and "password" in weak.json()["fields"]
    assert tom.post("/api/v1/session/invitation/accept", json={"link": link, "name": "Tom Reed", "password": WORD}).status_code == 200
    assert tom.post("/api/v1/session/invitation/accept", json={"link": link, "name": "Tom", "password": WORD}).status_code == 422, "once"
    assert tom.post("/api/v1/session", json={"mail": ask["mail"].lower(), "password": WORD}).json()["permissions"] == ["map", "see goods"]
    own = {"name": "list keeper", "permissions": ["list"], "version": None}
    assert manager.put("/api/v1/setup/roles", json=own).status_code == 200
    row = next(one for one in manager.get("/api/v1/setup/people").json() if one["name"] == "Tom Reed")
    made = next(one for one in manager.get("/api/v1/setup/roles").json()["roles"] if one["name"] == "list keeper")
    assert set(made["permissions"]) == {"see goods", "see money", "list"} == {one.value for one in whole({P.LIST})}
    changed = {"version": row["version"], "role": "list keeper"}
    assert manager.post(f"/api/v1/setup/people/{row['id']}/role", json=changed).status_code == 200
    assert tom.get("/api/v1/lanes/to-settle").status_code == 401, "they sign in anew"
    tom.post("/api/v1/session", json={"mail": ask["mail"].lower(), "password": WORD})
    assert tom.get("/api/v1/shelf").status_code == 200 and tom.post("/api/v1/lanes/sure").status_code == 403
    # A role changes under whoever has it, without their signing in; one that somebody has cannot go.
    assert manager.put("/api/v1/setup/roles", json=own | {"permissions": ["map"], "version": made["version"]}).status_code == 200
    assert tom.post("/api/v1/lanes/sure").status_code == 202 and tom.post("/api/v1/shelf/publish", json={}).status_code == 403
    assert manager.delete("/api/v1/setup/roles/list keeper", params={"version": made["version"] + 1}).status_code == 409
    assert manager.put("/api/v1/setup/roles", json={"name": "manager", "permissions": [], "version": 0}).status_code == 409


def test_work_is_handed_out_and_two_on_one_row_see_each_other(house: House, small: Small) -> None:
    for number in (5, 6):
        lane = small.lane(number)
        small.write(lambda context, lane=lane: lanes.close_lane(context, lane.id, None, "moved"))
    manager, mapper, books = house.person("manager", "Vera"), house.person("mapper", "Noor"), house.person("bookkeeper", "Bea")
    people = {one["name"]: one["id"] for one in manager.get("/api/v1/setup/people").json()}
    assert [one["name"] for one in manager.get("/api/v1/today/helpers", params={"station": "lanes"}).json()] == ["Vera", "Noor"]
    queue = [one["sku"] for one in mapper.get("/api/v1/lanes/to-settle").json()["rows"]]
    last = mapper.get("/api/v1/lanes/to-settle").json()["rows"][-1]
    give = {"skus": [last["sku_id"]], "person": people["Noor"]}
    assert manager.post("/api/v1/lanes/give", json=give).status_code == 200
    rows = mapper.get("/api/v1/lanes/to-settle").json()["rows"]
    assert rows[0]["sku"] == queue[-1] and rows[0]["mine"] and [one["sku"] for one in rows[1:]] == queue[:-1]
    seen = manager.get("/api/v1/lanes/to-settle").json()["rows"]
    assert [one["sku"] for one in seen] == queue and seen[-1]["given"] == "Noor" and not seen[-1]["mine"]
    # Nobody is given what they may not do, and who may not do it hands nothing out.
    assert manager.post("/api/v1/lanes/give", json=give | {"person": people["Bea"]}).status_code == 409
    alert = next(one for one in manager.get("/api/v1/today").json()["alerts"] if one["station"] == "lanes")
    assert books.post("/api/v1/today/give", json={"key": alert["key"], "person": people["Noor"]}).status_code == 403
    assert manager.post("/api/v1/today/give", json={"key": alert["key"], "person": people["Noor"]}).status_code == 200
    assert mapper.get("/api/v1/today").json()["alerts"][0]["mine"]
    assert [one["given"] for one in manager.get("/api/v1/today").json()["alerts"] if one["key"] == alert["key"]] == ["Noor"]
    assert manager.post("/api/v1/today/give", json={"key": alert["key"], "person": None}).status_code == 200
    assert not mapper.get("/api/v1/today").json()["alerts"][0]["mine"]
    # Both on one SKU see each other, until one goes on to the next.
    assert mapper.get("/api/v1/lanes/skus/5").json()["others"] == []
    assert manager.get("/api/v1/lanes/skus/5").json()["others"] == ["Noor"]
    assert mapper.get("/api/v1/lanes/skus/5").json()["others"] == ["Vera"]
    assert mapper.get("/api/v1/lanes/skus/6").json()["others"] == [] == manager.get("/api/v1/lanes/skus/5").json()["others"]


def test_nobody_gives_more_than_they_may_and_a_refusal_tells_no_amount(house: House, small: Small) -> None:
    """Somebody may let people in, and is no manager: not of themselves either."""
    hires = roles.Role("hires", frozenset({P.PEOPLE, P.SEE_GOODS, P.MAP}), 0, 0)
    small.write(lambda context: roles.keep(context, hires))
    manager, bo = house.person("manager", "Vera"), house.person("hires", "Bo")
    people = {one["name"]: one for one in bo.get("/api/v1/setup/people").json()}
    assert bo.post("/api/v1/setup/people", json={"mail": "m@helpers.example", "role": "mapper"}).status_code == 201
    raised = {"version": people["Bo"]["version"], "role": "manager"}
    above = (
        bo.post(f"/api/v1/setup/people/{people['Bo']['id']}/role", json=raised),
        bo.post("/api/v1/setup/people", json={"mail": "x@helpers.example", "role": "buyer"}),
        bo.put("/api/v1/setup/roles", json={"name": "hires", "permissions": ["people", "settings"], "version": 1}),
        bo.put("/api/v1/setup/roles", json={"name": "mapper", "permissions": ["map"], "spend": None, "refund": None, "version": 0}),
        bo.delete(f"/api/v1/setup/people/{people['Vera']['id']}", params={"version": people["Vera"]["version"]}),
        bo.post(f"/api/v1/setup/people/{people['Vera']['id']}/role", json={"version": people["Vera"]["version"], "role": "mapper"}),
    )
    assert [(one.status_code, "may more than you" in one.text) for one in above] == [(403, True)] * len(above)
    lane = small.lane(5)
    assert manager.post(f"/api/v1/lanes/{lane.id}/close", json={"version": lane.version, "reason": ""}).status_code == 200
    with_amount = {"sku_id": 5, "parts": [{"item_id": 5, "units": "£4.20"}]}
    told = bo.post("/api/v1/lanes", json=with_amount)
    assert told.status_code == 422 and "4.20" not in told.text and "4.20" in manager.post("/api/v1/lanes", json=with_amount).text


def test_a_program_does_what_its_key_says_and_never_more_than_its_person(house: House, small: Small) -> None:
    manager, tom = house.person("manager", "Vera"), house.person("buyer", "Tom")
    assert tom.post("/api/v1/my-keys", json={"name": "sync", "permissions": ["price"]}).status_code == 422
    assert "people" not in manager.get("/api/v1/my-keys").json()["may"], "no program lets people in"
    made = tom.post("/api/v1/my-keys", json={"name": "sync", "permissions": ["map"]})
    assert made.status_code == 201
    secret = made.json()["secret"]
    program = TestClient(house.app, headers={"Authorization": f"Bearer {secret}"})
    lane = small.lane(5)
    closed = program.post(f"/api/v1/lanes/{lane.id}/close", json={"version": lane.version, "reason": "by the program"})
    assert closed.status_code == 200 and small.act("lane.close").who == "Tom by sync"
    found = program.get("/api/v1/lanes/skus/5/candidates", params={"words": "I-5"}).json()
    assert found and found[0]["cost"] is None, "it was given no sight of money, though Tom has it"
    refused = {
        "/api/v1/orders/send": {"orders": []},
        "/api/v1/my-keys": {"name": "more", "permissions": ["map"]},
        "/api/v1/session/password": {"was": WORD, "fresh": "nine loud otters here"},
        "/api/v1/acts/1/undo": {},
        "/api/v1/approvals/1/approve": {},
    }
    assert {path: program.post(path, json=body).status_code for path, body in refused.items()} == dict.fromkeys(refused, 403)
    (key,) = tom.get("/api/v1/my-keys").json()["keys"]
    assert (key["name"], key["permissions"]) == ("sync", ["map", "see goods"]) and key["used_at"] and secret not in str(key)
    # What its person may no more, it may no more either; ended or without them it opens nothing.
    person = next(one for one in manager.get("/api/v1/setup/people").json() if one["name"] == "Tom")
    role = {"version": person["version"], "role": "bookkeeper"}
    assert manager.post(f"/api/v1/setup/people/{person['id']}/role", json=role).status_code == 200
    assert program.get("/api/v1/lanes/to-settle").status_code == 200
    assert program.post("/api/v1/lanes/sure").status_code == 403
    tom.post("/api/v1/session", json={"mail": "tom@amber-lane.example", "password": WORD})
    assert manager.delete(f"/api/v1/my-keys/{key['id']}").status_code == 404, "a key is its person's own"
    assert tom.delete(f"/api/v1/my-keys/{key['id']}").status_code == 200
    assert program.get("/api/v1/lanes/to-settle").status_code == 401
    for _ in range(30):
        guess = TestClient(house.app, headers={"Authorization": "Bearer alk_guess"}, raise_server_exceptions=False)
        wrong = guess.get("/api/v1/lanes/to-settle").status_code
    assert wrong == 429
    # Much that comes with a wrong key is refused unread, and breaks nothing.
    assert guess.post("/api/v1/sheets/lanes/look", content=b"x" * 1_500_000).status_code in (401, 413, 429)
