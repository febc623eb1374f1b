"""Parcels in trouble: what is wrong with each, what it puts at risk, and the steps that help, each as one act."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from sqlalchemy import func, literal_column, select, union

from ...connectors.payloads import RefundPayload
from ...core.currency import show
from ...core.permissions import Limit
from ...core.risk import parcel_at_risk
from ...core.states import MESSAGE, ORDER_LINE, OrderLineState, ParcelState
from ...data.bulk import by_id, in_chunks
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.setup import Carrier, Store, Supplier
from ...data.transit import Message, Parcel, ParcelLine
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..orders import order_profit
from ..orders.routing import step_line
from ..outbox import queue
from ..pricing.exchange_rates import HomeWorth
from ..pricing.person_limits import Part, by_hand, count
from ..pricing.policy import refund_cost
from .buyer_notifications import write_mail, written
from .parcel_tracking import lines_of_purchase, orders_of

STUCK_AFTER = timedelta(days=2)
# Whoever was asked or told has so long to answer before it is a trouble again.
ANSWER_IN = timedelta(days=2)
# So long past the promise a parcel may be lost, and can be sent again or refunded.
LOST_AFTER = timedelta(days=5)
RETURNED_FOR = timedelta(days=14)
WORDS = {
    "unmoved": "label but no movement",
    "stuck": "no movement",
    "late": "past the promise",
    "returned": "going back to the supplier",
    "elsewhere": "delivered elsewhere",
}


def trouble_of(
    context: Context, state: str, ended_by: str, made: datetime, moved: datetime | None, promised: date | None, informed: bool = True
) -> str:
    """'' while a parcel goes well, else what is wrong, as a key of WORDS."""
    if ended_by == "replaced":
        return ""
    if state == "returned":
        return "returned"
    if state == "delivered":
        return "elsewhere" if ended_by == "elsewhere" else ""
    if promised is not None and house_days.today(context) > promised:
        return "late"
    if informed and context.now - (moved or made) > STUCK_AFTER:
        return "unmoved" if state == "label" else "stuck"
    return ""


@dataclass(frozen=True)
class Troubled:
    """A parcel in trouble. at_risk: house minor units; asked: when somebody was last asked or told about it."""

    parcel: Parcel
    trouble: str
    promised: date | None
    at_risk: int
    asked: datetime | None
    order: int
    since: datetime


def troubled(context: Context) -> list[Troubled]:
    """All parcels in trouble, dearest first; those that came back long ago, or were settled, are left out."""
    # Two looks along an index each, instead of one over all parcels there ever were.
    on_its_way = select(Parcel.id).where(Parcel.state.in_((ParcelState.label, ParcelState.moving, ParcelState.returned)))
    astray = select(Parcel.id).where(Parcel.ended_by == literal_column("'elsewhere'"))
    rows = context.session.execute(
        select(Parcel, func.min(Order.promised_by), func.min(PurchaseOrder.order_id), Carrier.kind)
        .join(Carrier, Carrier.id == Parcel.carrier_id)
        .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
        .join(PurchaseOrder, PurchaseOrder.id == ParcelLine.purchase_id)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .where(Parcel.id.in_(union(on_its_way, astray)))
        .group_by(Parcel.id)
    ).all()
    found = []
    for parcel, promised, order, carrier in rows:
        wrong = trouble_of(context, parcel.state, parcel.ended_by, parcel.made_at, parcel.moved_at, promised, carrier != "by_hand")
        if not wrong or (parcel.state == ParcelState.returned and context.now - (parcel.ended_at or context.now) > RETURNED_FOR):
            continue
        found.append((parcel, wrong, promised, order))
    paid = _paid(context, [parcel.id for parcel, *_ in found])
    asked = _asked(context, {order for *_, order in found})
    out, refund = [], refund_cost(context)
    for parcel, wrong, promised, order in found:
        if wrong in ("returned", "elsewhere") and parcel.id not in paid:
            # Nothing of it is on the road any more: it was sent again or refunded.
            continue
        late = (house_days.today(context) - promised).days if promised else 0
        risk = parcel_at_risk(wrong, late, paid.get(parcel.id, 0), refund)
        since = parcel.ended_at or parcel.moved_at or parcel.made_at
        out.append(Troubled(parcel, wrong, promised, risk, asked.get((order, parcel.number)), order, since))
    return sorted(out, key=lambda one: (-one.at_risk, one.parcel.id))


_UNSETTLED = ("on_the_road", "with_supplier", "bought", "arrived")


def _paid(context: Context, parcels: Iterable[int]) -> dict[int, int]:
    """What buyers paid for what is in each parcel and not settled yet, in the house's money."""
    rates = HomeWorth(context)
    found: dict[int, int] = {}
    for chunk in in_chunks(parcels):
        rows = (
            select(ParcelLine.parcel_id, OrderLine.id, OrderLine.total, Order.currency)
            .join(PurchaseLine, PurchaseLine.purchase_id == ParcelLine.purchase_id)
            .join(OrderLine, OrderLine.id == PurchaseLine.order_line_id)
            .join(Order, Order.id == OrderLine.order_id)
            .where(
                ParcelLine.parcel_id.in_(chunk),
                PurchaseLine.live,
                OrderLine.state.in_(
                    (OrderLineState.on_the_road, OrderLineState.with_supplier, OrderLineState.bought, OrderLineState.arrived)
                ),
            )
            .distinct()
        )
        for parcel, _, paid, currency in context.session.execute(rows):
            found[parcel] = found.get(parcel, 0) + rates.of(paid, currency)
    return found


def _asked(context: Context, orders: Iterable[int]) -> dict[tuple[int, str], datetime]:
    """When a supplier or a buyer was last written to about a parcel, by (order, number)."""
    found: dict[tuple[int, str], datetime] = {}
    for chunk in in_chunks(orders):
        rows = select(Message.order_id, Message.about, Message.at).where(Message.order_id.in_(chunk), Message.kind.in_(("ask", "late")))
        for order, about, at in context.session.execute(rows):
            key = (order, about.partition("#")[0])
            found[key] = max(found.get(key, at), at)
    return found


@dataclass(frozen=True)
class ParcelStep:
    """What may be done about a parcel, and the message that goes with it, to be looked over first ('' = none)."""

    key: str
    label: str
    message: str
    to: str = ""
    subject: str = ""
    body: str = ""


ORDER = {
    "unmoved": ("ask", "tell"),
    "stuck": ("ask", "tell"),
    "late": ("tell", "ask"),
    "returned": ("again", "refund"),
    "elsewhere": ("ask", "again", "refund"),
}


@dataclass(frozen=True)
class _Case:
    parcel: Parcel
    carrier: Carrier
    trouble: str
    orders: list[Order]
    purchases: list[PurchaseOrder]
    supplier: Supplier
    lines: list[OrderLine]


def _case(context: Context, number: int) -> _Case:
    parcel = context.get(Parcel, number, "parcel")
    orders = orders_of(context, number)
    purchases = list(
        context.session.scalars(
            select(PurchaseOrder).join(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id).where(ParcelLine.parcel_id == number)
        )
    )
    if not orders or not purchases:
        raise Conflict("nothing of ours is in this parcel any more")
    promised = min((one.promised_by for one in orders if one.promised_by), default=None)
    supplier, carrier = context.get(Supplier, purchases[0].supplier_id, "supplier"), context.get(Carrier, parcel.carrier_id, "carrier")
    wrong = trouble_of(context, parcel.state, parcel.ended_by, parcel.made_at, parcel.moved_at, promised, carrier.kind != "by_hand")
    lines = {line.id: line for one in purchases for line in lines_of_purchase(context, one.id)}
    return _Case(parcel, carrier, wrong, orders, purchases, supplier, list(lines.values()))


def steps(context: Context, number: int) -> list[ParcelStep]:
    """The steps that help with a parcel, the best one first; none while it goes well."""
    case = _case(context, number)
    keys = list(ORDER.get(case.trouble, ()))
    promised = min((one.promised_by for one in case.orders if one.promised_by), default=None)
    if case.trouble in ("unmoved", "stuck", "late") and promised and house_days.today(context) - promised > LOST_AFTER:
        keys += ["again", "refund"]
    made = {"ask": _ask, "tell": _tell, "again": _again, "refund": _refund}
    return [step for key in keys if (step := made[key](context, case)) is not None]


def _ask(context: Context, case: _Case) -> ParcelStep:
    names = ", ".join(one.reference for one in case.purchases)
    last = case.parcel.last_word or "nothing yet"
    body = (
        f"Hello {case.supplier.name},\n\nthe parcel {case.parcel.number} ({case.carrier.name}) of {names}: {WORDS[case.trouble]}. "
        f"The last that we know of it: {last}. Please find out where it is, and write to us.\n"
    )
    mail = case.supplier.mail if "@" in case.supplier.mail else ""
    message = f"by mail to {mail}" if mail else "no mail address is known: copy the text and send it yourself"
    return ParcelStep("ask", "Ask the supplier", message, mail, f"Where is {case.parcel.number}?", body)


def _tell(context: Context, case: _Case) -> ParcelStep | None:
    order = case.orders[0]
    text = written(context, "late", order, _of(case, order), {"carrier": case.carrier.name, "tracking": case.parcel.number})
    query = select(Message.id).where(Message.order_id == order.id, Message.kind == "late", Message.about == case.parcel.number)
    if text is None or "@" not in order.mail or context.session.scalar(query):
        return None
    return ParcelStep("tell", "Tell the buyer", f"by mail to {order.mail}", order.mail, *text)


def _of(case: _Case, order: Order) -> list[OrderLine]:
    return [line for line in case.lines if line.order_id == order.id]


def _again(context: Context, case: _Case) -> ParcelStep | None:
    may = [line for line in case.lines if line.state in ORDER_LINE.sources("again")]
    if not may or any(one.cancelled_at for one in case.orders):
        return None
    n = len(may)
    return ParcelStep(
        "again", "Send it again", f"{n} line{'' if n == 1 else 's'} planned and bought anew; the first purchase stays paid for"
    )


def _refund(context: Context, case: _Case) -> ParcelStep | None:
    may = [line for line in case.lines if line.state in ORDER_LINE.sources("refund")]
    if not may:
        return None
    by_hand = any(one.channel != "link" for one in case.orders)
    return ParcelStep(
        "refund", "Refund it", "you refund it in the store yourself" if by_hand else "the store gives the money back; cannot be undone"
    )


def take_step(context: Context, number: int, key: str, subject: str = "", body: str = "") -> str:
    """Take one step. subject, body: the message as a person looked it over. Returns what was done."""
    case = _case(context, number)
    step = next((one for one in steps(context, number) if one.key == key), None)
    if step is None:
        raise Conflict("this step does not help with this parcel any more; look at it again")
    message = {"ask": _do_ask, "tell": _do_tell, "again": _do_again, "refund": _do_refund}[key](
        context, case, step, subject.strip() or step.subject, body.strip() or step.body
    )
    context.log(f"parcel.{key}", case.parcel.number, message, reason=WORDS.get(case.trouble, ""))
    return message


def _do_ask(context: Context, case: _Case, step: ParcelStep, subject: str, body: str) -> str:
    order = case.orders[0]
    nth = context.session.scalar(select(func.count()).select_from(Message).where(Message.order_id == order.id, Message.kind == "ask")) or 0
    about = f"{case.parcel.number}#{nth + 1}"
    row = Message(order_id=order.id, kind="ask", about=about, to=step.to, subject=subject, body=body, at=context.now, state=MESSAGE.first)
    context.session.add(row)
    context.session.flush()
    key, whose = f"ask-{order.id}-{about}", case.supplier.id
    if step.to and queue.mail(context, key, f"mail:{row.id}", step.to, subject, body, row.id, supplier=whose):
        row.state = MESSAGE.step(row.state, "mail")
        return f"{case.supplier.name} asked where {case.parcel.number} is"
    return f"{case.supplier.name} to be asked by hand where {case.parcel.number} is"


def _do_tell(context: Context, case: _Case, step: ParcelStep, subject: str, body: str) -> str:
    mails = 0
    for order in case.orders:
        store = context.get(Store, order.store_id, "store")
        more = {"carrier": case.carrier.name, "tracking": case.parcel.number}
        mine = (subject, body) if order is case.orders[0] else written(context, "late", order, _of(case, order), more)
        mails += write_mail(context, "late", order, store, _of(case, order), case.parcel.number, more, mine)
    if not mails:
        raise Conflict("the buyer was told of this parcel already, or there is no mailbox; nothing was sent twice")
    return f"{case.orders[0].buyer} told that {case.parcel.number} takes longer"


def _do_again(context: Context, case: _Case, step: ParcelStep, subject: str, body: str) -> str:
    lines = [line for line in case.lines if line.state in ORDER_LINE.sources("again")]
    send_again(context, lines, f"{case.parcel.number}: {WORDS[case.trouble]}; sent again")
    return f"order {case.orders[0].number}: {len(lines)} line{'' if len(lines) == 1 else 's'} to be sent again"


def send_again(context: Context, lines: Sequence[OrderLine], why: str) -> None:
    """Lines are planned and bought anew; the first purchase stays paid for. Each can be sent again, or the act is refused."""
    _unbind(context, lines)
    by_hand(context, by_id(context.session, Order, (line.order_id for line in lines)).values())
    for line in lines:
        step_line(line, "again", why)
        line.lane_id, line.chosen_by = None, "plan"
    context.session.flush()
    context.reroute()


def _unbind(context: Context, lines: Sequence[OrderLine]) -> None:
    rows = context.session.scalars(
        select(PurchaseLine).where(PurchaseLine.order_line_id.in_([line.id for line in lines]), PurchaseLine.live)
    )
    for row in rows:
        row.live = False


def _do_refund(context: Context, case: _Case, step: ParcelStep, subject: str, body: str) -> str:
    lines = [line for line in case.lines if line.state in ORDER_LINE.sources("refund")]
    refund_lines(context, lines, case.parcel.number, f"{case.parcel.number}: {WORDS[case.trouble]}; refunded")
    return f"order {case.orders[0].number}: {len(lines)} line{'' if len(lines) == 1 else 's'} refunded"


def refund_lines(context: Context, lines: Sequence[OrderLine], about: str, why: str) -> None:
    """What is left of lines is paid back to their buyers, through the store where it can be told; about: what the refund is for, once by
    it. Lines that were sent end with that."""
    _pay_back(context, [(line, line.left) for line in lines], about)
    for line in lines:
        step_line(line, "refund", why)
    order_profit.refresh(context, {line.order_id for line in lines})


def refund_part(context: Context, line: OrderLine, amount: int, about: str) -> None:
    """A buyer who keeps what they have gets a part of its money back (minor units of the order's money); about: once by it."""
    if not 0 < amount < line.left:
        order = context.get(Order, line.order_id, "order")
        least, most = show(1, order.currency), show(max(line.left - 1, 0), order.currency)
        raise Invalid("that is no part of what is left of it", {"amount": f"must be {least} to {most}; all of it is a refund"})
    if line.state not in ORDER_LINE.sources("refund"):
        raise Conflict("the line is settled already")
    _pay_back(context, [(line, amount)], about)
    _paid_part(context, line, amount)
    order_profit.refresh(context, {line.order_id})


def _paid_part(context: Context, line: OrderLine, amount: int) -> None:
    """What the store leaves us of a line is less by what was paid back, wherever it is shown."""
    before = order_profit.net_refund(line)
    line.refunded, line.refunded_at = line.refunded + amount, context.now
    line.net_revenue -= order_profit.net_refund(line) - before
    line.version += 1


def paid_back_by_store(context: Context, line: OrderLine, amount: int, why: str) -> bool:
    """A store gave a buyer money back by itself: it is in the books as any other, and the store is not told. False where the line is
    settled already, so that a person has to look."""
    if line.state not in ORDER_LINE.sources("refund") or amount <= 0:
        return False
    if amount >= line.left:
        step_line(line, "refund", why)
    else:
        _paid_part(context, line, amount)
    order_profit.refresh(context, {line.order_id})
    return True


def _pay_back(context: Context, amounts: Sequence[tuple[OrderLine, int]], about: str) -> None:
    """Have the stores pay so much of each line back, once by what it is for."""
    orders = by_id(context.session, Order, (line.order_id for line, _ in amounts))
    parts = [
        Part(line.id, f"{orders[line.order_id].number}, {line.title or line.sku_code}", amount, orders[line.order_id].currency)
        for line, amount in amounts
    ]
    count(context, Limit.REFUND, f"refund order {' and '.join(one.number for one in orders.values())}", parts)
    for order in orders.values():
        mine = [(line, amount) for line, amount in amounts if line.order_id == order.id and amount]
        if order.channel == "link" and mine:
            key = f"refund-{order.store_id}-{order.number}-{about}"
            refund = RefundPayload(
                order=order.number, lines=tuple((line.line_no, line.quantity) for line, _ in mine),
                amounts=tuple(amount for _, amount in mine), currency=order.currency, reference=key,
            )  # fmt: skip
            queue.put(context, f"store:{order.store_id}", f"order:{order.id}", key, refund)


def tell_late(context: Context) -> int:
    """Buyers of late parcels are told by themselves, where that mail is switched on. Returns how many were."""
    mails = 0
    for one in troubled(context):
        if one.trouble != "late" or one.asked is not None:
            continue
        case = _case(context, one.parcel.id)
        more = {"carrier": case.carrier.name, "tracking": case.parcel.number}
        for order in case.orders:
            store = context.get(Store, order.store_id, "store")
            mails += write_mail(context, "late", order, store, _of(case, order), case.parcel.number, more)
    return mails


def waits(context: Context, one: Troubled) -> bool:
    """Whether a troubled parcel needs somebody now: nobody was asked or told about it lately."""
    return one.asked is None or context.now - one.asked > ANSWER_IN


def by_parcel(context: Context) -> dict[int, Troubled]:
    return {one.parcel.id: one for one in troubled(context)}


__all__ = ["WORDS", "ParcelStep", "Troubled", "by_parcel", "steps", "take_step", "tell_late", "trouble_of", "troubled", "waits"]
