"""Samples: one of an item sent to ourselves, bought once like anything else, kept out of all figures of sales."""

from __future__ import annotations

import secrets
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import select

from ...connectors.payloads import BoughtAddress, BoughtLine, SamplePayload
from ...connectors.protocols import Address, PurchaseAnswer
from ...core.cost import unit_bought
from ...core.ids import check_country
from ...core.permissions import Limit
from ...core.states import SAMPLE, LaneState, SampleState
from ...data.lanes import Lane, LanePart
from ...data.outbox import AuditEntry
from ...data.printing import PurchasePrint
from ...data.setup import Origin, Service, Setting, Supplier
from ...data.source import Item, Sample
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue
from ..pricing.inputs import Facts, NoRate
from ..pricing.person_limits import Part, count
from ..printing.ordering import Files

OWN_ADDRESS = "own_address"
VERDICTS = ("good", "fair", "poor")


def own_address(context: Context) -> Address | None:
    """Where samples go; None until a person has said so."""
    row = context.session.scalar(select(Setting).where(Setting.name == OWN_ADDRESS))
    return Address(**row.value) if row else None


def set_own_address(context: Context, given: Address) -> None:
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
        raise Invalid("; ".join(f"{name.replace('_', ' ')} {message}" for name, message in wrong.items()), wrong)
    row = context.session.scalar(select(Setting).where(Setting.name == OWN_ADDRESS))
    if row is None:
        context.session.add(Setting(name=OWN_ADDRESS, value=asdict(given)))
    else:
        row.value = asdict(given)
    context.log("address.own", "samples", f"samples go to {given.name}, {given.city}")
    context.session.flush()


@dataclass(frozen=True)
class Printed:
    """What is printed on a sample: as a lane prints it."""

    files: Files
    lane: int


def order(context: Context, item_id: int, printed: Printed | None = None) -> Sample:
    """Order a sample of an item. One is under way at a time; it can be taken back until it has gone out."""
    item = context.get(Item, item_id, "item")
    supplier = context.get(Supplier, item.supplier_id, "supplier")
    to = own_address(context)
    if to is None:
        raise Invalid("say first where samples shall be sent", {"address": "is not known"})
    under_way = select(Sample.id).where(
        Sample.item_id == item_id, Sample.state.in_((SampleState.asked, SampleState.ordered, SampleState.sent))
    )
    if printed is None and context.session.scalar(under_way.limit(1)):
        raise Conflict("a sample of this item is under way already")
    if item.offer == "gone" or item.origin_id is None:
        raise Conflict(f"{supplier.name} does not have {item.number} any more")
    ways = select(Service).where(Service.origin_id == item.origin_id, Service.country == to.country.upper()).order_by(Service.first)
    way = context.session.scalar(ways.limit(1))
    if way is None:
        raise Invalid(f"{supplier.name} does not send to {to.country.upper()}")
    origin = context.get(Origin, item.origin_id, "origin")
    row = Sample(item_id=item_id, state=SAMPLE.first, ordered_at=context.now, reference=f"SAMPLE-{supplier.code}-{secrets.token_hex(4)}")
    row.cost, row.currency = _cost(context, item, origin, way), supplier.currency
    what = f"buy a sample of {item.number} from {supplier.name}"
    count(context, Limit.SPEND, what, [Part(item.id, item.number, row.cost, row.currency)])
    context.session.add(row)
    context.session.flush()
    prints = printed.files.bought(printed.lane, item_id) or None if printed else None
    if printed:
        printed.files.keep(context, printed.lane, item_id, None, row.id)
    sample = SamplePayload(
        reference=row.reference,
        origin=origin.code,
        service=way.code,
        address=BoughtAddress(**asdict(to)),
        lines=(BoughtLine(line_no=1, item=item.number, quantity=1, prints=prints),),
        note="A sample for ourselves.",
    )
    queue.put(context, f"supplier:{supplier.id}", f"sample:{row.id}", row.reference, sample)
    act = {"sample": row.id, "reference": row.reference}
    context.log("sample.order", item.number, f"a sample of {item.number} ordered from {supplier.name}", after=act, undo=True)
    return row


def _cost(context: Context, item: Item, origin: Origin, way: Service) -> int | None:
    """What one of an item costs with its sending, in its supplier's money; None where no rate is known."""
    facts = Facts.read(context.session)
    supplier = facts.suppliers[item.supplier_id]
    try:
        goods = unit_bought(item.cost, item.tiers or [], 1, facts.billing(supplier, item.currency), supplier.tax)
    except NoRate:
        return None
    return goods + facts.parcel(supplier, origin, way, supplier.currency, 0).cost(1, goods, item.weight_g)


def take_back(context: Context, after: dict[str, Any]) -> None:
    """Undo an order of a sample that has not gone out; Conflict when it has."""
    queue.stop(context, after["reference"])
    row = context.get(Sample, after["sample"], "sample")
    for one in context.session.scalars(select(PurchasePrint).where(PurchasePrint.sample_id == row.id)).all():
        context.session.delete(one)
    context.session.flush()
    context.session.delete(row)
    context.session.flush()


def under_way(context: Context, supplier: int) -> list[str]:
    """References of samples that a supplier has and has not sent yet."""
    query = select(Sample.reference).join(Item, Item.id == Sample.item_id).where(Item.supplier_id == supplier)
    return list(context.session.scalars(query.where(Sample.state.in_((SampleState.asked, SampleState.ordered)))))


def take_answer(context: Context, answer: PurchaseAnswer) -> None:
    """What a supplier says of a sample; a word that comes late or twice changes nothing."""
    row = context.session.scalar(select(Sample).where(Sample.reference == answer.reference))
    if row is None:
        return
    moves = {"received": "take", "accepted": "take", "refused": "refuse", "shipped": "send"}
    move = moves[answer.state]
    if row.state in SAMPLE.sources(move):
        row.state = SAMPLE.step(row.state, move)
        # What the supplier bills is what it costs, where it is in the money that it was ordered in.
        if answer.billed is not None and answer.currency in ("", row.currency):
            row.cost = answer.billed
        row.note = answer.message or (f"{answer.tracking.carrier} {answer.tracking.number}" if answer.tracking else row.note)
        context.session.flush()


def judge(context: Context, number: int, version: int, verdict: str, note: str) -> Sample:
    """What a sample is like; the lanes to its item remember it. Can be said anew."""
    if verdict not in VERDICTS:
        raise Invalid(f"a sample is {', '.join(VERDICTS)}")
    row = context.get_version(Sample, number, version, "sample")
    if row.state != SampleState.judged:
        row.state = SAMPLE.step(row.state, "judge")
    row.verdict, row.note = verdict, note.strip()
    item = context.get(Item, row.item_id, "item")
    message = f"sample {verdict}" + (f": {row.note}" if row.note else "")
    used = select(Lane).join(LanePart, LanePart.lane_id == Lane.id).where(LanePart.item_id == item.id, Lane.closed_at.is_(None))
    for lane in context.session.scalars(used).all():
        if lane.state != LaneState.shut:
            lane.reason = message[:300]
            lane.version += 1
    context.log("sample.judge", item.number, f"{item.number}: {message}")
    context.session.flush()
    return row


@undoing.undoes("sample.order")
def undo_sample_order(context: Context, act: AuditEntry) -> None:
    take_back(context, undoing.after(act))


def newest(context: Context, most: int = 200) -> list[tuple[Sample, Item, str]]:
    """Samples with their items and suppliers' names, the newest first."""
    rows = select(Sample, Item, Supplier.name).join(Item, Item.id == Sample.item_id).join(Supplier, Supplier.id == Item.supplier_id)
    return list(context.session.execute(rows.order_by(Sample.id.desc()).limit(most)).tuples())
