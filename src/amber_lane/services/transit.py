"""Parcels: their numbers checked and passed on once, followed until they arrive; mail to buyers, each once."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from sqlalchemy import select

from ..connectors.protocols import CarrierWord, Tracking
from ..core.ids import check_s10
from ..core.states import ORDER_LINE, PARCEL, PURCHASE
from ..data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ..data.setup import Carrier, Mailbox, Store
from ..data.transit import (
    CarrierEvent,
    Message,
    MessageTemplate,
    Parcel,
    ParcelLine,
    PassedOn,
)
from . import outbox
from .desk import Desk, Invalid, by_id
from .planning import step_line

TEMPLATES = {
    "shipped": (
        "Your order {order} is on its way",
        "Hello {name},\n\n{lines}\n\nhas left and travels with {carrier} under the number {tracking}.\n\n{store}\n",
    ),
    "arrived": ("Your order {order} has arrived", "Hello {name},\n\n{lines}\n\nwas delivered. We hope it serves you well.\n\n{store}\n"),
}


def find_carrier(desk: Desk, name: str) -> Carrier | None:
    """A joined carrier by its name or code, whatever the capitals."""
    wanted = name.strip().lower()
    carriers = desk.s.scalars(select(Carrier)).all()
    match = [one for one in carriers if wanted in (one.name.lower(), one.code.lower())]
    return match[0] if match else (carriers[0] if len(carriers) == 1 and not wanted else None)


def take_tracking(desk: Desk, purchase: PurchaseOrder, tracking: Tracking) -> Parcel | None:
    """A tracking number for a purchase. A wrong one is told and not passed on; the supplier may correct it later."""
    carrier = find_carrier(desk, tracking.carrier)
    if carrier is None:
        purchase.told = f"the carrier {tracking.carrier!r} is not joined here; join it, or mend the name"
        return None
    try:
        number = check_s10(tracking.number)
    except ValueError as error:
        purchase.told = str(error)
        return None
    parcel = desk.s.scalar(select(Parcel).where(Parcel.carrier_id == carrier.id, Parcel.number == number))
    if parcel is None:
        parcel = Parcel(carrier_id=carrier.id, number=number, made_at=desk.now, last_word="Label made")
        desk.s.add(parcel)
        desk.s.flush()
    known = desk.s.scalar(select(ParcelLine.id).where(ParcelLine.parcel_id == parcel.id, ParcelLine.purchase_id == purchase.id))
    if known is None:
        desk.s.add(ParcelLine(parcel_id=parcel.id, purchase_id=purchase.id))
    if purchase.state != "shipped":
        purchase.state = PURCHASE.step(purchase.state, "ship")
    purchase.told = ""
    lines = by_id(
        desk.s,
        OrderLine,
        desk.s.scalars(select(PurchaseLine.order_line_id).where(PurchaseLine.purchase_id == purchase.id, PurchaseLine.live)),
    )
    for line in lines.values():
        if line.state in ORDER_LINE.sources("send") and all_are(desk, line, ("shipped",)):
            step_line(line, "send")
    pass_on(desk, parcel, purchase.order_id, list(lines.values()))
    return parcel


def all_are(desk: Desk, line: OrderLine, states: Sequence[str]) -> bool:
    """Whether all that is bought for a line stands so far; a kit may come from several suppliers."""
    desk.s.flush()
    others = (
        select(PurchaseOrder.id)
        .join(PurchaseLine, PurchaseLine.purchase_id == PurchaseOrder.id)
        .where(PurchaseLine.order_line_id == line.id, PurchaseLine.live, PurchaseOrder.state.not_in(states))
    )
    return desk.s.scalar(others.limit(1)) is None


def pass_on(desk: Desk, parcel: Parcel, order_id: int, lines: Sequence[OrderLine]) -> None:
    """Give a number to the store and tell the buyer: once per parcel and order."""
    if desk.s.scalar(select(PassedOn.id).where(PassedOn.parcel_id == parcel.id, PassedOn.order_id == order_id)):
        return
    order, carrier = desk.get(Order, order_id, "order"), desk.get(Carrier, parcel.carrier_id, "carrier")
    store = desk.get(Store, order.store_id, "store")
    desk.s.add(PassedOn(parcel_id=parcel.id, order_id=order_id, at=desk.now))
    if order.came_by == "link":
        reference = f"parcel-{store.code}-{order.number}-{parcel.number}"
        outbox.put(
            desk,
            f"store:{store.id}",
            f"order:{order_id}",
            "fulfilment",
            reference,
            {
                "order": order.number,
                "tracking_number": parcel.number,
                "carrier": carrier.store_names.get(str(store.id), carrier.name),
                "reference": reference,
                "parcel": parcel.id,
                "order_id": order_id,
            },
        )
    write_mail(desk, "shipped", order, store, lines, parcel.number, {"carrier": carrier.name, "tracking": parcel.number})
    desk.s.flush()


def write_mail(desk: Desk, kind: str, order: Order, store: Store, lines: Sequence[OrderLine], about: str, more: dict[str, str]) -> None:
    """A mail of a kind to the buyer, once per order and parcel; nothing when it is switched off or there is no address."""
    template = desk.s.scalar(select(MessageTemplate).where(MessageTemplate.kind == kind, MessageTemplate.store_id.is_(None)))
    if template is None or not template.on or desk.s.scalar(select(Mailbox.id).limit(1)) is None or "@" not in order.mail:
        return
    if desk.s.scalar(select(Message.id).where(Message.order_id == order.id, Message.kind == kind, Message.about == about)):
        return
    named = {
        "order": order.number,
        "name": order.buyer,
        "store": store.name,
        "lines": "\n".join(f"{line.quantity} × {line.title or line.sku_code}" for line in lines),
        **more,
    }
    subject, body = fill(template.subject, named), fill(template.body, named)
    message = Message(order_id=order.id, kind=kind, about=about, to=order.mail, subject=subject, body=body, at=desk.now)
    desk.s.add(message)
    desk.s.flush()
    key = f"mail-{store.code}-{order.number}-{kind}-{about}"
    outbox.mail(desk, key, f"mail:{message.id}", order.mail, subject, body, message.id)


def fill(template: str, words: dict[str, str]) -> str:
    """A template with its words filled in; words it does not know stay as they are.

    >>> fill("Order {order} {what}", {"order": "4417"})
    'Order 4417 {what}'
    """
    for name, value in words.items():
        template = template.replace(f"{{{name}}}", value)
    return template


def make_templates(desk: Desk) -> None:
    """The house's own templates, where there are none yet."""
    have = set(desk.s.scalars(select(MessageTemplate.kind).where(MessageTemplate.store_id.is_(None))))
    for kind, (subject, body) in TEMPLATES.items():
        if kind not in have:
            desk.s.add(MessageTemplate(kind=kind, subject=subject, body=body, on=kind == "shipped"))
    desk.s.flush()


def on_the_road(desk: Desk, carrier: int) -> list[str]:
    """Numbers that the carrier may have news of."""
    return list(
        desk.s.scalars(select(Parcel.number).where(Parcel.carrier_id == carrier, Parcel.state.in_(("label", "moving"))).order_by(Parcel.id))
    )


def take_words(desk: Desk, carrier: int, words: dict[str, list[CarrierWord]]) -> None:
    """What a carrier says of parcels, in whatever order and however often."""
    parcels = desk.s.scalars(select(Parcel).where(Parcel.carrier_id == carrier, Parcel.number.in_(list(words)))).all()
    known = set(
        desk.s.execute(
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
            desk.s.add(CarrierEvent(parcel_id=parcel.id, at=word.at, kind=word.kind, told=word.told, place=word.place))
            _advance(desk, parcel, word)
    desk.s.flush()


def _advance(desk: Desk, parcel: Parcel, word: CarrierWord) -> None:
    move = {"collected": "move", "moving": "move", "delivered": "deliver", "returned": "return"}.get(word.kind)
    if parcel.moved_at is None or word.at >= parcel.moved_at:
        parcel.last_word = f"{word.told}, {word.place}" if word.place else word.told
    if move and parcel.state in PARCEL.sources(move):
        parcel.state = PARCEL.step(parcel.state, move)
    if move:
        parcel.moved_at = max(parcel.moved_at or word.at, word.at)
    if parcel.state in ("delivered", "returned") and parcel.ended_at is None:
        parcel.ended_at = word.at
        if parcel.state == "delivered":
            _arrive(desk, parcel)


def _arrive(desk: Desk, parcel: Parcel) -> None:
    """Lines of the parcel's purchases have arrived, once every parcel of their purchase has."""
    purchases = list(desk.s.scalars(select(ParcelLine.purchase_id).where(ParcelLine.parcel_id == parcel.id)))
    desk.s.flush()
    for number in purchases:
        rest = desk.s.scalar(
            select(Parcel.id)
            .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
            .where(ParcelLine.purchase_id == number, Parcel.state != "delivered")
            .limit(1)
        )
        if rest is not None:
            continue
        lines = by_id(
            desk.s,
            OrderLine,
            desk.s.scalars(select(PurchaseLine.order_line_id).where(PurchaseLine.purchase_id == number, PurchaseLine.live)),
        ).values()
        for line in lines:
            if line.state in ORDER_LINE.sources("arrive") and _all_delivered(desk, line):
                step_line(line, "arrive")
        purchase = desk.get(PurchaseOrder, number, "purchase order")
        order = desk.get(Order, purchase.order_id, "order")
        write_mail(
            desk, "arrived", order, desk.get(Store, order.store_id, "store"), list(lines), parcel.number, {"tracking": parcel.number}
        )


def _all_delivered(desk: Desk, line: OrderLine) -> bool:
    """Whether every parcel with a part of this line has been given to the buyer; a kit may come in several."""
    rest = (
        select(Parcel.id)
        .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
        .join(PurchaseLine, PurchaseLine.purchase_id == ParcelLine.purchase_id)
        .where(PurchaseLine.order_line_id == line.id, PurchaseLine.live, Parcel.state != "delivered")
    )
    return desk.s.scalar(rest.limit(1)) is None


def enter_tracking(desk: Desk, reference: str, number: str, carrier: str) -> Parcel:
    """A tracking number given by a person or a sheet; Invalid says what is wrong with it."""
    purchase = desk.s.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == reference.strip()))
    if purchase is None:
        raise Invalid(f"there is no purchase order {reference!r}")
    if purchase.state in ("refused", "stopped"):
        raise Invalid(f"purchase order {purchase.reference} was {purchase.state}, so nothing can be on its way for it")
    parcel = take_tracking(desk, purchase, Tracking(number, carrier))
    if parcel is None:
        told = purchase.told
        desk.s.expire(purchase)
        raise Invalid(told)
    desk.log("transit.number", purchase.reference, f"{purchase.reference}: {parcel.number} entered by hand")
    return parcel


STUCK_AFTER = timedelta(days=2)


def trouble_of(parcel: Parcel, promised: Any, now: Any) -> str:
    """'' while a parcel goes well, else what is wrong: no movement, past the promise, returned."""
    if parcel.state == "returned":
        return "goes back to the supplier"
    if parcel.state == "delivered":
        return ""
    if promised is not None and now.date() > promised.date():
        return "past the promise"
    since = parcel.moved_at or parcel.made_at
    if now - since > STUCK_AFTER:
        return "label but no movement" if parcel.state == "label" else "no movement"
    return ""
