"""Descriptions over the interface: a description shared, tried, certified, connected by, checked again and exchanged."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from amber_lane.api.app import make_app

from ..business import Business

TEXT = (Path(__file__).parents[1] / "connectors" / "descriptions" / "marram.yaml").read_text()
AT = "/api/v1/setup/descriptions"


@pytest.fixture
def client(business: Business):
    house = business.app_state
    with TestClient(make_app(house), headers={"X-Amber-Lane": "1"}) as client:
        assert client.post("/api/v1/session", json={"mail": "tester@amber-lane.example", "password": "long-enough-word"}).status_code == 200
        yield client


def ok(answer: Any, status: int = 200) -> Any:
    assert answer.status_code == status, answer.text
    return answer.json()


def test_a_shared_description_is_tried_connected_by_checked_again_and_taken_out_without_a_key(
    client: TestClient, business: Business
) -> None:
    address = f"{business.world.address}/marram"
    refused = client.post(AT, json={"name": "Marram", "text": "name: x"})
    assert refused.status_code == 422 and "owner" in refused.json()["detail"]
    number = ok(client.post(AT, json={"name": "Marram", "text": TEXT}), 201)["id"]
    at = f"{AT}/{number}"
    assert client.post(f"{at}/ask", json={"operation": "offers"}).status_code == 422, "no address yet"
    ok(client.post(f"{at}/trial", json={"address": address, "key": "practice-marram"}))
    seen = ok(client.post(f"{at}/ask", json={"operation": "offers"}))
    assert len(seen["rows"]) == 30 and seen["rows"][0]["cost"]["value"].startswith("£") and not seen["error"]
    assert "practice-marram" not in json.dumps(seen) and seen["call"]["headers"]["Authorization"] == "(hidden)"
    one = seen["rows"][0]["number"]["value"]
    assert ok(client.post(f"{at}/ask", json={"operation": "item", "given": {"number": one}}))["rows"][0]["number"]["value"] == one
    assert client.post(f"{at}/ask", json={"operation": "buy"}).status_code == 422, "a write is never asked"
    shown = ok(client.post(f"{at}/call", json={"operation": "buy"}))
    assert json.loads(shown["body"])["variables"]["order"]["ref"] == "AL-1001-1"
    proposed = ok(
        client.post(f"{at}/propose", json={"operation": "offers", "example": '{"a": [{"sku": "1", "price": "2.00", "stock": 3}]}'})
    )
    assert proposed["operation"]["fields"]["cost"] == "price"

    join = {"owner": "supplier", "kind": "described", "name": "", "address": address, "description": number}
    assert "key" in client.post("/api/v1/setup/partners", json={**join, "key": "wrong"}).json()["fields"]
    made = ok(client.post("/api/v1/setup/partners", json={**join, "key": "practice-marram"}), 201)
    (row,) = [p for p in ok(client.get("/api/v1/setup/partners")) if p["owner"] == "supplier" and p["id"] == made["id"]]
    assert row["described"].startswith("Marram, version 1: not certified") and row["state"] == "good"
    # Its link is asked again, and given a new key, by the same description.
    link = f"/api/v1/setup/partners/supplier/{made['id']}/link"
    ok(client.post(link, json={}))
    assert client.post(link, json={"key": "other"}).status_code == 422
    ok(client.post(link, json={"key": "practice-marram"}))

    whole = ok(client.get(at))
    assert whole["uses"][0]["version"] == 1 and not whole["found"] and whole["has_key"]
    data = whole["data"]
    data["about"] = "Changed"
    ok(client.put(at, json={"version": whole["version"], "data": data}))
    assert client.put(at, json={"version": whole["version"], "data": data}).status_code == 409
    assert [one["place"] for one in ok(client.get(f"{at}/differences", params={"since": 1}))] == ["about"]
    ok(client.post(f"{at}/switch-on", json={"owner": "supplier", "id": made["id"]}))
    assert ok(client.get(at))["uses"][0]["version"] == 2
    ok(client.post(f"{at}/certify", json={"practice": True}), 202)
    business.app_state.worker.looks.run_due()
    certificate = ok(client.get(at))["certificate"]
    assert certificate["current"] and {one["outcome"] for one in certificate["checks"]} == {"holds"}
    file = client.get(f"{at}/file")
    assert "practice-marram" not in file.text and address not in file.text and "filename=" in file.headers["content-disposition"]
    assert "holds" in client.get(f"{at}/certificate").text
    assert client.delete(at).status_code == 409
    assert {one["key"] for one in ok(client.get(AT))["shipped"]} >= {"wholesaler", "bank", "own-site"}
