"""A manager's calls over a small house: what is shown is what is done, and every figure has one value wherever it stands."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from decimal import Decimal
from itertools import pairwise
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from fastapi.testclient import TestClient
from sqlalchemy import select, update

from amber_lane.api.app import make_app, make_app_state
from amber_lane.data.lanes import Lane
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.services.people import users
from amber_lane.settings import Settings

from ..small import Small

PERSON = {"mail": "tester@amber-lane.example", "password": "long-enough-word"}


class Calls:
    """The interface as pages use it."""

    def __init__(self, client: TestClient) -> None:
        self.client = client

    def get(self, path: str, **params: Any) -> Any:
        answer = self.client.get(f"/api/v1{path}", params=params)
        assert answer.status_code == 200, answer.text
        return answer.json()

    def post(self, path: str, expect: int = 200, **body: Any) -> Any:
        answer = self.client.post(f"/api/v1{path}", json=body)
        assert answer.status_code == expect, answer.text
        return answer.json()

    def text(self, path: str) -> str:
        answer = self.client.get(f"/api/v1{path}")
        assert answer.status_code == 200, answer.text
        return answer.content.decode("utf-8-sig")


@pytest.fixture
def calls(small: Small, tmp_path: Path) -> Iterator[Calls]:
    small.respond()
    small.write(lambda context: users.make_person(context, "Tester", **PERSON))
    house = make_app_state(Settings(data=tmp_path, database_url=small.db.url, jobs=False, web=tmp_path), clock=small.clock)
    with TestClient(make_app(house), headers={"X-Amber-Lane": "1"}) as client:
        assert client.post("/api/v1/session", json=PERSON).status_code == 200
        yield Calls(client)


def test_what_opening_a_lane_would_do_is_what_it_does(calls: Calls, small: Small) -> None:
    lane = small.lane(6)
    calls.post(f"/lanes/{lane.id}/close", version=lane.version, reason="moved away")
    calls.client.get("/")
    small.order("W-1", ("S-6", 1, 3000))
    assert [(one["sku"], one["orders"]) for one in calls.get("/lanes/to-settle")["rows"]] == [("S-6", 1)]
    found = calls.get("/lanes/skus/6/candidates", words="I-5")
    ask = {"sku_id": 6, "parts": [{"item_id": found[0]["item_id"], "units": "1/2"}]}
    acts, sent = len(small.all(select(AuditEntry))), len(small.all(select(Outbox)))
    seen = calls.post("/lanes/preview", **ask)
    assert (len(small.all(select(AuditEntry))), len(small.all(select(Outbox)))) == (acts, sent), "a look writes nothing"
    assert seen["landed"] == {"amount": "6.30", "currency": "GBP"} and seen["orders"] == 1
    assert "1 pack of I-5 is bought whole, and 1 of 2 are left over" in seen["packs"]
    calls.post("/lanes", 201, **ask)
    row = next(one for one in calls.get("/prices/listings", words="S-6")["rows"])
    assert (row["landed"], row["price"], row["profit"]) == (seen["landed"], seen["price"], seen["profit"])
    assert row["quantity"] == seen["shows"] and row["state"] == "live"
    assert calls.get("/orders/standing")["states"]["ready"] == 1
    assert calls.get("/lanes/skus/6")["lanes"][0]["parts"][0]["units"] == "1/2"


def test_one_listing_has_one_price_wherever_it_is_told(calls: Calls, small: Small) -> None:
    small.sweep({3: (390, 7)})
    row = calls.get("/prices/listings", words="S-3")["rows"][0]
    why = calls.get(f"/prices/listings/{row['id']}/why")
    newest = calls.get("/watch/responses", words="S-3")["rows"][0]
    past = calls.get(f"/prices/responses/{newest['id']}/why")
    history = calls.get(f"/prices/listings/{row['id']}/history")
    sheet = list(csv.DictReader(io.StringIO(calls.text("/sheets/lists/listings.csv"))))
    mine = next(one for one in sheet if one["sku"] == "S-3")
    amounts = {
        Decimal(value)
        for value in (row["price"]["amount"], newest["new_price"]["amount"], mine["price"], history["points"][-1]["price"]["amount"])
    }
    assert amounts == {Decimal("8.95")}
    for told in (why, past):
        steps = {step["name"]: Decimal(step["amount"]["amount"]) for step in told["steps"]}
        assert steps["Sells at"] == Decimal("8.95") and steps["Profit"] == Decimal(row["profit"]["amount"]) == Decimal(mine["profit"])
        assert sum(value for name, value in steps.items() if name != "Profit") == steps["Profit"]
    assert row["quantity"] == newest["new_quantity"] == 5, "seven, less the two kept back"
    body = small.all(select(Outbox.body).where(Outbox.subject == f"listing:{row['id']}").order_by(Outbox.id.desc()))[0]
    assert (body["price"], body["quantity"]) == ("8.95", 5)


def test_an_order_is_sent_and_taken_back_by_its_log(calls: Calls, small: Small) -> None:
    order = small.order("O-1", ("S-1", 2, 900))
    shown = calls.get(f"/orders/{order.id}")
    money = [shown["lines"][0][name]["amount"] for name in ("paid", "kept")]
    assert money == ["18.00", "16.20"] and shown["profit"]["amount"] == str(Decimal("16.20") - Decimal("2.00") - Decimal("1.70"))
    standing = calls.get("/orders/standing")
    assert (standing["spend"]["amount"], standing["profit"]["amount"], standing["parcels"]) == ("3.70", "12.50", 1)
    assert "1 order" in calls.post("/orders/send", orders=[order.id])["message"]
    assert "nothing was sent" in calls.post("/orders/send", 409, orders=[order.id])["detail"]
    last = calls.get("/pulse")["last"]
    assert "sent to suppliers, £3.70" in last["message"]
    calls.post(f"/acts/{last['id']}/undo")
    assert calls.get(f"/orders/{order.id}")["lines"][0]["state"] == "ready" and calls.get("/pulse")["last"] is None
    assert calls.post(f"/acts/{last['id']}/undo", 409)["detail"] == "it has been undone already"


def test_a_draft_is_seen_applied_to_some_and_refused_when_the_world_moved(calls: Calls, small: Small) -> None:
    draft = {"rules": [{"scope": "house", "scope_key": "", "band_from": 0, "rule": "multiple", "rule_value": 4_000_000}]}
    seen = calls.post("/prices/what-if", **draft)
    assert seen["counts"]["rise"] == 6 and seen["movers"][0]["then"] != seen["movers"][0]["now"]
    small.write(lambda context: setattr(context.get(Item, 2, "item"), "stock", 0))
    assert "costs have moved" in calls.post("/prices/apply", 409, **draft, seen=seen["counts"])["detail"]
    again = calls.post("/prices/what-if", **draft)
    only = [seen["movers"][0]["listing"]]
    calls.post("/prices/apply", **draft, seen=again["counts"], only=only)
    wanted = {row["id"]: row["price"]["amount"] for row in calls.get("/prices/listings")["rows"]}
    assert wanted[only[0]] == seen["movers"][0]["then"]["amount"]
    assert [one["rule"] for one in calls.get("/prices/rules")] == ["multiple"]
    for body, said in (
        (
            {**draft, "fees": {"store": 1, "version": 1, "tax_in_price": 0, "payment": 0, "payment_fixed": 0, "fees": []}},
            "one thing at a time",
        ),
        ({"rate": {"base": "GBP", "quote": "EUR", "rate": "lots"}}, "not a number"),
        ({"rate": {"base": "GBP", "quote": "EUR", "rate": "1.0123456789"}}, "more than 9 decimals"),
        ({"rate": {"base": "GBP", "quote": "EUR", "rate": "9e999999"}}, "not a number"),
        ({"policy": {"scope": "house", "key": "", "fields": {"mood": 1}}}, "not a limit"),
    ):
        assert said in str(calls.post("/prices/what-if", 422, **body))


def test_the_finder_finds_what_is_typed_and_nothing_else(calls: Calls, small: Small) -> None:
    small.order("100%_A", ("S-1", 1, 900))
    assert [one["name"] for one in calls.get("/find", words="100%_")] == ["100%_A"]
    assert {one["kind"] for one in calls.get("/find", words="thing 2")} == {"SKU"}
    assert calls.get("/find", words="_%") == [] or all("_" in one["name"] for one in calls.get("/find", words="%_"))
    assert calls.get("/find", words="x") == [] and calls.get("/find", words="no such thing at all") == []


@pytest.mark.parametrize("name", ["lanes", "orders", "tracking", "listings", "items"])
def test_every_template_opens_in_a_spreadsheet_and_names_what_it_needs(calls: Calls, name: str) -> None:
    book = openpyxl.load_workbook(io.BytesIO(calls.client.get(f"/api/v1/sheets/{name}/template.xlsx").content))
    header = [cell.value for cell in next(book.active.iter_rows(max_row=1))]
    assert header == next(csv.reader(io.StringIO(calls.text(f"/sheets/{name}/template.csv")))) and len(set(header)) == len(header) >= 4


def test_lanes_taken_out_come_in_again_as_the_same(calls: Calls, small: Small) -> None:
    out = calls.text("/sheets/lanes/ours.csv")
    checked = small.sheet("lanes", out)
    assert checked.counts == {"new": 0, "changed": 0, "same": 6, "bad": 0}
    moved = small.sheet("lanes", out.replace("I-6", "I-5").replace(",1,main,", ",3,main,", 1))
    assert moved.counts["bad"] == 0 and moved.counts["changed"] >= 1
    assert len(small.all(select(Lane.id).where(Lane.closed_at.is_(None)))) == 6


def test_people_are_let_in_once_and_only_with_a_real_password(calls: Calls, small: Small) -> None:
    new = {"name": "Bea", "mail": "Bea@amber-lane.example", "password": "another-long-word"}
    small.write(lambda context: users.make_person(context, **new))
    for wrong, said in ((new["mail"], "already"), ("no address", "is not a mail address")):
        answer = calls.client.post("/api/v1/setup/people", json={"mail": wrong, "role": "mapper"})
        assert answer.status_code in (409, 422) and said in answer.text and "argon" not in answer.text
    people = calls.get("/setup/people")
    assert [one["name"] for one in people] == ["Tester", "Bea"] and not any("password" in one for one in people)
    assert calls.client.post("/api/v1/session", json={"mail": "bea@AMBER-lane.example", "password": new["password"]}).status_code == 200
    for _ in range(8):
        calls.client.post("/api/v1/session", json={"mail": "guess@amber-lane.example", "password": "guess"})
    assert calls.client.post("/api/v1/session", json={"mail": "guess@amber-lane.example", "password": "guess"}).status_code == 429


def test_the_pulse_changes_whenever_something_was_done(calls: Calls, small: Small) -> None:
    marks = [calls.get("/pulse")["tables"]]
    small.order("P-1", ("S-404", 1, 900))
    pulse = calls.get("/pulse")
    assert pulse["counts"] == {"lanes": 1, "today": 1}
    small.sweep({1: (120, 20)})
    marks.append(calls.get("/pulse")["tables"])
    assert calls.get("/pulse")["to_send"] > 0 and calls.get("/pulse")["last"] is None, "the program's act is no one's to undo by key"
    small.write(lambda context: setattr(small.all(select(Outbox))[0], "state", "done"))
    lane = small.lane(2)
    calls.client.patch(f"/api/v1/lanes/{lane.id}", json={"version": lane.version, "state": "slow"})
    marks.append(calls.get("/pulse")["tables"])
    assert all(one != other for one, other in pairwise(marks))


def test_each_person_undoes_their_own_last_act_whatever_others_and_the_program_did(calls: Calls, small: Small) -> None:
    calls.client.patch(f"/api/v1/lanes/{small.lane(2).id}", json={"version": small.lane(2).version, "state": "slow"})
    mine = calls.get("/pulse")["last"]
    small.sweep({1: (120, 20)})
    small.write(lambda context: users.make_person(context, "Tester", "other@amber-lane.example", PERSON["password"]))
    with TestClient(calls.client.app, headers={"X-Amber-Lane": "1"}) as client:
        other = Calls(client)
        other.post("/session", mail="other@amber-lane.example", password=PERSON["password"])
        assert other.get("/pulse")["last"] is None, "a namesake's acts are not mine"
        client.patch(f"/api/v1/lanes/{small.lane(3).id}", json={"version": small.lane(3).version, "state": "slow"})
        theirs = other.get("/pulse")["last"]
        assert theirs["id"] > mine["id"] and calls.get("/pulse")["last"]["id"] == mine["id"]
        other.post(f"/acts/{theirs['id']}/undo")
    calls.post(f"/acts/{mine['id']}/undo")
    assert small.lane(2).state == small.lane(3).state == "new" and small.listing(1).wanted_price > 0


def test_a_store_that_may_be_written_to_again_catches_up(calls: Calls, small: Small) -> None:
    def switch(on: bool) -> None:
        for what in ("stock", "prices"):
            one = next(row for row in calls.get("/setup/partners") if row["owner"] == "store")
            body = {"version": one["version"]}
            if on:
                look = calls.get(f"/setup/stores/1/out/{what}")
                body |= {"start": True, "seen": look["counts"]}
            calls.post(f"/setup/stores/1/out/{what}{'' if on else '/off'}", **body)

    # The store shows what we want.
    shown = {"shown_price": Listing.wanted_price, "shown_quantity": Listing.wanted_quantity, "shown_state": Listing.state}
    small.write(lambda context: context.session.execute(update(Listing).values(**shown)))
    before, sent = small.listing(2).wanted_price, len(small.all(select(Outbox)))
    switch(False)
    small.sweep({2: (275, 20), 3: (300, 0)})
    assert (small.listing(2).wanted_price, small.listing(3).state) == (before, "live"), "what we want is what was sent"
    assert len(small.all(select(Outbox))) == sent
    switch(True)
    assert small.listing(2).wanted_price > before and small.listing(3).state == "paused"
    fresh = [row for row in small.all(select(Outbox).order_by(Outbox.id))[sent:] if row.state == "waiting"]
    assert {row.body["sku"] for row in fresh} == {"S-2", "S-3"}


def test_an_order_that_no_lane_fills_shows_no_profit_anywhere(calls: Calls, small: Small) -> None:
    order = small.order("N-1", ("S-1", 1, 900), country="NO")
    assert calls.get(f"/orders/{order.id}")["profit"] is None and calls.get("/orders", words="N-1")["rows"][0]["profit"] is None
    trouble = next(one for one in calls.get("/today")["alerts"] if "N-1" in one["message"])
    assert trouble["kind"] == "Held" and Decimal(trouble["at_risk"]["amount"]) >= 0
