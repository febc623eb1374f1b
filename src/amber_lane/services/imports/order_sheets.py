"""The orders sheet and the tracking sheet."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import datetime
from typing import Any

from sqlalchemy import select

from ...connectors.protocols import Address, PurchaseAnswer, StoreOrder, StoreOrderLine, Tracking
from ...core.currency import parse_money
from ...core.ids import check_country
from ...core.states import OrderLineState, ParcelState, PurchaseState
from ...data.bulk import in_chunks
from ...data.orders import Order, OrderLine, PurchaseOrder
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ...data.transit import Parcel, ParcelLine
from ..base import house_days
from ..base.context import Context
from ..base.errors import Invalid
from ..base.import_frame import Checked, KnownNames, Row, each, moment, need, whole
from ..fulfilment import parcel_tracking
from ..orders import orders
from ..orders.routing import OPEN, lines_of
from ..purchasing import supplier_answers


def check_orders(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = KnownNames(context), Checked()
    prices = {
        (store, code): price
        for store, code, price in context.session.execute(
            select(Listing.store_id, Sku.code, Listing.wanted_price).join(Sku, Sku.id == Listing.sku_id)
        )
    }
    groups: dict[tuple[int, str], list[tuple[Row, StoreOrderLine]]] = {}

    def read(row: Row) -> None:
        store, number = names.store(row), need(row, "order_no")
        _look_at_buyer(context, row)
        sku = need(row, "sku")
        unit = _unit_price(row, store, prices.get((store.id, sku)))
        quantity = whole(row, "quantity", 1, 10_000)
        group = groups.setdefault((store.id, number), [])
        same = tuple(sorted((name, value) for name, value in row.items() if value))
        if (store.id, same) in seen:
            seen[store.id, same] += 1
            return
        seen[store.id, same] = 0
        if sku not in skus and (near := zeros.get(sku.lstrip("0"))):
            lost.add((sku, near))
        group.append((row, StoreOrderLine(len(group) + 1, sku, quantity, unit, **_beside(row, store, unit * quantity))))

    seen: dict[tuple[int, tuple[tuple[str, str], ...]], int] = {}
    lost: set[tuple[str, str]] = set()
    skus = set(context.session.scalars(select(Sku.code)))
    zeros = {code.lstrip("0"): code for code in skus if code.startswith("0")}
    each(rows, progress, out, read)
    known = _known(context, groups)
    stores = {store.id: store for rows in names.stores.values() for store in rows}
    for (store_id, number), group in groups.items():
        order = _order_of(context, number, stores[store_id].currency, group)
        if (store_id, number) not in known:
            out.add("new", (store_id, order), f"order {number}: {order.buyer.name}, {len(group)} line{'s' if len(group) > 1 else ''}")
            continue
        try:
            joined = _joined(known[store_id, number], order)
        except ValueError as error:
            for row, _ in group:
                out.refuse(row, str(error))
            continue
        fresh = len(joined.lines) - len(known[store_id, number][1]) if joined else 0
        message = f"order {number}: {fresh} more line{'s join it' if fresh > 1 else ' joins it'}"
        out.add("changed" if joined else "same", (store_id, joined), message)
    out.note = _notes(sum(seen.values()), lost)
    return out


def _look_at_buyer(context: Context, row: Row) -> None:
    """ValueError where what is needed of a buyer is missing, or a day is none."""
    check_country(need(row, "country"))
    for name in ("name", "address_1", "city", "postcode"):
        need(row, name)
    for name in ("ordered_at", "promised_by"):
        _time(context, row.get(name, ""), name)


def _unit_price(row: Row, store: Store, listed: int | None) -> int:
    """What one costs by the sheet, else as it is listed there."""
    currency = row.get("currency") or store.currency
    if currency != store.currency:
        raise ValueError(f"currency: {currency} is not the store's, {store.currency}")
    unit = parse_money(row["unit_price"], currency, "unit_price") if row.get("unit_price") else listed
    if unit is None:
        raise ValueError(f"unit_price is empty, and {store.name} has no listing of {row['sku']}")
    if unit < 0:
        raise ValueError("unit_price is negative")
    return unit


def _beside(row: Row, store: Store, paid: int) -> dict[str, Any]:
    """What the sheet tells of a line's money beside its price: sending paid, discount, tax; of the whole line."""
    out = {}
    for name in ("shipping_paid", "discount", "tax"):
        if row.get(name):
            out[name] = parse_money(row[name], store.currency, name)
            if out[name] < 0:
                raise ValueError(f"{name} is negative")
    if out.get("discount", 0) > paid + out.get("shipping_paid", 0):
        raise ValueError("discount is more than the buyer paid")
    if out.get("tax", 0) > paid + out.get("shipping_paid", 0) - out.get("discount", 0):
        raise ValueError("tax is more than the buyer paid")
    return out


def _notes(again: int, lost: set[tuple[str, str]]) -> str:
    notes = [
        f"{again} row{'s stand' if again > 1 else ' stands'} in it twice; each counts once." * (again > 0),
        f"{len(lost)} SKUs differ from ours only in leading zeros, such as {min(lost, default=('', ''))[0]}." * (len(lost) > 0),
    ]
    return " ".join(note for note in notes if note)


def _order_of(context: Context, number: str, currency: str, group: list[tuple[Row, StoreOrderLine]]) -> StoreOrder:
    """The order that rows of one number make; who buys it stands in the first of them."""
    first = group[0][0]
    promised = _time(context, first.get("promised_by", ""), "promised_by")
    rest = (first.get(name, "") for name in ("address_2", "region", "phone", "email"))
    buyer = Address(first["name"], first["address_1"], first["city"], first["postcode"], check_country(first["country"]), *rest)
    return StoreOrder(
        number,
        _time(context, first.get("ordered_at", ""), "ordered_at") or context.now,
        currency,
        buyer,
        [line for _, line in group],
        house_days.day_of(context, promised) if promised else None,
        note=first.get("note", ""),
    )


def _known(context: Context, wanted: Iterable[tuple[int, str]]) -> dict[tuple[int, str], tuple[Order, list[OrderLine]]]:
    """Orders of a sheet that are here already, with their lines."""
    numbers = {number for _, number in wanted}
    found = [row for chunk in in_chunks(numbers) for row in context.session.scalars(select(Order).where(Order.number.in_(chunk)))]
    lines = lines_of(context, [row.id for row in found])
    return {(row.store_id, row.number): (row, lines[row.id]) for row in found}


def _joined(known: tuple[Order, list[OrderLine]], ordered: StoreOrder) -> StoreOrder | None:
    """The order with the sheet's lines that it lacks, such as rows that were mended; None where it has them all.

    ValueError where it was sent already, or says something else of a line that it has.
    """
    order, lines = known
    left = [line for line in lines if line.state != OrderLineState.cancelled]
    fresh = []
    for one in ordered.lines:
        mine = next((line for line in left if line.sku_code == one.sku and line.quantity == one.quantity), None)
        if mine is not None:
            left.remove(mine)
        elif any(line.sku_code == one.sku for line in left):
            raise ValueError(f"order {order.number} has another quantity of {one.sku}; change it at the order")
        else:
            fresh.append(one)
    if not fresh:
        return None
    if any(line.state not in (*OPEN, OrderLineState.cancelled) for line in lines) or order.cancelled_at is not None:
        raise ValueError(f"order {order.number} is sent or cancelled already; give these lines an order number of their own")
    if any(line.paid % line.quantity for line in lines):
        raise ValueError(f"order {order.number} was changed in part; add the line at the order")
    kept = [_as_told(line, order.told) for line in lines]
    next_no = max((line.line_no for line in lines), default=0) + 1
    more = [replace(one, line_no=next_no + n) for n, one in enumerate(fresh)]
    buyer = Address(**{**order.address, "country": order.country})
    return replace(ordered, buyer=buyer, lines=[*kept, *more])


def _as_told(line: OrderLine, told: list[str]) -> StoreOrderLine:
    """A line that is here already, as its store told it."""
    money = {name: getattr(line, name) for name in told}
    return StoreOrderLine(line.line_no, line.sku_code, line.quantity, line.paid // line.quantity, line.title, tax_by=line.tax_by, **money)


def _time(context: Context, text: str, name: str) -> datetime | None:
    return moment(context, text, name) if text else None


def take_orders(context: Context, checked: Checked) -> int:
    by_store: dict[int, list[StoreOrder]] = {}
    for store_id, order in checked.good:
        by_store.setdefault(store_id, []).append(order)
    fresh = [
        one
        for number, incoming in by_store.items()
        for one in orders.take_many(context, context.get(Store, number, "store"), incoming, "sheet")
    ]
    joined = len(checked.good) - len(fresh)
    incoming = f"{len(fresh)} order{'' if len(fresh) == 1 else 's'} brought in by a sheet" + (f", {joined} added to" if joined else "")
    context.log("order.sheet", "orders", incoming, count=len(fresh))
    known = _known(context, [(store_id, order.number) for store_id, order in checked.good])
    orders.after_sales(context, [known[store_id, order.number][0] for store_id, order in checked.good])
    return len(checked.good)


ANSWERS = ("accepted", "refused", "shipped")
# Other words for what has become of a parcel.
STATES = {"in transit": "moving", "on its way": "moving", "shipped": "moving", "arrived": "delivered", "returning": "returned"}


def check_answers(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    """What a supplier wrote back to purchase orders; a row with a line number is about that line alone."""
    out = Checked()
    known = {
        row.reference: row
        for row in context.session.scalars(
            select(PurchaseOrder).where(PurchaseOrder.state.in_((PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted)))
        )
    }
    carriers, answers = parcel_tracking.carriers(context), dict[str, PurchaseAnswer]()
    shipped: dict[str, datetime] = {}

    def read(row: Row) -> None:
        if not row.get("answer") and not any(row.get(name) for name in ("reason", "billed", "tracking_number")):
            # Not filled in yet: no answer is no fault.
            out.add("same", None, "")
            return
        reference, answer = need(row, "purchase_order"), _answer_in(row)
        purchase = known.get(reference)
        if purchase is None:
            raise ValueError(f"there is no open purchase order {reference!r}")
        if sent := _sent_at(context, row):
            shipped[reference] = sent
        reason = row.get("reason", "")[:300]
        if row.get("line_no") and answer == "refused":
            line = whole(row, "line_no", 1, 100_000)
            rest = answers.get(reference) or PurchaseAnswer(reference, "", "accepted", "", None, None)
            answers[reference] = replace(rest, lacking=(*rest.lacking, (line, reason or "not sent")))
        else:
            had = answers.get(reference)
            # Whoever fills in our own sheet says it line by line; all its lines together are one answer.
            bill, tracking = _bill(row, purchase.currency), _tracking(carriers, row, answer)
            if had and had.tracking and tracking and had.tracking != tracking:
                raise ValueError("a second tracking number for it; give that one in the sheet of tracking numbers")
            if had and had.billed is not None:
                bill = had.billed + (bill or 0) if row.get("line_no") else had.billed if bill is None else bill
            answers[reference] = PurchaseAnswer(
                reference, row.get("their_number", "")[:100], answer, reason or ("refused" if answer == "refused" else ""),
                bill, tracking or (had.tracking if had else None), had.lacking if had else (),
            )  # fmt: skip

    each(rows, progress, out, read)
    for reference, one in answers.items():
        if one.tracking and reference in shipped:
            one = replace(one, tracking=replace(one.tracking, at=shipped[reference]))
        out.add("new", one, f"{reference}: {one.state}" + (f", without {len(one.lacking)} lines" if one.lacking else ""))
    return out


def _answer_in(row: Row) -> str:
    answer = need(row, "answer").lower()
    if answer not in ANSWERS:
        raise ValueError(f"answer: {answer!r} is none of {', '.join(ANSWERS)}")
    # With a number it is sent.
    return "shipped" if answer == "accepted" and row.get("tracking_number") else answer


def _sent_at(context: Context, row: Row) -> datetime | None:
    sent = _time(context, row.get("shipped_at", ""), "shipped_at")
    if sent is not None and sent > context.now:
        raise ValueError(f"shipped_at: {house_days.day_of(context, sent)} is still to come")
    return sent


def _bill(row: Row, currency: str) -> int | None:
    if not row.get("billed"):
        return None
    value = parse_money(row["billed"], currency, "billed")
    if value < 0:
        raise ValueError("billed is negative")
    return value


def _tracking(carriers: parcel_tracking.Carriers, row: Row, answer: str) -> Tracking | None:
    if answer != "shipped":
        return None
    return Tracking(_number(carriers, row), row["carrier"])


def _number(carriers: parcel_tracking.Carriers, row: Row) -> str:
    carrier = carriers(need(row, "carrier"))
    if carrier is None:
        raise ValueError(f"the carrier {row['carrier']!r} is not connected")
    return parcel_tracking.check_number(carrier, need(row, "tracking_number"))


def take_answers(context: Context, checked: Checked) -> int:
    for one in checked.good:
        supplier_answers.take_answer(context, one)
    context.log("purchase.answers", "suppliers", f"{len(checked.good)} answers brought in by a sheet", count=len(checked.good))
    return len(checked.good)


def check_tracking(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    out, rows, carriers = Checked(), list(rows), parcel_tracking.carriers(context)
    states, known = set[str](), dict[tuple[str, str], str]()
    parcels = (
        select(PurchaseOrder.reference, Parcel.number, Parcel.state)
        .join(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
        .join(Parcel, Parcel.id == ParcelLine.parcel_id)
    )
    for chunk in in_chunks({row.get("purchase_order", "").strip() for row in rows}):
        states |= set(context.session.scalars(select(PurchaseOrder.reference).where(PurchaseOrder.reference.in_(chunk))))
        known |= {
            (ref, number): state
            for ref, number, state in context.session.execute(parcels.where(PurchaseOrder.reference.in_(chunk))).tuples()
        }

    def read(row: Row) -> None:
        reference, number = need(row, "purchase_order"), _number(carriers, row)
        if reference not in states:
            raise ValueError(f"there is no purchase order {reference!r}")
        at = _sent_at(context, row)
        kind = "same" if (reference, number) in known else "new"
        state = STATES.get(row.get("state", ""), row.get("state", ""))
        if state and state not in parcel_tracking.MARKS:
            raise ValueError(f"state: {row['state']!r} is none of {', '.join(parcel_tracking.MARKS)}")
        wrong = "" if kind == "same" else parcel_tracking.against(context, reference, number, row["carrier"])
        if kind == "same" and state and known[reference, number] not in (state, "delivered", "returned"):
            kind = "changed"
        message = f"{reference}: {wrong or number}" + (f", {parcel_tracking.MARKS[state]}" if state else "")
        out.add("wrong" if wrong else kind, (reference, number, row["carrier"], at, state), message)

    each(rows, progress, out, read)
    return out


def take_tracking(context: Context, checked: Checked) -> int:
    taken = 0
    for reference, number, carrier, at, state in checked.good:
        try:
            parcel = parcel_tracking.enter_tracking(context, reference, number, carrier, at)
            if state and parcel.state not in (ParcelState.delivered, ParcelState.returned):
                parcel_tracking.mark(context, parcel.id, state)
            taken += 1
        except Invalid as error:
            # One that cannot be stands among the wrong numbers; it holds up none of the others.
            purchase = context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.reference == reference)).one()
            purchase.message = error.message
    return taken
