"""Lanes over the interface: one explains itself, many are opened, changed and moved as one act, faults are mended by one step."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from sqlalchemy import select

from amber_lane.data.lanes import Lane
from amber_lane.data.outbox import AuditEntry, Job
from amber_lane.data.source import Item
from amber_lane.services.mapping import lanes

from ..small import Small
from .test_desk import Calls, calls

__all__ = ["calls"]


def test_a_lane_tells_what_it_costs_what_happened_and_why_it_is_there(calls: Calls, small: Small) -> None:
    small.sweep({1: (120, 18)})
    number = small.lane(1).id
    told = calls.get(f"/lanes/{number}")
    assert told["lands"] == [
        {
            "country": "GB",
            "store": "First shop",
            "service": "slow",
            "goods": {"amount": "1.20", "currency": "GBP"},
            "ship": {"amount": "1.00", "currency": "GBP"},
            "handling": {"amount": "0.30", "currency": "GBP"},
            "landed": {"amount": "2.50", "currency": "GBP"},
            "days_low": 2,
            "days_high": 3,
            "reason_not": "",
        }
    ]
    assert told["ways"] == {"GB": ["slow", "fast"]} and told["lane"]["trust"]["on_time"]["count"] == 0
    assert [one["cost"]["amount"] for one in told["history"]][-1] == "1.20" and "opened by" in told["story"][-1]
    calls.post(f"/lanes/{number}/terms", version=told["lane"]["version"], services={"GB": "fast"})
    assert calls.get(f"/lanes/{number}")["lands"][0]["service"] == "fast" and small.listing(1).landed == 120 + 250 + 30
    refused = calls.post(f"/lanes/{number}/terms", 422, version=small.lane(1).version, services={"GB": "rocket"})
    assert "no service rocket" in refused["detail"]
    early = "2020-01-01T00:00:00Z"
    assert "not in the past" in calls.post(f"/lanes/{number}/terms", 422, version=small.lane(1).version, ends=early)["detail"]


def test_many_are_opened_changed_and_taken_back_as_one_act(calls: Calls, small: Small) -> None:
    picks = [{"sku_id": n, "item_id": n + 1, "use": 1} for n in (1, 2, 3)]
    assert calls.post("/lanes/many", 201, picks=picks)["count"] == 3
    spares = small.all(select(Lane.id).where(Lane.priority == 1, Lane.closed_at.is_(None)))
    assert calls.post("/lanes/bulk", ids=spares, what="main")["count"] == 3
    assert small.listing(1).landed == 200 + 130
    calls.post("/lanes/bulk", 409, ids=[small.lane(4).id], what="main")
    # A main lane that is chosen swaps with its first spare, there and back.
    for landed in (230, 330):
        calls.post("/lanes/bulk", ids=[small.lane(1).id], what="main")
        assert small.listing(1).landed == landed
    for act in small.all(select(AuditEntry.id).where(AuditEntry.kind == "lane.many").order_by(AuditEntry.id.desc())):
        calls.post(f"/acts/{act}/undo")
    assert small.all(select(Lane.id).where(Lane.priority == 1, Lane.closed_at.is_(None))) == [] and small.listing(1).landed == 230
    rows = calls.get("/lanes", filters="kind:plain;supplier:1", sort="sku")
    assert rows["total"] == len(rows["rows"]) == 6 and rows["rows"][0]["sku"] == "S-1"


def test_items_are_offered_refused_and_a_supplier_is_left_for_another(calls: Calls, small: Small) -> None:
    def make(context: Any) -> None:
        for n in (1, 2):
            lanes_of = lanes.lanes_of(context, n)
            lanes_of[0][0].closed_at = context.now
            context.session.get(Item, n).title = f"Thing {n}"
        context.session.flush()

    small.write(make)
    queue = calls.get("/lanes/to-settle")
    assert {one["sku"]: one["kind"] for one in queue["rows"]} == {"S-1": "no lane", "S-2": "no lane"} and queue["total"] == 2
    offered = calls.get("/lanes/skus/1/candidates")
    assert offered[0]["item_id"] == 1 and {mark["kind"] for mark in offered[0]["marks"]} == {"same"}
    assert {one["field"] for one in offered[0]["evidence"]} and offered[0]["landed"]["amount"] == "2.30"
    calls.post("/lanes/skus/1/refuse", items=[1])
    assert 1 not in [one["item_id"] for one in calls.get("/lanes/skus/1/candidates")]
    assert calls.get("/lanes/skus/1/family")["members"][0]["sku"] == "S-1"
    assert "choose another" in calls.post("/lanes/move/preview", 422, source=1, target=1)["detail"]
    calls.post("/lanes/sure", 202)
    assert [one.kind for one in small.all(select(Job))] == ["match"]


def test_a_fault_is_mended_by_its_step_or_set_aside(calls: Calls, small: Small) -> None:
    small.write(lambda context: lanes.open_lane(context, 2, [lanes.LaneItem(1, Fraction(4))], use=1))
    (fault,) = calls.get("/lanes/faults")
    assert (fault["kind"], fault["step"]) == ("units", "Set it to 1")
    calls.post("/lanes/faults/mend", key=fault["key"])
    # Now that its units are right, that it is another thing stands out.
    (other,) = calls.get("/lanes/faults")
    assert (other["kind"], other["step"]) == ("wrong", "Close the lane")
    calls.post("/lanes/faults/mend", key=other["key"])
    assert calls.get("/lanes/faults") == [] and "not there any more" in calls.post("/lanes/faults/aside", 404, key=fault["key"])["detail"]
