"""Sheets of money: what stores paid out, what suppliers billed, fixed costs."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import date

from sqlalchemy import select

from ...connectors.protocols import SettlementLine
from ...core.currency import parse_money
from ...data.books import Overhead, Settlement, SettlementRow, StatementRow
from ...data.setup import Store, Supplier
from ..base.context import Context
from ..base.import_frame import Checked, KnownNames, Row, each, moment, need
from ..books import overheads, settlements, statements
from ..books.statements import StatementLine

SETTLED = ("sale", "shipping", "discount", "tax", "fee", "payment_fee", "refund", "fee_back", "adjustment", "payout")
BILLED = ("goods", "shipping", "handling", "tax", "refund", "rebate")


class _Again:
    """Tells rows that say the very same apart by how often they came before in this sheet, so that bringing it in twice changes nothing."""

    def __init__(self) -> None:
        self.seen: dict[str, int] = {}

    def mark(self, text: str) -> str:
        n = self.seen[text] = self.seen.get(text, 0) + 1
        return text if n == 1 else f"{text} ({n})"


def _kind(row: Row, kinds: tuple[str, ...]) -> str:
    kind = need(row, "kind").lower().replace(" ", "_")
    if kind not in kinds:
        raise ValueError(f"kind: {row['kind']!r} is none of {', '.join(kinds)}")
    return kind


def check_settlements(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out, again = KnownNames(context), Checked(), _Again()
    known = {
        (store, number, line)
        for store, number, line in context.session.execute(
            select(Settlement.store_id, Settlement.number, SettlementRow.line).join(
                SettlementRow, SettlementRow.settlement_id == Settlement.id
            )
        )
    }
    paid = set(context.session.execute(select(Settlement.store_id, Settlement.number).where(Settlement.paid.is_not(None))).tuples())

    def read(row: Row) -> None:
        store, number, kind = names.store(row), need(row, "settlement"), _kind(row, SETTLED)
        currency = need(row, "currency").upper()
        if currency != store.currency:
            raise ValueError(f"currency: {currency} is not the store's, {store.currency}")
        amount = parse_money(need(row, "amount"), currency, "amount")
        order = (row.get("order_no") or "").strip()
        if kind not in ("payout", "adjustment") and not order:
            raise ValueError("order_no is empty")
        at = moment(context, need(row, "at"), "at")
        line = again.mark(f"{order} {kind} {amount} {at:%Y-%m-%dT%H:%M}")
        there = (store.id, number) in paid if kind == "payout" else (store.id, number, line) in known
        given = SettlementLine(number, line, order, kind, amount, at)
        out.add(
            "same" if there else "new", (store.id, None if there else given), f"{number}: {kind.replace('_', ' ')} of {order or store.name}"
        )

    each(rows, progress, out, read)
    return out


def take_settlements(context: Context, checked: Checked) -> int:
    by_store: dict[int, list[SettlementLine]] = {}
    for store, line in checked.good:
        if line is not None:
            by_store.setdefault(store, []).append(line)
    return sum(settlements.take(context, context.get(Store, store, "store"), lines) for store, lines in by_store.items())


def check_statements(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out, again = KnownNames(context), Checked(), _Again()
    known = set(
        context.session.execute(select(StatementRow.supplier_id, StatementRow.reference, StatementRow.kind, StatementRow.line)).tuples()
    )

    def read(row: Row) -> None:
        supplier, reference, kind = names.supplier(row), need(row, "purchase_order"), _kind(row, BILLED)
        currency = need(row, "currency").upper()
        amount = parse_money(need(row, "amount"), currency, "amount")
        if amount < 0 and kind not in ("refund", "rebate"):
            raise ValueError("amount is negative; what the supplier gives back is of the kind refund or rebate")
        at = moment(context, need(row, "at"), "at")
        line = again.mark(f"{reference} {kind} {amount} {at:%Y-%m-%dT%H:%M}")
        there = (supplier.id, reference, kind, line) in known
        given = StatementLine(reference, kind, amount, currency, at, line)
        out.add("same" if there else "new", (supplier.id, None if there else given), f"{reference}: {kind}")

    each(rows, progress, out, read)
    return out


def take_statements(context: Context, checked: Checked) -> int:
    by_supplier: dict[int, list[StatementLine]] = {}
    for supplier, line in checked.good:
        if line is not None:
            by_supplier.setdefault(supplier, []).append(line)
    return sum(statements.take(context, context.get(Supplier, number, "supplier"), lines) for number, lines in by_supplier.items())


def check_overheads(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = KnownNames(context), Checked()
    known = {row.name: row for row in context.session.scalars(select(Overhead))}

    def month(row: Row, name: str) -> date | None:
        text = (row.get(name) or "").strip()
        try:
            return date.fromisoformat(f"{text}-01" if len(text) == 7 else text).replace(day=1) if text else None
        except ValueError:
            raise ValueError(f"{name}: {text!r} is not a month such as 2026-03") from None

    def read(row: Row) -> None:
        name, currency = need(row, "name"), need(row, "currency").upper()
        amount = parse_money(need(row, "amount"), currency, "amount")
        first = month(row, "first")
        if first is None:
            raise ValueError("first is empty")
        if amount <= 0:
            raise ValueError("amount must be more than 0")
        store = names.store(row).id if row.get("store") else None
        terms = overheads.OverheadTerms(name, amount, currency, first, month(row, "last"), store)
        had = known.get(name)
        same = had is not None and (had.amount, had.currency, had.first, had.last, had.store_id) == (
            amount,
            currency,
            first,
            terms.last,
            store,
        )
        out.add(
            "same" if same else "new" if had is None else "changed",
            (None if same else terms, had.id if had else None),
            f"{name} from {first:%Y-%m}",
        )

    each(rows, progress, out, read)
    return out


def take_overheads(context: Context, checked: Checked) -> int:
    fresh = [(terms, number) for terms, number in checked.good if terms is not None]
    for terms, number in fresh:
        overheads.save(context, terms, number)
    return len(fresh)
