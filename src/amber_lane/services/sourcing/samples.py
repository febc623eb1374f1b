"""Samples: one of an item sent to ourselves, bought once like anything else, kept out of all figures of sales."""

from __future__ import annotations

import secrets
from dataclasses import asdict
from typing import Any

from sqlalchemy import select

from ...connectors.protocols import Address, PurchaseAnswer
from ...core.ids import check_country
from ...core.states import SAMPLE
from ...data.lanes import Lane, LanePart
from ...data.setup import Origin, Service, Setting, Supplier
from ...data.source import Item, Sample
from ..base.context import Desk
from ..base.errors import Conflict, Invalid
from ..outbox import queue

OWN_ADDRESS = "own_address"
VERDICTS = ("good", "fair", "poor")


def own_address(desk: Desk) -> Address | None:
    """Where samples go; None until a person has said so."""
    row = desk.s.scalar(select(Setting).where(Setting.name == OWN_ADDRESS))
    return Address(**row.value) if row else None


def set_own_address(desk: Desk, given: Address) -> None:
    """Say where samples go. Invalid where a parcel could not be sent there."""
    wrong = {}
    for name in ("name", "address_1", "city", "postcode"):
        if not getattr(given, name).strip():
            wrong[name] = "is empty"
    try:
        check_country(given.country)
    except ValueError as error:
        wrong["country"] = str(error)
    if wrong:
        raise Invalid("; ".join(f"{name.replace('_', ' ')} {told}" for name, told in wrong.items()), wrong)
    row = desk.s.scalar(select(Setting).where(Setting.name == OWN_ADDRESS))
    if row is None:
        desk.s.add(Setting(name=OWN_ADDRESS, value=asdict(given)))
    else:
        row.value = asdict(given)
    desk.log("address.own", "samples", f"samples go to {given.name}, {given.city}")
    desk.s.flush()


def order(desk: Desk, item_id: int) -> Sample:
    """Order a sample of an item. One is under way at a time; it can be taken back until it has gone out."""
    item = desk.get(Item, item_id, "item")
    supplier = desk.get(Supplier, item.supplier_id, "supplier")
    to = own_address(desk)
    if to is None:
        raise Invalid("say first where samples shall be sent", {"address": "is not known"})
    under_way = select(Sample.id).where(Sample.item_id == item_id, Sample.state.in_(("asked", "ordered", "sent")))
    if desk.s.scalar(under_way.limit(1)):
        raise Conflict("a sample of this item is under way already")
    if item.offer == "gone" or item.origin_id is None:
        raise Conflict(f"{supplier.name} does not have {item.number} any more")
    ways = select(Service).where(Service.origin_id == item.origin_id, Service.country == to.country.upper()).order_by(Service.first)
    way = desk.s.scalar(ways.limit(1))
    if way is None:
        raise Invalid(f"{supplier.name} does not send to {to.country.upper()}")
    origin = desk.get(Origin, item.origin_id, "origin")
    row = Sample(item_id=item_id, state=SAMPLE.first, ordered_at=desk.now, reference=f"SAMPLE-{supplier.code}-{secrets.token_hex(4)}")
    desk.s.add(row)
    desk.s.flush()
    body = {
        "reference": row.reference,
        "origin": origin.code,
        "service": way.code,
        "address": asdict(to),
        "lines": [{"line_no": 1, "item": item.number, "quantity": 1}],
        "note": "A sample for ourselves.",
    }
    queue.put(desk, f"supplier:{supplier.id}", f"sample:{row.id}", "sample", row.reference, body)
    act = {"sample": row.id, "reference": row.reference}
    desk.log("sample.order", item.number, f"a sample of {item.number} ordered from {supplier.name}", after=act, undo=True)
    return row


def take_back(desk: Desk, after: dict[str, Any]) -> None:
    """Undo an order of a sample that has not gone out; Conflict when it has."""
    queue.stop(desk, after["reference"])
    row = desk.get(Sample, after["sample"], "sample")
    desk.s.delete(row)
    desk.s.flush()


def under_way(desk: Desk, supplier: int) -> list[str]:
    """References of samples that a supplier has and has not sent yet."""
    query = select(Sample.reference).join(Item, Item.id == Sample.item_id).where(Item.supplier_id == supplier)
    return list(desk.s.scalars(query.where(Sample.state.in_(("asked", "ordered")))))


def take_answer(desk: Desk, answer: PurchaseAnswer) -> None:
    """What a supplier says of a sample; a word that comes late or twice changes nothing."""
    row = desk.s.scalar(select(Sample).where(Sample.reference == answer.reference))
    if row is None:
        return
    moves = {"received": "take", "accepted": "take", "refused": "refuse", "shipped": "send"}
    move = moves[answer.state]
    if row.state in SAMPLE.sources(move):
        row.state = SAMPLE.step(row.state, move)
        row.note = answer.told or (f"{answer.tracking.carrier} {answer.tracking.number}" if answer.tracking else row.note)
        desk.s.flush()


def judge(desk: Desk, number: int, version: int, verdict: str, note: str) -> Sample:
    """What a sample is like; the lanes to its item remember it. Can be said anew."""
    if verdict not in VERDICTS:
        raise Invalid(f"a sample is {', '.join(VERDICTS)}")
    row = desk.get_version(Sample, number, version, "sample")
    if row.state != "judged":
        row.state = SAMPLE.step(row.state, "judge")
    row.verdict, row.note = verdict, note.strip()
    item = desk.get(Item, row.item_id, "item")
    told = f"sample {verdict}" + (f": {row.note}" if row.note else "")
    used = select(Lane).join(LanePart, LanePart.lane_id == Lane.id).where(LanePart.item_id == item.id, Lane.until.is_(None))
    for lane in desk.s.scalars(used).all():
        if lane.state != "shut":
            lane.why = told[:300]
            lane.version += 1
    desk.log("sample.judge", item.number, f"{item.number}: {told}")
    desk.s.flush()
    return row
