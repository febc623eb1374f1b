"""Goods on their way back from a buyer: where to, under which number, with a label; followed, paid back, and looked at."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from sqlalchemy import select

from ...connectors.abilities import Ability
from ...connectors.kinds import DEPOTS
from ...connectors.payloads import BoughtAddress
from ...connectors.protocols import CarrierWord
from ...connectors.return_payloads import LabelPayload
from ...connectors.return_protocol import Label
from ...core.claims import Way
from ...core.ids import check_shape
from ...core.machine import NotAllowed
from ...core.numbers import half_up
from ...core.states import GOODS_RETURN, GoodsReturnState
from ...data.claims import Claim
from ...data.depot import DepotTerms
from ...data.orders import Order, OrderLine, PurchaseOrder
from ...data.returns import REFUND_WHEN, GoodsReturn, ReturnLabel
from ...data.setup import Carrier, Mailbox, Origin, Store, Supplier
from ...data.shelf import Sku
from ..base import house_days
from ..base.abilities import able_ones
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..depot import goods_back
from ..depot.goods_back import Back
from ..fulfilment.buyer_notifications import make_templates, write_mail
from ..outbox import queue
from . import buyer_side, return_requests
from .cases import note

# How long a buyer has to send it, where nothing else is said.
SEND_DAYS, DAYS_MOST = 14, 90
# After so many days more than it had it is asked about on Today.
LATE = timedelta(days=3)


@dataclass(frozen=True)
class Place:
    """Where goods may be sent back to. supplier: None = to us."""

    supplier: int | None
    name: str
    address: str
    is_depot: bool = False


@dataclass(frozen=True)
class Start:
    """What a return begins with. refund_when: one of REFUND_WHEN; carrier: who makes a label, None = the buyer sends it by themselves."""

    supplier: int | None
    address: str
    refund_when: str = "arrived"
    days: int = SEND_DAYS
    carrier: int | None = None


def places(context: Context, claim: Claim) -> list[Place]:
    """Where the goods of a claim can go back to: the supplier's warehouse that it came from, depots, and us; what is known first."""
    s = context.session
    supplier = context.get(Supplier, claim.supplier_id, "supplier")
    found = []
    if supplier.kind not in DEPOTS:
        origin = s.get(Origin, context.get(PurchaseOrder, claim.purchase_id, "purchase order").origin_id or 0)
        found.append(Place(supplier.id, supplier.name, " ".join(origin.return_address.split()) if origin else ""))
    rows = select(Supplier, DepotTerms).join(DepotTerms, DepotTerms.supplier_id == Supplier.id).where(Supplier.ended_at.is_(None))
    for depot, terms in s.execute(rows.order_by(Supplier.id)).tuples():
        parts = ("name", "address_1", "address_2", "city", "region", "postcode", "country")
        found.append(Place(depot.id, depot.name, ", ".join(str(terms.address[one]) for one in parts if terms.address.get(one)), True))
    last = select(GoodsReturn.address).where(GoodsReturn.supplier_id.is_(None)).order_by(GoodsReturn.id.desc()).limit(1)
    found.append(Place(None, "us", s.scalar(last) or ""))
    return sorted(found, key=lambda one: not one.address)


def carriers(context: Context) -> list[Carrier]:
    """All that a buyer may send it with."""
    return list(context.session.scalars(select(Carrier).where(Carrier.ended_at.is_(None)).order_by(Carrier.id)))


def labelled_by(context: Context) -> list[Carrier]:
    """Carriers that make labels."""
    rows = select(Carrier).where(Carrier.ended_at.is_(None), Carrier.paused_at.is_(None))
    return able_ones(context, context.session.scalars(rows.order_by(Carrier.id)), Ability.labels)


def of_claim(context: Context, claim: int) -> GoodsReturn | None:
    """The newest return of a claim."""
    return context.session.scalar(select(GoodsReturn).where(GoodsReturn.claim_id == claim).order_by(GoodsReturn.id.desc()).limit(1))


def open_return(context: Context, number: int, version: int | None, start: Start) -> GoodsReturn:
    """Let the buyer send it back: they, and the store that asked, are told where to and under which number. Cannot be undone, since they
    are told; it can be ended."""
    claim = context.get_version(Claim, number, version, "claim")
    address = " ".join(start.address.split())
    wrong = {}
    if not 8 <= len(address) <= 400:
        wrong["address"] = "must be a whole address, of up to 400 letters"
    if start.refund_when not in REFUND_WHEN:
        wrong["refund_when"] = f"must be one of {', '.join(REFUND_WHEN)}"
    if not 1 <= start.days <= DAYS_MOST:
        wrong["days"] = f"must be 1 to {DAYS_MOST}"
    if start.carrier is not None and start.carrier not in {one.id for one in labelled_by(context)}:
        wrong["carrier"] = "makes no labels"
    if wrong:
        raise Invalid("; ".join(f"{field} {message}" for field, message in wrong.items()), wrong)
    if start.supplier is not None:
        context.get(Supplier, start.supplier, "supplier")
    if claim.closed_at is not None:
        raise Conflict(f"claim {claim.reference} is {claim.state}")
    before = of_claim(context, number)
    if before is not None and before.state != GoodsReturnState.dropped:
        raise Conflict(f"return {before.number} is there for it already")
    order = context.get(Order, claim.order_id, "order")
    store = context.get(Store, order.store_id, "store")
    request = return_requests.of_claim(context, number)
    row = GoodsReturn(
        number=f"{store.code}-{order.number}-R{secrets.token_hex(2)}",
        claim_id=claim.id,
        order_id=order.id,
        order_line_id=claim.order_line_id,
        request_id=request.id if request else None,
        units=claim.units,
        supplier_id=start.supplier,
        address=address,
        refund_when=start.refund_when,
        state=GOODS_RETURN.first,
        opened_at=context.now,
        send_by=house_days.today(context) + timedelta(days=start.days),
        carrier_id=start.carrier,
        label="asked" if start.carrier is not None else "",
    )
    context.session.add(row)
    context.session.flush()
    if request is not None:
        return_requests.accepted(context, request, row.number, address)
    note(context, claim, "return", f"may be sent back to {address} as {row.number}, until {house_days.day_text(context, row.send_by)}")
    context.log("return.open", row.number, f"order {order.number}: {claim.units} may be sent back as {row.number}")
    if start.carrier is not None:
        _ask_label(context, row, order, start.carrier)
    else:
        _tell_buyer(context, row)
    if row.refund_when == "at_once":
        pay_back(context, row)
    return row


def _ask_label(context: Context, row: GoodsReturn, order: Order, carrier: int) -> None:
    where = order.address_override or order.address
    sender = BoughtAddress(**{"name": order.buyer, "country": order.country, **{k: str(v) for k, v in where.items() if v is not None}})
    line = context.get(OrderLine, row.order_line_id, "order line")
    sku = context.session.get(Sku, line.sku_id or 0)
    weight = max((sku.weight_g if sku else 0) * row.units, 100)
    label = LabelPayload(reference=row.number, sender=sender, to=row.address, weight_g=min(weight, 30_000))
    queue.put(context, f"carrier:{carrier}", f"return:{row.id}", f"label-{row.number}", label)


def take_label(context: Context, label: Label) -> None:
    """A carrier made a label: it is kept, and goes to the buyer. The same again changes nothing."""
    row = context.session.scalar(select(GoodsReturn).where(GoodsReturn.number == label.reference))
    if row is None or row.label != "asked":
        return
    carrier = context.get(Carrier, row.carrier_id or 0, "carrier")
    try:
        number = check_shape(label.number, carrier.shape)
    except ValueError as error:
        no_label(context, label.reference, str(error))
        return
    context.session.add(ReturnLabel(return_id=row.id, data=label.pdf))
    row.label, row.tracking, row.label_cost, row.label_currency = "made", number, label.cost, label.currency
    row.version += 1
    _story(context, row, f"{carrier.name} made a label, {number}")
    context.session.flush()
    if row.ended_at is None:
        _tell_buyer(context, row)


def no_label(context: Context, reference: str, message: str) -> None:
    """A carrier makes none: the buyer sends it by themselves."""
    row = context.session.scalar(select(GoodsReturn).where(GoodsReturn.number == reference))
    if row is not None and row.label == "asked":
        row.label, row.label_message = "refused", message[:300]
        row.version += 1
        _story(context, row, f"no label: {message}")
        if row.ended_at is None:
            _tell_buyer(context, row)


def label_of(context: Context, number: int) -> bytes | None:
    """The PDF of a return's label."""
    return context.session.scalar(select(ReturnLabel.data).where(ReturnLabel.return_id == number))


def _tell_buyer(context: Context, row: GoodsReturn) -> None:
    """One mail: what to send, where to, under which number, until when; with the label where there is one."""
    make_templates(context)
    order, line = context.get(Order, row.order_id, "order"), context.get(OrderLine, row.order_line_id, "order line")
    store = context.get(Store, order.store_id, "store")
    pdf = label_of(context, row.id)
    files = [(f"{row.number}.pdf", "application/pdf;base64", base64.b64encode(pdf).decode())] if pdf else []
    said = {
        "lines": f"{row.units} × {line.title or line.sku_code}",
        "return_number": row.number,
        "return_address": row.address,
        "until": house_days.day_text(context, row.send_by),
        "label": "Please use the label that comes with this mail." if pdf else "Please write the number on the parcel.",
    }
    told = write_mail(context, "return", order, store, [line], row.number, said, files=files)
    if told:
        _story(context, row, f"{order.buyer} told by mail" + (", with the label" if pdf else ""))
    elif row.request_id is None:
        why = "there is no mailbox" if context.session.scalar(select(Mailbox.id).limit(1)) is None else "no address, or that mail is off"
        _story(context, row, f"tell the buyer yourself: {why}")


def _story(context: Context, row: GoodsReturn, message: str) -> None:
    note(context, context.get(Claim, row.claim_id, "claim"), "return", f"{row.number}: {message}")


def sent(context: Context, number: int, version: int | None, tracking: str, carrier: int | None) -> GoodsReturn:
    """The buyer says that it is on its way; its number, where they know one."""
    row = context.get_version(GoodsReturn, number, version, "return")
    found = tracking.strip()
    if found:
        by = context.get(Carrier, carrier or 0, "carrier")
        try:
            found = check_shape(found, by.shape)
        except ValueError as error:
            raise Invalid(str(error), {"tracking": str(error)}) from error
    _move(context, row, "send", f"on its way back{f', {found}' if found else ''}")
    if found:
        row.tracking, row.carrier_id = found, carrier
    context.log("return.sent", row.number, f"{row.number} is on its way back")
    _by_policy(context, row)
    return row


def follow_store(context: Context, request: int, tracking: str, carrier: Carrier | None) -> None:
    """The store says that the buyer sent it, and under which number."""
    row = context.session.scalar(select(GoodsReturn).where(GoodsReturn.request_id == request, GoodsReturn.ended_at.is_(None)))
    if row is None or row.state not in GOODS_RETURN.sources("send"):
        return
    if carrier is not None:
        try:
            number = check_shape(tracking, carrier.shape)
        except ValueError as error:
            _story(context, row, f"the store names {tracking}: {error}")
        else:
            if row.label == "made" and number != row.tracking:
                # What is sent otherwise leaves the label unused, and an unused one costs nothing.
                row.label_cost = 0
                _story(context, row, "sent by a parcel of their own, not with the label")
            row.tracking, row.carrier_id = number, carrier.id
    _move(context, row, "send", f"on its way back, says the store{f', {row.tracking}' if row.tracking else ''}")
    _by_policy(context, row)


def on_the_road(context: Context, carrier: int) -> list[str]:
    """Numbers of returns that the carrier may have news of."""
    wanted = (
        GoodsReturn.carrier_id == carrier,
        GoodsReturn.state.in_((GoodsReturnState.agreed, GoodsReturnState.on_the_way)),
        GoodsReturn.tracking != "",
    )
    return list(context.session.scalars(select(GoodsReturn.tracking).where(*wanted).order_by(GoodsReturn.id)))


def take_words(context: Context, carrier: int, words: Mapping[str, Sequence[CarrierWord]]) -> None:
    """What a carrier says of returns, in whatever order and however often."""
    wanted = (GoodsReturn.carrier_id == carrier, GoodsReturn.tracking.in_(list(words)), GoodsReturn.ended_at.is_(None))
    for row in context.session.scalars(select(GoodsReturn).where(*wanted)).all():
        for word in sorted(words[row.tracking], key=lambda one: one.at):
            row.last_word = f"{word.message}, {word.place}" if word.place else word.message
            if word.kind in ("collected", "moving") and row.state in GOODS_RETURN.sources("send"):
                _move(context, row, "send", "the carrier has it")
                _by_policy(context, row)
            elif word.kind == "delivered" and row.state in GOODS_RETURN.sources("arrive"):
                row.sent_at = row.sent_at or word.at
                _move(context, row, "arrive", f"{row.last_word}, says the carrier")
                _by_policy(context, row)


def here(context: Context, number: int, version: int | None) -> GoodsReturn:
    """A person has it, or knows that it is there."""
    row = context.get_version(GoodsReturn, number, version, "return")
    _move(context, row, "arrive", "it is there")
    context.log("return.here", row.number, f"{row.number} has come back")
    _by_policy(context, row)
    return row


def _move(context: Context, row: GoodsReturn, move: str, message: str) -> None:
    """A step of a return, in its claim's story."""
    try:
        row.state = GOODS_RETURN.step(row.state, move)
    except NotAllowed as error:
        raise Conflict(f"return {row.number} is {row.state.replace('_', ' ')}") from error
    row.version += 1
    if move == "send":
        row.sent_at = context.now
    elif move == "arrive":
        row.arrived_at = context.now
    else:
        row.ended_at = context.now
    _story(context, row, message)
    context.session.flush()


# What has happened by then, for each choice of when the buyer is paid back.
_REACHED = {
    "at_once": GOODS_RETURN.states,
    "sent": ("on_the_way", "arrived", "looked_at"),
    "arrived": ("arrived", "looked_at"),
    "looked_at": ("looked_at",),
}


def _by_policy(context: Context, row: GoodsReturn) -> None:
    if row.state in _REACHED[row.refund_when]:
        pay_back(context, row)


def pay_back(context: Context, row: GoodsReturn) -> None:
    """The buyer gets their money, once; where that cannot be done any more, the story says why."""
    claim = context.get(Claim, row.claim_id, "claim")
    if claim.buyer in buyer_side.ENDS:
        return
    reason = buyer_side.ways(context, claim).reason_not.get(Way.refund)
    if reason:
        _story(context, row, f"not paid back by itself: {reason}")
        return
    buyer_side.do(context, claim.id, None, Way.refund)


def look_at(context: Context, number: int, version: int | None, sound: int, remark: str = "") -> GoodsReturn:
    """A person says how it came: so many can be sold again and are in the depot's stock, the rest is written off. Cannot be undone."""
    row = context.get_version(GoodsReturn, number, version, "return")
    if not 0 <= sound <= row.units:
        raise Invalid(f"{row.units} came back", {"sound": f"must be 0 to {row.units}"})
    if sound:
        claim = context.get(Claim, row.claim_id, "claim")
        if row.supplier_id is None or not goods_back.takes(context, row.supplier_id, row.order_line_id):
            raise Conflict("only a depot that holds these goods puts them into stock; say that none can be sold again")
        cost = half_up(claim.paid * sound, row.units)
        goods_back.enter(context, Back(row.id, row.number, row.supplier_id, claim.purchase_id, row.order_line_id, sound, cost))
    row.sound, row.note = sound, remark.strip()[:300]
    told = _how(row.units, sound) if is_ours(context, row) else "it is back there"
    _move(context, row, "look_at", told + (f": {row.note}" if row.note else ""))
    context.log("return.looked_at", row.number, f"{row.number}: {told}", reason=row.note)
    _by_policy(context, row)
    return row


def is_ours(context: Context, row: GoodsReturn) -> bool:
    """Whether it goes to us or a depot of ours, so that it is stock of ours, or none any more."""
    return row.supplier_id is None or context.get(Supplier, row.supplier_id, "supplier").kind in DEPOTS


def _how(units: int, sound: int) -> str:
    parts = (f"{sound} in stock again" if sound else "", f"{units - sound} not to be sold again" if units > sound else "")
    return " and ".join(part for part in parts if part)


def drop(context: Context, number: int, version: int | None, reason: str = "") -> GoodsReturn:
    """It does not come any more."""
    row = context.get_version(GoodsReturn, number, version, "return")
    _move(context, row, "drop", f"ended: {reason.strip() or 'it does not come'}")
    context.log("return.drop", row.number, f"return {row.number} ended", reason=reason)
    return row


def open_ones(context: Context) -> list[GoodsReturn]:
    """Returns of whoever acts that are not over, the oldest first."""
    mine = select(Claim.id).where(*buyer_side.of_scope(context.scope))
    rows = select(GoodsReturn).where(GoodsReturn.ended_at.is_(None), GoodsReturn.claim_id.in_(mine))
    return list(context.session.scalars(rows.order_by(GoodsReturn.id)))


@dataclass(frozen=True)
class Waiting:
    """A return that waits for somebody. late: it was to be sent, or to arrive, and was not."""

    row: GoodsReturn
    late: bool


def waiting(context: Context) -> list[Waiting]:
    """Returns that have arrived and nobody looked at, and those that should be on their way or here by now."""
    rows = (
        select(GoodsReturn)
        .where(GoodsReturn.state.in_((GoodsReturnState.agreed, GoodsReturnState.on_the_way, GoodsReturnState.arrived)))
        .order_by(GoodsReturn.id)
    )
    out = []
    for row in context.session.scalars(rows):
        if row.state == GoodsReturnState.arrived:
            out.append(Waiting(row, False))
        elif house_days.today(context) > _expected(row):
            out.append(Waiting(row, True))
    return out


def _expected(row: GoodsReturn) -> date:
    """The last day on which nobody wonders where it is."""
    return row.send_by + (LATE if row.state == GoodsReturnState.agreed else timedelta(days=SEND_DAYS))
