"""Parcels: their numbers checked, passed on once and corrected, followed until they arrive."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import quote

from sqlalchemy import func, literal_column, select

from ...connectors.payloads import FulfilmentPayload
from ...connectors.protocols import CarrierWord, Tracking
from ...core.address import postcode_in
from ...core.ids import check_shape
from ...core.states import ORDER_LINE, PARCEL, PURCHASE, ParcelState, PurchaseState
from ...data.base import by_index
from ...data.bulk import by_id
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import Carrier, Store
from ...data.transit import CarrierEvent, Parcel, ParcelLine, PassedOn
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..depot import ledger as depot_ledger
from ..orders.routing import step_line
from ..outbox import queue
from ..pricing.policy import policy_for
from .buyer_notifications import fill, make_templates, write_mail

# Finds a connected carrier by its name (also one that it had before) or code, whatever the capitals.
Carriers = Callable[[str], Carrier | None]


def carriers(context: Context) -> Carriers:
    """Asked once, for however many names; an empty name means the only one."""
    rows = context.session.scalars(select(Carrier)).all()
    named: dict[str, Carrier] = {}
    for one in rows:
        for name in (one.name, one.code, *one.also_called):
            named.setdefault(name.lower(), one)

    def find(name: str) -> Carrier | None:
        wanted = name.strip().lower()
        return named.get(wanted) or (rows[0] if len(rows) == 1 and not wanted else None)

    return find


def find_carrier(context: Context, name: str) -> Carrier | None:
    return carriers(context)(name)


def check_number(carrier: Carrier, number: str) -> str:
    """A number in its plain form, by the carrier's shape; ValueError says what is wrong with it."""
    return check_shape(number, carrier.shape)


def take_tracking(context: Context, purchase: PurchaseOrder, tracking: Tracking, corrects: bool = False) -> Parcel | None:
    """A tracking number for a purchase. A wrong one is told and not passed on; the supplier may correct it later.

    corrects: the supplier tells one number per purchase, so another than before takes its place while that has not moved;
    else it is one more parcel.
    """
    carrier = find_carrier(context, tracking.carrier)
    if carrier is None:
        purchase.message = f"the carrier {tracking.carrier!r} is not connected here; connect it, or mend the name"
        return None
    try:
        number = check_number(carrier, tracking.number)
    except ValueError as error:
        purchase.message = str(error)
        return None
    parcel = context.session.scalar(select(Parcel).where(Parcel.carrier_id == carrier.id, Parcel.number == number))
    if parcel is not None and (message := _used_already(context, parcel, purchase)):
        purchase.message = message
        return None
    old = _unmoved(context, purchase, number) if corrects else []
    if parcel is None:
        parcel = Parcel(carrier_id=carrier.id, number=number, made_at=tracking.at or context.now, last_word="Label made")
        context.session.add(parcel)
        context.session.flush()
    known = context.session.scalar(select(ParcelLine.id).where(ParcelLine.parcel_id == parcel.id, ParcelLine.purchase_id == purchase.id))
    if known is None:
        context.session.add(ParcelLine(parcel_id=parcel.id, purchase_id=purchase.id))
    for one in old:
        _replace(context, one, purchase, parcel)
    if purchase.state != PurchaseState.shipped:
        purchase.state = PURCHASE.step(purchase.state, "ship")
        depot_ledger.follow_purchase(context, purchase)
    purchase.message = ""
    lines = lines_of_purchase(context, purchase.id)
    for line in lines:
        if line.state in ORDER_LINE.sources("send") and all_are(context, line, ("shipped",)):
            step_line(line, "send")
    pass_on(context, parcel, purchase.order_id, lines, corrected=bool(old))
    return parcel


def against(context: Context, reference: str, number: str, carrier: str) -> str:
    """What speaks against a number for a purchase: it was used before, or belongs to another order; '' = nothing. Nothing is kept."""
    found = find_carrier(context, carrier)
    purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == reference))
    if found is None or purchase is None:
        return ""
    parcel = context.session.scalar(select(Parcel).where(Parcel.carrier_id == found.id, Parcel.number == check_number(found, number)))
    return _used_already(context, parcel, purchase) if parcel is not None else ""


# A wrong number is told at its purchase, whatever has become of that since.
WRONG_IN = (PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted, PurchaseState.shipped)


def wrong_numbers(context: Context) -> list[PurchaseOrder]:
    """Purchases with a number that cannot be right, the oldest first."""
    has_message = PurchaseOrder.message != literal_column("''")
    rows = select(PurchaseOrder).where(PurchaseOrder.state.in_(WRONG_IN), has_message).order_by(PurchaseOrder.id)
    return list(context.session.scalars(by_index(rows, PurchaseOrder, "ix_purchase_order_message")))


def drop_wrong(context: Context, reference: str) -> None:
    """A person says that a wrong number is no matter. Can be undone."""
    purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == reference.strip()))
    if purchase is None or not purchase.message or purchase.state not in WRONG_IN:
        raise Conflict("this is done already")
    before = {"purchase": purchase.id, "message": purchase.message}
    purchase.message = ""
    purchase.version += 1
    context.log(
        "transit.dropped",
        purchase.reference,
        f"{purchase.reference}: wrong number set aside: {before['message']}",
        before=before,
        undo=True,
    )
    context.session.flush()


def bring_back_wrong(context: Context, before: dict[str, Any]) -> None:
    """Undo of setting a wrong number aside."""
    context.get(PurchaseOrder, before["purchase"], "purchase order").message = before["message"]


def lines_of_purchase(context: Context, purchase: int) -> list[OrderLine]:
    rows = context.session.scalars(select(PurchaseLine.order_line_id).where(PurchaseLine.purchase_id == purchase, PurchaseLine.live))
    return list(by_id(context.session, OrderLine, rows).values())


def _used_already(context: Context, parcel: Parcel, purchase: PurchaseOrder) -> str:
    """What speaks against a number that we know already: it ended before, or travels to somebody else."""
    orders = orders_of(context, parcel.id)
    if purchase.order_id in {one.id for one in orders}:
        return ""
    if parcel.state in (ParcelState.delivered, ParcelState.returned) and (parcel.ended_at or context.now) < purchase.made_at:
        return f"{parcel.number} was used before: that parcel ended before this was bought; ask the supplier for the right number"
    mine = _where(context.get(Order, purchase.order_id, "order"))
    others = [one for one in orders if _where(one) != mine]
    if others:
        return f"{parcel.number} is the number of order {others[0].number} too, which goes elsewhere; ask the supplier which is right"
    return ""


def _where(order: Order) -> tuple[str, str]:
    address = order.address_override or order.address
    return str(address.get("postcode", "")).replace(" ", "").upper(), order.country


def purchases_in(context: Context, parcel: int) -> list[int]:
    """Numbers of the purchases that have something in a parcel."""
    return list(context.session.scalars(select(ParcelLine.purchase_id).where(ParcelLine.parcel_id == parcel)))


def orders_of(context: Context, parcel: int) -> list[Order]:
    """The orders that have something in a parcel."""
    rows = select(PurchaseOrder.order_id).join(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id).where(ParcelLine.parcel_id == parcel)
    return sorted(by_id(context.session, Order, context.session.scalars(rows)).values(), key=lambda one: one.id)


def _unmoved(context: Context, purchase: PurchaseOrder, number: str) -> list[Parcel]:
    """Parcels of a purchase under another number that no carrier has had in hand."""
    rows = (
        select(Parcel)
        .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
        .where(ParcelLine.purchase_id == purchase.id, Parcel.state == ParcelState.label, Parcel.moved_at.is_(None), Parcel.number != number)
    )
    return list(context.session.scalars(rows))


def _replace(context: Context, old: Parcel, purchase: PurchaseOrder, new: Parcel) -> None:
    """Another number takes a wrong one's place; the wrong one stays to be seen, with nothing in it."""
    rest = context.session.scalars(select(ParcelLine).where(ParcelLine.parcel_id == old.id)).all()
    for row in rest:
        if row.purchase_id == purchase.id:
            context.session.delete(row)
    if len(rest) == 1:
        old.state, old.ended_at, old.ended_by = PARCEL.step(old.state, "replace"), context.now, "replaced"
        old.last_word = f"Wrong number; it is {new.number}"
    context.log("transit.corrected", purchase.reference, f"{purchase.reference}: number {old.number} put right, it is {new.number}")


def all_are(context: Context, line: OrderLine, states: Sequence[str]) -> bool:
    """Whether all that is bought for a line stands so far; a kit may come from several suppliers."""
    context.session.flush()
    others = (
        select(PurchaseOrder.id)
        .join(PurchaseLine, PurchaseLine.purchase_id == PurchaseOrder.id)
        .where(PurchaseLine.order_line_id == line.id, PurchaseLine.live, PurchaseOrder.state.not_in(states))
    )
    return context.session.scalar(others.limit(1)) is None


def pass_on(context: Context, parcel: Parcel, order_id: int, lines: Sequence[OrderLine], corrected: bool = False) -> None:
    """Give a number to the store and tell the buyer: once per parcel and order."""
    if context.session.scalar(select(PassedOn.id).where(PassedOn.parcel_id == parcel.id, PassedOn.order_id == order_id)):
        return
    order, carrier = context.get(Order, order_id, "order"), context.get(Carrier, parcel.carrier_id, "carrier")
    store = context.get(Store, order.store_id, "store")
    context.session.add(PassedOn(parcel_id=parcel.id, order_id=order_id, at=context.now))
    if order.channel == "link" or store.kind == "sheet":
        reference = f"parcel-{store.code}-{order.number}-{parcel.number}"
        queue.put(
            context,
            f"store:{store.id}",
            f"order:{order_id}",
            reference,
            FulfilmentPayload(
                order=order.number,
                tracking_number=parcel.number,
                carrier=carrier.store_names.get(str(store.id), carrier.name),
                reference=reference,
                parcel=parcel.id,
                order_id=order_id,
            ),
        )
    kind = "corrected" if corrected else "shipped"
    said = {"carrier": carrier.name, "tracking": parcel.number, "page": page_of(carrier, parcel.number)}
    write_mail(context, kind, order, store, lines, parcel.number, said)
    context.session.flush()


def on_the_road(context: Context, carrier: int) -> list[str]:
    """Numbers that the carrier may have news of."""
    return list(
        context.session.scalars(
            select(Parcel.number)
            .where(Parcel.carrier_id == carrier, Parcel.state.in_((ParcelState.label, ParcelState.moving)))
            .order_by(Parcel.id)
        )
    )


def take_words(context: Context, carrier: int, words: dict[str, list[CarrierWord]]) -> None:
    """What a carrier says of parcels, in whatever order and however often."""
    parcels = context.session.scalars(select(Parcel).where(Parcel.carrier_id == carrier, Parcel.number.in_(list(words)))).all()
    known = set(
        context.session.execute(
            select(CarrierEvent.parcel_id, CarrierEvent.at, CarrierEvent.kind).where(CarrierEvent.parcel_id.in_([p.id for p in parcels]))
        )
        .tuples()
        .all()
    )
    for parcel in parcels:
        for word in words[parcel.number]:
            if (parcel.id, word.at, word.kind) in known:
                continue
            known.add((parcel.id, word.at, word.kind))
            context.session.add(CarrierEvent(parcel_id=parcel.id, at=word.at, kind=word.kind, message=word.message, place=word.place))
            _advance(context, parcel, word)
    context.session.flush()


def _advance(context: Context, parcel: Parcel, word: CarrierWord) -> None:
    move = {"collected": "move", "moving": "move", "delivered": "deliver", "returned": "return"}.get(word.kind)
    if parcel.moved_at is None or word.at >= parcel.moved_at:
        parcel.last_word = f"{word.message}, {word.place}" if word.place else word.message
    if move and parcel.state in PARCEL.sources(move):
        parcel.state = PARCEL.step(parcel.state, move)
    if move:
        parcel.moved_at = max(parcel.moved_at or word.at, word.at)
    if parcel.state in (ParcelState.delivered, ParcelState.returned) and parcel.ended_at is None:
        parcel.ended_at, parcel.ended_by = word.at, "carrier"
        if parcel.state == ParcelState.delivered and _elsewhere(context, parcel, word):
            parcel.ended_by = "elsewhere"
        elif parcel.state == ParcelState.delivered:
            arrive(context, parcel)


def _elsewhere(context: Context, parcel: Parcel, word: CarrierWord) -> bool:
    """Whether the carrier names another postcode than the buyer's; where it names none, it is believed."""
    for order in orders_of(context, parcel.id):
        named = postcode_in(word.place, order.country)
        if named and named != _where(order)[0]:
            return True
    return False


def arrive(context: Context, parcel: Parcel) -> None:
    """Lines of the parcel's purchases have arrived, once every parcel of their purchase has."""
    purchases = list(context.session.scalars(select(ParcelLine.purchase_id).where(ParcelLine.parcel_id == parcel.id)))
    context.session.flush()
    for number in purchases:
        rest = context.session.scalar(
            select(Parcel.id)
            .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
            .where(ParcelLine.purchase_id == number, Parcel.state != ParcelState.delivered)
            .limit(1)
        )
        if rest is not None:
            continue
        lines = lines_of_purchase(context, number)
        for line in lines:
            if line.state in ORDER_LINE.sources("arrive") and _all_delivered(context, line):
                step_line(line, "arrive", "supposed: nobody said otherwise" if parcel.ended_by == "policy" else "")
        purchase = context.get(PurchaseOrder, number, "purchase order")
        order = context.get(Order, purchase.order_id, "order")
        if parcel.ended_by == "carrier":
            write_mail(
                context, "arrived", order, context.get(Store, order.store_id, "store"), lines, parcel.number, {"tracking": parcel.number}
            )


def _all_delivered(context: Context, line: OrderLine) -> bool:
    """Whether every parcel with a part of this line has been given to the buyer; a kit may come in several."""
    rest = (
        select(Parcel.id)
        .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
        .join(PurchaseLine, PurchaseLine.purchase_id == ParcelLine.purchase_id)
        .where(PurchaseLine.order_line_id == line.id, PurchaseLine.live, Parcel.state != ParcelState.delivered)
    )
    return context.session.scalar(rest.limit(1)) is None


def suppose_arrived(context: Context) -> int:
    """Parcels that moved and of which nobody said for as long as the store's policy has it that they arrived. How many."""
    rows = context.session.execute(
        select(Parcel, Store.code)
        .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
        .join(PurchaseOrder, PurchaseOrder.id == ParcelLine.purchase_id)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .join(Store, Store.id == Order.store_id)
        .join(Carrier, Carrier.id == Parcel.carrier_id)
        # Of a carrier that tells nothing, a parcel moves from the day it was sent.
        .where(
            (Parcel.state == ParcelState.moving) & (Parcel.moved_at < context.now - timedelta(days=1))
            | (Parcel.state == ParcelState.label) & (Carrier.kind == "by_hand")
        )
    ).all()
    after: dict[str, int] = {}
    done: dict[int, Parcel] = {}
    for parcel, code in rows:
        if code not in after:
            after[code] = int(policy_for(context.session, store=code)["arrived_after_days"])
        if after[code] and parcel.id not in done and context.now - parcel.made_at > timedelta(days=after[code]):
            if parcel.state == ParcelState.label:
                parcel.state, parcel.moved_at = PARCEL.step(parcel.state, "move"), parcel.made_at
            parcel.state, parcel.ended_at, parcel.ended_by = PARCEL.step(parcel.state, "suppose"), context.now, "policy"
            parcel.last_word = f"Taken as arrived after {after[code]} days"
            done[parcel.id] = parcel
    for parcel in done.values():
        arrive(context, parcel)
    if done:
        n = len(done)
        reason = "nobody said otherwise for as long as the limits have it"
        context.log("transit.supposed", "parcels", f"{n} parcel{'' if n == 1 else 's'} taken as arrived", reason=reason, count=n)
    return len(done)


MARKS = {"moving": "on its way", "delivered": "delivered", "returned": "on its way back"}


def mark(context: Context, number: int, what: str, at: datetime | None = None) -> Parcel:
    """A person's or a sheet's word on a parcel: moving, delivered, returned. It counts like a carrier's, and cannot be undone."""
    parcel = context.get(Parcel, number, "parcel")
    if what not in MARKS:
        raise Invalid(f"a parcel is one of {', '.join(MARKS)}")
    if at is not None and at > context.now:
        raise Invalid("that day is still to come")
    if parcel.state in (ParcelState.delivered, ParcelState.returned):
        raise Conflict(f"{parcel.number} is {parcel.state} already")
    take_words(context, parcel.carrier_id, {parcel.number: [CarrierWord(at or context.now, what, MARKS[what].capitalize(), "")]})
    context.log("transit.mark", parcel.number, f"{parcel.number}: {MARKS[what]}, as told by {context.actor}")
    return parcel


def page_of(carrier: Carrier, number: str) -> str:
    """Where a parcel can be followed; '' = nowhere."""
    return carrier.page.replace("{number}", quote(number, safe="")) if carrier.page else ""


def enter_tracking(context: Context, reference: str, number: str, carrier: str, at: datetime | None = None) -> Parcel:
    """A tracking number given by a person or a sheet, and since when it is on its way; Invalid says what is wrong with it."""
    purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == reference.strip()))
    if purchase is None:
        raise Invalid(f"there is no purchase order {reference!r}")
    if purchase.state in (PurchaseState.refused, PurchaseState.stopped, PurchaseState.withdrawn):
        raise Invalid(f"purchase order {purchase.reference} was {purchase.state}, so nothing can be on its way for it")
    parcel = take_tracking(context, purchase, Tracking(number, carrier))
    if parcel is None:
        message = purchase.message
        context.session.expire(purchase)
        raise Invalid(message)
    if at is not None and parcel.made_at == context.now:
        parcel.made_at = at
    context.log("transit.number", purchase.reference, f"{purchase.reference}: {parcel.number} entered by hand")
    return parcel


def passed_on(context: Context, parcel: int) -> PassedOn | None:
    """When a parcel's number was given to its store."""
    return context.session.scalar(select(PassedOn).where(PassedOn.parcel_id == parcel))


def events_of(context: Context, parcel: int) -> Sequence[CarrierEvent]:
    return context.session.scalars(select(CarrierEvent).where(CarrierEvent.parcel_id == parcel).order_by(CarrierEvent.at)).all()


def counted(context: Context) -> dict[str, int]:
    """How many parcels are in which state."""
    return dict(context.session.execute(select(Parcel.state, func.count()).group_by(Parcel.state)).tuples().all())


def numbers_of(context: Context, purchases: Sequence[int]) -> dict[int, list[str]]:
    """Tracking numbers by purchase order."""
    found: dict[int, list[str]] = {}
    rows = select(ParcelLine.purchase_id, Parcel.number).join(Parcel, Parcel.id == ParcelLine.parcel_id)
    for purchase, number in context.session.execute(rows.where(ParcelLine.purchase_id.in_(purchases))):
        found.setdefault(purchase, []).append(number)
    return found


__all__ = [
    "arrive",
    "enter_tracking",
    "fill",
    "find_carrier",
    "make_templates",
    "pass_on",
    "suppose_arrived",
    "take_tracking",
    "take_words",
]


@undoing.undoes("transit.dropped")
def undo_transit_dropped(context: Context, act: AuditEntry) -> None:
    bring_back_wrong(context, undoing.before(act))
