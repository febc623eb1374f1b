"""What suppliers really billed: statements held against what was ordered, and what is missing, double or higher."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import ColumnElement, func, or_, select, update

from ...core.books import Basis, Kind, allocate
from ...core.currency import parse_money, show
from ...core.states import PURCHASE_LIVE, PurchaseState
from ...data.base import by_index, to_ms
from ...data.books import StatementRow
from ...data.bulk import by_id, in_chunks
from ...data.orders import Order, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import Supplier
from ...sheets import ubl, ubl_invoice
from ..base import house_days, journal_marks, undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue
from .posting import Ledgers
from .targets import About, Part

CHARGES = ("goods", "shipping", "handling", "tax")
# A purchase that stands in no statement this long after the newest one of its supplier reaches it is missing there.
MISSING_AFTER = timedelta(days=35)
LOOK_BACK = timedelta(days=92)
# Differences of a few pence in a hundred are rounding, not worth a word; in ppm of what was ordered, and minor units.
SMALL_PPM, SMALL = 2000, 5


@dataclass(frozen=True)
class StatementLine:
    """One row of a statement. line: tells rows of one purchase and kind apart, the same whenever it is told again."""

    reference: str
    kind: str
    amount: int
    currency: str
    at: datetime
    line: str = ""


def take(context: Context, supplier: Supplier, lines: Iterable[StatementLine]) -> int:
    """Take rows of a supplier's statement; those that are known change nothing. Returns how many were new."""
    rows = list(lines)
    s = context.session
    known: set[tuple[str, str, str]] = set()
    purchases: dict[str, PurchaseOrder] = {}
    for chunk in in_chunks({one.reference for one in rows}):
        mine = StatementRow.supplier_id == supplier.id, StatementRow.reference.in_(chunk)
        known |= {
            (ref, kind, line)
            for ref, kind, line in s.execute(select(StatementRow.reference, StatementRow.kind, StatementRow.line).where(*mine))
        }
        found = select(PurchaseOrder).where(
            PurchaseOrder.supplier_id == supplier.id, or_(PurchaseOrder.reference.in_(chunk), PurchaseOrder.their_number.in_(chunk))
        )
        for one in s.scalars(found):
            purchases[one.reference] = purchases[one.their_number or one.reference] = one
    n, orders, fresh = 0, set[int](), list[StatementLine]()
    for row in rows:
        if (row.reference, row.kind, row.line) in known:
            continue
        known.add((row.reference, row.kind, row.line))
        fresh.append(row)
        purchase = purchases.get(row.reference)
        if purchase is not None and purchase.currency != row.currency:
            # Its money is another one: it is shown, and in no sum until somebody has asked.
            purchase = None
        s.add(
            StatementRow(
                supplier_id=supplier.id,
                reference=row.reference,
                line=row.line,
                purchase_id=purchase.id if purchase else None,
                kind=row.kind,
                amount=abs(row.amount),
                currency=row.currency,
                at=row.at,
                read_at=context.now,
            )
        )
        n += 1
        if purchase is not None:
            orders.add(purchase.order_id)
    s.flush()
    _find_in_order(context, supplier, {row.reference for row in fresh})
    journal_marks.mark(s, orders)
    _book(context, supplier, [row for row in fresh if row.kind in ("rebate", "refund") and row.reference not in purchases])
    if n:
        context.log("statement.read", supplier.code, f"{n} row{'' if n == 1 else 's'} of {supplier.name}'s statement read", count=n)
    return n


def _find_in_order(context: Context, supplier: Supplier, references: set[str]) -> None:
    """What is billed as it was ordered asks nobody; and a rebate never does."""
    s = context.session
    fine = {one.reference for one in _odd_of(context, supplier.id, supplier.name, references) if not one.what}
    for chunk in in_chunks(references):
        mine = StatementRow.supplier_id == supplier.id, StatementRow.reference.in_(chunk), StatementRow.accepted_at.is_(None)
        good = StatementRow.reference.in_([one for one in chunk if one in fine]) | StatementRow.kind.not_in(CHARGES)
        s.execute(update(StatementRow).where(*mine, good).values(accepted_at=context.now))


def _book(context: Context, supplier: Supplier, given: Iterable[StatementLine]) -> None:
    """What a supplier gives without an order, such as a yearly rebate, is a gain of its own."""
    out = Ledgers(context)
    for one in given:
        rate, at = out.rates.of(one.currency), to_ms(one.at)
        amount = abs(one.amount)
        part = Part(amount, out.rates.turn(amount, one.currency, rate), rate, one.currency, at, 0, supplier.id)
        event = out.event("statement", one.reference, supplier.name)
        out.entry(
            event, Kind.rebate if one.kind == "rebate" else Kind.claim, Basis.statement, part, out.days.of(at), About(0, 0, "", None, "")
        )
    out.write()


def read_invoice(data: bytes) -> ubl_invoice.Charged:
    """What a UBL invoice charges; looks nothing up, so that it needs no transaction. Invalid says why it is none."""
    try:
        return ubl_invoice.read_invoice(data)
    except ubl.NotADocument as error:
        raise Invalid(str(error)) from error


def take_invoice(context: Context, given: ubl_invoice.Charged) -> str:
    """Take a supplier's invoice: whose it is, the orders say that it names. Returns what was done."""
    names = list(given.goods)
    purchases = PurchaseOrder.reference.in_(names) | PurchaseOrder.their_number.in_(names)
    owners = set(context.session.scalars(select(PurchaseOrder.supplier_id).where(purchases)))
    if len(owners) != 1:
        raise Invalid(
            "it names orders of several suppliers" if owners else f"none of the orders that it names is here: {', '.join(names[:3])}"
        )
    supplier = context.get(Supplier, owners.pop(), "supplier")
    at = house_days.begin(context, given.issued)
    try:
        goods = [parse_money(str(amount), given.currency, "amount") for amount in given.goods.values()]
        rest = {name: parse_money(str(getattr(given, name)), given.currency, name) for name in ("shipping", "handling", "tax")}
    except ValueError as error:
        raise Invalid(str(error)) from error
    shares = {name: allocate(amount, [max(one, 0) for one in goods]) for name, amount in rest.items()}
    if min(goods) < 0:
        raise Invalid("an allowance is larger than the goods that it is for; bring it in as a refund in a statement")
    lines = []
    for n, (reference, amount) in enumerate(zip(names, goods, strict=True)):
        for kind, part in (("goods", amount), *((name, parts[n]) for name, parts in shares.items())):
            if part:
                lines.append(StatementLine(reference, kind, part, given.currency, at, f"invoice {given.number}"))
    taken = take(context, supplier, lines)
    total = show(sum(goods) + sum(rest.values()), given.currency)
    return f"Invoice {given.number} of {supplier.name} over {total} " + ("taken" if taken else "was taken before; nothing changed")


@dataclass(frozen=True)
class Odd:
    """What is odd about a statement. what: higher, lower, double, unknown, not_bought, missing. more: how much more than ordered it asks
    (of missing ones: what was planned), minor units of the supplier's money."""

    supplier: int
    supplier_name: str
    what: str
    reference: str
    purchase: int | None
    planned: int
    charged: int
    currency: str
    since: datetime
    claimed: bool

    @property
    def more(self) -> int:
        return self.charged - self.planned


def odd(context: Context) -> list[Odd]:
    """All that is odd and that nobody has accepted yet, dearest first."""
    s = context.session
    names = dict(s.execute(select(Supplier.id, Supplier.name)).tuples().all())
    waiting = select(StatementRow.supplier_id, StatementRow.reference).where(StatementRow.accepted_at.is_(None)).distinct()
    by_supplier: dict[int, list[str]] = {}
    for supplier, reference in s.execute(by_index(waiting, StatementRow, "ix_statement_row_open")):
        by_supplier.setdefault(supplier, []).append(reference)
    out = [one for supplier, refs in by_supplier.items() for one in _odd_of(context, supplier, names[supplier], refs) if one.what]
    return sorted([*out, *_missing(context, names)], key=lambda one: -abs(one.more))


def _odd_of(context: Context, supplier: int, name: str, references: Iterable[str]) -> list[Odd]:
    """What all rows of these references come to beside what was ordered; `what` is empty where nothing is odd."""
    r = StatementRow
    out = []
    for chunk in in_chunks(set(references)):
        rows = context.session.execute(
            select(
                r.reference, func.max(r.purchase_id), func.sum(r.amount), func.count(), func.count(r.kind.distinct()), func.max(r.currency),
                func.min(r.at), func.count(r.claimed_at),
            )
            .where(r.supplier_id == supplier, r.reference.in_(chunk), r.kind.in_(CHARGES))
            .group_by(r.reference)
        ).all()  # fmt: skip
        purchases = by_id(context.session, PurchaseOrder, (row[1] or 0 for row in rows))
        for reference, number, total, count, kinds, currency, since, claimed in rows:
            purchase = purchases.get(number or 0)
            planned = _planned(purchase) if purchase else 0
            what = _what(purchase, planned, int(total), int(count) > int(kinds))
            out.append(Odd(supplier, name, what, reference, number, planned, int(total), currency, since, bool(claimed)))
    return out


def _planned(purchase: PurchaseOrder) -> int:
    """What a statement may ask: as the supplier billed it at once, which was looked at then, else as it was ordered."""
    return purchase.goods + purchase.shipping + purchase.handling if purchase.billed is None else purchase.billed


def _what(purchase: PurchaseOrder | None, planned: int, total: int, again: bool) -> str:
    if purchase is None:
        return "unknown"
    if purchase.state not in PURCHASE_LIVE:
        return "not_bought"
    more = total - planned
    if abs(more) <= max(SMALL, planned * SMALL_PPM // 1_000_000):
        return ""
    return "double" if again and more >= planned // 2 else "higher" if more > 0 else "lower"


def _missing(context: Context, names: dict[int, str]) -> list[Odd]:
    """Purchases in no statement, of suppliers who send statements, long after they were sent; looked up once an hour."""
    rows = context.kept("books missing", _not_stated, minutes=60, still=True)
    return [Odd(supplier, names[supplier], "missing", ref, number, 0, 0, money, at, False) for supplier, ref, number, money, at in rows]


def _not_stated(context: Context) -> list[tuple[int, str, int, str, datetime]]:
    s = context.session
    out: list[tuple[int, str, int, str, datetime]] = []
    spans = select(StatementRow.supplier_id, func.min(StatementRow.purchase_id), func.max(StatementRow.at)).where(
        StatementRow.at >= context.now - LOOK_BACK, StatementRow.purchase_id.is_not(None)
    )
    for supplier, first, newest in s.execute(spans.group_by(StatementRow.supplier_id)).all():
        have: ColumnElement[bool] = select(StatementRow.id).where(StatementRow.purchase_id == PurchaseOrder.id).exists()
        rows = (
            select(PurchaseOrder.supplier_id, PurchaseOrder.reference, PurchaseOrder.id, PurchaseOrder.currency, PurchaseOrder.made_at)
            .join(Order, Order.id == PurchaseOrder.order_id)
            .where(PurchaseOrder.id > int(first or 0), PurchaseOrder.supplier_id == supplier, PurchaseOrder.state == PurchaseState.shipped)
            .where(PurchaseOrder.made_at < newest - MISSING_AFTER, ~have, Order.channel != "past")
            .limit(200)
        )
        out += s.execute(rows).tuples().all()
    return out


def _rows(context: Context, supplier: int, reference: str) -> list[StatementRow]:
    rows = context.session.scalars(
        select(StatementRow).where(StatementRow.supplier_id == supplier, StatementRow.reference == reference)
    ).all()
    if not rows:
        raise Conflict("this stands in no statement any more")
    return list(rows)


def accept(context: Context, supplier: int, reference: str) -> None:
    """A person takes what a statement says of a purchase as it is."""
    rows = [row for row in _rows(context, supplier, reference) if row.accepted_at is None]
    if not rows:
        raise Conflict("it was accepted already")
    for row in rows:
        row.accepted_at = context.now
    context.log(
        "statement.accept", reference, f"what is billed for {reference} accepted", after={"rows": [row.id for row in rows]}, undo=True
    )


@undoing.undoes("statement.accept")
def undo_accept(context: Context, act: AuditEntry) -> None:
    for row in by_id(context.session, StatementRow, undoing.after(act)["rows"]).values():
        row.accepted_at = None


def claim(context: Context, supplier: int, reference: str) -> str:
    """Ask the supplier by mail for what it billed too much; it stays open until a refund stands in a statement, or it is accepted."""
    one = next((one for one in odd(context) if one.supplier == supplier and one.reference == reference and one.what != "missing"), None)
    if one is None or one.more <= 0:
        raise Conflict("nothing is billed too much there any more")
    if one.claimed:
        raise Conflict("the supplier was asked for it already")
    row = context.get(Supplier, supplier, "supplier")
    if "@" not in row.mail:
        raise Conflict(f"{row.name} has no mail address; add it under Set-up, or write to them yourself")
    amount = show(one.more, one.currency)
    text = (
        f"Your statement asks {show(one.charged, one.currency)} for {reference}; "
        f"{'we know of no such order' if one.what == 'unknown' else f'we ordered it for {show(one.planned, one.currency)}'}.\n"
        f"Please give the difference of {amount} back with your next statement, or write to us what it is for.\n"
    )
    key = f"statement-{supplier}-{reference}"
    if queue.is_there(context, key):
        raise Conflict("the supplier was asked for it already")
    sent = queue.mail(context, key, key, row.mail, f"Billed too much for {reference}: {amount}", text, supplier=supplier)
    if not sent:
        raise Conflict("no mailbox is connected that could ask; connect one under Set-up, or write to them yourself")
    for each in _rows(context, supplier, reference):
        each.claimed_at = context.now
    context.log("statement.claim", reference, f"{row.name} asked for {amount} billed too much for {reference}")
    return f"{row.name} is asked for {amount}"
