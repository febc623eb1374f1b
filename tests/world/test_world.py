"""The practice world: the same seed lives the same life at any speed, and it never lies in its record."""

from __future__ import annotations

import base64
import json
import random
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from amber_lane.core.ids import check_gtin, check_s10
from amber_lane.world.app import make_app
from amber_lane.world.life import DAY, HOUR, MINUTE, live, populate
from amber_lane.world.state import World
from amber_lane.world.words import make_buyer, make_goods

SHOP = {"Authorization": "Basic " + base64.b64encode(b"dusk-dial:practice-shop").decode()}
TABLES = ("shop_listing", "shop_order", "supply_item", "supply_history", "parcel_event")


def lived(path: Path, steps: list[int], seed: int = 7) -> dict[str, str]:
    """A small world after some days, lived in steps of so many ms."""
    world = World(path, seed)
    populate(world, items=60, sold=20, history_days=3, buyers_a_day=40)
    for step in steps:
        world.set_clock(world.now() + step)
        live(world)
    return {name: json.dumps(world.rows(f"select * from {name} order by 1, 2")) for name in TABLES}


def test_the_same_seed_lives_the_same_life_at_any_speed(tmp_path: Path) -> None:
    whole = lived(tmp_path / "a.db", [2 * DAY])
    assert whole == lived(tmp_path / "b.db", [HOUR] * 48)
    assert whole == lived(tmp_path / "c.db", [7 * MINUTE] * (2 * DAY // (7 * MINUTE)) + [2 * DAY % (7 * MINUTE)])
    assert whole != lived(tmp_path / "d.db", [2 * DAY], seed=8) and len(json.loads(whole["shop_order"])) > 20


def test_a_world_goes_on_where_it_stood(tmp_path: Path) -> None:
    lived(tmp_path / "a.db", [DAY])
    world = World(tmp_path / "a.db")
    world.set_clock(world.now() + DAY)
    live(world)
    assert {name: json.dumps(world.rows(f"select * from {name} order by 1, 2")) for name in TABLES} == lived(tmp_path / "b.db", [DAY, DAY])


def quantities(world: World) -> dict[tuple[str, str], int]:
    return {(row["store"], row["sku"]): row["quantity"] for row in world.rows("select store, sku, quantity from shop_listing")}


def test_buyers_buy_only_what_is_on_sale_at_the_price_shown(tmp_path: Path) -> None:
    world = World(tmp_path / "a.db")
    populate(world, items=60, sold=20, history_days=1, buyers_a_day=200)
    with world.change() as db:
        db.execute("update shop_listing set state = 'paused' where rowid % 2")
        db.execute("update shop_listing set quantity = 3, price = 1234 where not rowid % 2")
        off = {(row["store"], row["sku"]) for row in world.rows("select store, sku from shop_listing where state = 'paused'")}
    before = quantities(world)
    world.set_clock(world.now() + DAY)
    live(world)
    bought: dict[tuple[str, str], int] = {}
    for row in world.rows("select store, body from shop_order"):
        for line in json.loads(row["body"])["lines"]:
            place = (row["store"], line["sku"])
            assert place not in off and line["unit_price"] == 1234
            bought[place] = bought.get(place, 0) + line["quantity"]
    left = quantities(world)
    assert bought and all(left[sku] == before[sku] - units >= 0 for sku, units in bought.items())


def test_what_it_makes_up_is_well_formed() -> None:
    goods = make_goods(7, 400, 100)
    assert len({one.number for one in goods}) == 400 and all(check_gtin(one.gtin) == one.gtin for one in goods if one.gtin)
    assert all(0 < one.cost < 100_000 and one.weight_g > 0 for one in goods)
    assert {make_buyer(random.Random(n))["email"].rsplit(".", 1)[1] for n in range(200)} == {"example"}


@pytest.fixture
def client(tmp_path: Path) -> TestClient:
    world = World(tmp_path / "w.db")
    populate(world, items=40, sold=10, history_days=1, buyers_a_day=0)
    return TestClient(make_app(world, None, tick=3600))


def test_it_refuses_what_it_does_not_have_and_never_guards_us_from_buying_twice(client: TestClient) -> None:
    world: World = client.app.state.world  # type: ignore[attr-defined]
    item = world.rows("select number, stock from supply_item where supplier = 'wholesale' and stock > 20 order by weight_g * stock")[0]
    key = {"Authorization": "Bearer practice-northlight"}
    address = {"name": "W", "address_1": "1", "city": "C", "postcode": "YO1", "country": "GB"}
    origin = world.one("select origin from supply_item where supplier = 'wholesale' and number = ?", (item["number"],))["origin"]  # type: ignore[index]

    def buy(reference: str, quantity: int) -> dict[str, object]:
        lines = [{"line_no": 1, "item": item["number"], "quantity": quantity}]
        body = {"reference": reference, "origin": origin, "service": "tracked48", "lines": lines, "address": address}
        answer = client.post("/wholesale/api/purchases", json=body, headers=key)
        assert answer.status_code in (200, 201), answer.text
        return dict(answer.json())

    assert client.get("/wholesale/api/items", headers={"Authorization": "Bearer no"}).status_code == 401
    first, again, much = buy("R-1", 5), buy("R-1", 5), buy("R-2", item["stock"] + 1)
    # As in life: who sends twice has bought twice, and only asking by the reference first tells.
    assert len({first["number"], again["number"], much["number"]}) == 3
    client.post("/world/clock", json={"jump_minutes": 30})
    record = {one["reference"]: one for one in client.get("/world/record").json()["purchases"]}
    assert record["R-1"]["state"] == "accepted" and record["R-2"]["state"] == "refused"
    assert len(client.get("/wholesale/api/purchases?reference=R-1", headers=key).json()["purchases"]) == 2
    assert world.one("select stock from supply_item where supplier = 'wholesale' and number = ?", (item["number"],)) == {
        "stock": item["stock"] - 10
    }
    client.post("/world/clock", json={"jump_minutes": 60 * 24 * 5})
    number = {one["reference"]: one for one in client.get("/world/record").json()["purchases"]}["R-1"]["tracking_number"]
    events = client.get(f"/post/api/tracking?numbers={number}", headers={"Authorization": "Bearer practice-swiftwing"}).json()
    assert check_s10(number) and "delivered" in json.dumps(events)


def test_its_clock_only_goes_forward_and_steps_to_what_comes_next(client: TestClient) -> None:
    now = client.get("/world/clock").json()["now"]
    assert client.post("/world/clock", json={"to": "2020-01-01T00:00:00Z"}).status_code == 422
    assert client.post("/world/clock", json={"speed": -1}).status_code == 422
    world: World = client.app.state.world  # type: ignore[attr-defined]
    due = world.one("select min(due) as due from event")
    client.post("/world/clock", json={"next_event": True})
    assert due and world.now() == due["due"] and client.get("/world/clock").json()["now"] > now


def test_dials_tear_lose_and_refuse_but_the_work_is_in_the_record(client: TestClient) -> None:
    def dial(name: str, value: float) -> None:
        assert client.post("/world/dials", json={"service": "shop", "name": name, "value": value}).status_code == 200

    sku = client.get("/shop/api/listings", headers=SHOP).json()["listings"][0]["sku"]
    for fact in ("hold_seconds", "breaks_off"):
        client.post("/world/facts", json={"name": fact, "value": 0})

    def change(price: str, key: str) -> int:
        return client.patch(f"/shop/api/listings/{sku}", json={"price": price}, headers={**SHOP, "Idempotency-Key": key}).status_code

    def record() -> list[int]:
        return [one["price"] for one in client.get(f"/world/record/listings/{sku}").json()["shown"]]

    dial("errors", 1)
    assert change("77.00", "a") == 503 and record()[-1] != 7700
    dial("errors", 0)
    dial("malformed", 1)
    torn = client.patch(f"/shop/api/listings/{sku}", json={"price": "78.00"}, headers={**SHOP, "Idempotency-Key": "b"})
    with pytest.raises(json.JSONDecodeError):
        torn.json()
    assert record()[-1] == 7800, "torn is not undone"
    dial("malformed", 0)
    seen = len(record())
    assert change("78.00", "b") == 200 and len(record()) == seen, "the same key twice is one change"
    dial("rate_limit", 1)
    assert 429 in [change("79.00", f"c{n}") for n in range(4)]
    assert client.post("/world/dials", json={"service": "shop", "name": "mood", "value": 1}).status_code == 422
