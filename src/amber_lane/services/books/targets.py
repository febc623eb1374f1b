"""What the journal has to say of orders, worked out of the orders, purchases, statements and settlements as they stand.

`posting` holds it against what the journal says already and writes the difference. So whatever happens to an order, by whatever way,
ends in the journal, and nothing is there twice.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, NamedTuple

from sqlalchemy import BigInteger, Select, func, select, type_coerce
from sqlalchemy.orm import Session

from ...connectors.kinds import DEPOTS
from ...core.books import COSTS, Basis, Kind, Ledger, allocate, goes_back
from ...core.numbers import PPM, half_up
from ...core.states import PURCHASE_LIVE, WAITING_LINES, OrderLineState
from ...data.base import Row
from ...data.books import Settlement, SettlementRow, StatementRow
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.returns import GoodsReturn
from ...data.setup import Service, Supplier
from ...data.shelf import Sku
from ...data.statements import among
from ...data.transit import Parcel, ParcelLine
from ..base.context import Context
from ..claims.cases import came_back_for
from ..orders.order_profit import rate_between, turn
from ..pricing.exchange_rates import HomeWorth
from ..pricing.inputs import NANO

# What a store's settlement calls a thing -> what it is in the journal, and why it is otherwise than planned.
SETTLED: dict[str, tuple[Kind, Basis]] = {
    "sale": (Kind.sale, Basis.statement),
    "shipping": (Kind.shipping_paid, Basis.statement),
    "discount": (Kind.discount, Basis.statement),
    "tax": (Kind.tax, Basis.statement),
    "fee": (Kind.store_fee, Basis.fee),
    "payment_fee": (Kind.payment_fee, Basis.fee),
    "refund": (Kind.refund, Basis.refund),
    "fee_back": (Kind.fee_back, Basis.fee),
    "adjustment": (Kind.correction, Basis.statement),
}
BILLED: dict[str, Kind] = {
    "goods": Kind.goods,
    "shipping": Kind.shipping,
    "handling": Kind.handling,
    "tax": Kind.supplier_tax,
}


class Key(NamedTuple):
    """One figure of an order in the journal. purchase: 0 for what buyer and store pay; item tells the parts of a purchase apart."""

    line: int
    purchase: int
    item: int
    kind: Kind
    basis: Basis


@dataclass(frozen=True, slots=True)
class Part:
    """What one figure comes to. at: when that happened, ms. home and rate are None where nobody knows a rate."""

    amount: int
    home: int | None
    rate: int | None
    currency: str
    at: int
    units: int = 0
    supplier: int | None = None
    item: int | None = None
    against: Ledger | None = None


class Bought(NamedTuple):
    """When an order line was bought, and from whom most of it."""

    at: int
    supplier: int
    item: int


@dataclass(frozen=True, slots=True)
class About:
    """What is the same of all entries of an order line."""

    order: int
    store: int
    country: str
    sku: int | None
    category: str


class Rates:
    """Rates to the house's money, as they are now; those that an order's or a purchase's entries have already are kept for it."""

    def __init__(self, context: Context) -> None:
        self.worth = HomeWorth(context)
        self.home = self.worth.home
        self.found: dict[str, int | None] = {}

    def of(self, currency: str) -> int | None:
        if currency not in self.found:
            self.found[currency] = rate_between(self.worth, currency, self.home)
        return self.found[currency]

    def turn(self, amount: int, currency: str, rate: int | None) -> int | None:
        return None if rate is None else amount if currency == self.home else turn(amount, rate, currency, self.home)


@dataclass
class Targets:
    """parts by order and figure; about: by order line."""

    parts: dict[int, dict[Key, Part]]
    about: dict[int, About]


@dataclass(frozen=True)
class Before:
    """What the journal says already. sold: lines that it has as sold; rates: by ("order", number), ("purchase", number), ("paid", number).

    past: it is written for what happened long ago, so a refund counts on the day that its parcel ended.
    """

    sold: Collection[int]
    rates: Mapping[tuple[str, int], int]
    past: bool = False


def of_orders(context: Context, orders: Collection[int], before: Before, now: int, rates: Rates) -> Targets:
    """What the journal has to say of these orders (as many as fit one question)."""
    return _Reader(context, orders, before, now, rates).read()


class _Reader:
    def __init__(self, context: Context, orders: Collection[int], before: Before, now: int, rates: Rates) -> None:
        self.s, self.now, self.rates, self.kept, self.sold = context.session, now, rates, before.rates, set(before.sold)
        self.past, self.ended = before.past, dict[int, int]()
        # Weight bands by origin and service; read only where a bill asks something else for sending.
        self.bands: dict[tuple[int, str], list[tuple[int, int, int]]] | None = None
        self.numbers = list(orders)
        self.out = Targets({number: {} for number in self.numbers}, {})

    def read(self) -> Targets:
        heads = {row.id: row for row in self._rows(Order, "id", ("id", "store_id", "currency", "country", "came_at"))}
        lines = self.s.execute(_lines(), {"numbers": self.numbers}).all()
        bought = self._costs()
        if self.past:
            self._read_ended()
        self.labels = _labels(self.s, self.numbers)
        settled = _settled(self.s, self.numbers)
        by_order: dict[int, list[Any]] = {}
        for line in lines:
            head = heads[line.order_id]
            self.out.about[line.id] = About(line.order_id, head.store_id, head.country, line.sku_id, line.category or "")
            by_order.setdefault(line.order_id, []).append(line)
        for number, mine in by_order.items():
            head = heads[number]
            rate = self.kept.get(("order", number), self.rates.of(head.currency))
            for line in mine:
                self._line(line, head, rate, bought.get(line.id))
            # What is not bought yet is no sale yet, whatever the store paid out for it.
            if number in settled and not any(line.state in WAITING_LINES for line in mine):
                self._settle(number, mine, settled[number], head.currency, rate)
        return self.out

    def _rows(self, table: type[Row], by: str, names: tuple[str, ...]) -> Sequence[Any]:
        return self.s.execute(_fields(table, by, names), {"numbers": self.numbers}).all()

    def _line(self, line: Any, head: Any, rate: int | None, bought: Bought | None) -> None:  # noqa: ANN401 - rows of the query above
        """What the buyer paid, and what of it is ours once it is bought."""
        total = line.total
        parts = self.out.parts[line.order_id]

        def put(kind: Kind, amount: int, at: int, basis: Basis = Basis.planned, units: int = 0, against: Ledger | None = None) -> None:
            if amount or units:
                home = self.rates.turn(amount, head.currency, rate)
                parts[Key(line.id, 0, 0, kind, basis)] = Part(amount, home, rate, head.currency, at, units, *whose, against)

        whose: tuple[int | None, int | None] = (bought.supplier, bought.item) if bought else (None, None)
        cancelled = line.state == OrderLineState.cancelled
        is_sold = line.state not in WAITING_LINES and (not cancelled or line.id in self.sold or bought is not None)
        if is_sold or not cancelled:
            put(Kind.prepaid, total, head.came_at)
        if not is_sold:
            return
        at = bought.at if bought else self.now
        taxed = Ledger.store if line.tax_by == "store" else None
        put(Kind.sale, line.paid, at, units=line.quantity)
        put(Kind.shipping_paid, line.shipping_paid, at)
        put(Kind.discount, -line.discount, at)
        put(Kind.tax, -line.tax, at, against=taxed)
        put(Kind.store_fee, -line.store_fee, at)
        put(Kind.payment_fee, -line.payment_fee, at)
        for amount, currency, sent_at in self.labels.get(line.id, ()):
            # What a carrier asks for the way back, in its own money at the day's rate.
            own = self.kept.get(("label", line.id), self.rates.of(currency))
            parts[Key(line.id, 0, 0, Kind.return_cost, Basis.planned)] = Part(
                -amount, self.rates.turn(-amount, currency, own), own, currency, sent_at, 0, *whose
            )
        refund = total if cancelled else line.refunded
        if refund or cancelled:
            back = self.ended.get(line.order_id, self.now) if cancelled else line.refunded_at or self.now
            put(Kind.refund, -refund, back, Basis.refund)
            put(Kind.tax, goes_back(refund, total, line.tax), back, Basis.refund, against=taxed)
            put(Kind.fee_back, goes_back(refund, total, line.store_fee + line.payment_fee), back, Basis.refund)

    def _read_ended(self) -> None:
        """When the last parcel of each order ended."""
        rows = (
            select(PurchaseOrder.order_id, func.max(type_coerce(Parcel.ended_at, BigInteger)))
            .join(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
            .join(Parcel, Parcel.id == ParcelLine.parcel_id)
            .where(PurchaseOrder.order_id.in_(self.numbers), Parcel.ended_at.is_not(None))
            .group_by(PurchaseOrder.order_id)
        )
        self.ended = {order: int(at) for order, at in self.s.execute(rows)}

    def _costs(self) -> dict[int, Bought]:
        """The costs of purchases that stand. Returns when each order line was bought first, and from whom."""
        names = ("id", "order_id", "supplier_id", "currency", "goods", "shipping", "handling", "billed", "state", "made_at", "answered_at",
                 "paid_at", "origin_id", "service")  # fmt: skip
        purchases = [one for one in self._rows(PurchaseOrder, "order_id", names) if one.state in PURCHASE_LIVE]
        rows: dict[int, list[Any]] = {}
        wanted = [one.id for one in purchases]
        for row in self.s.execute(_bought_lines(), {"purchases": wanted}):
            rows.setdefault(row.purchase_id, []).append(row)
        stated = _stated(self.s, wanted)
        self.claimed = came_back_for(self.s, wanted)
        taxes = {number: tax for number, tax in self.s.execute(_taxes()) if tax}
        self.depots = set(self.s.scalars(_depots()))
        first: dict[int, Bought] = {}
        dearest: dict[int, tuple[bool, int]] = {}
        for one in purchases:
            mine = rows.get(one.id, [])
            for row in mine:
                weight, had = (row.live, row.planned_cost), first.get(row.order_line_id)
                at = one.made_at if had is None else min(one.made_at, had.at)
                if had is None or weight > dearest[row.order_line_id]:
                    dearest[row.order_line_id] = weight
                    had = Bought(at, one.supplier_id, row.item_id)
                first[row.order_line_id] = had._replace(at=at)
            if mine:
                self._purchase(one, mine, taxes.get(one.supplier_id, 0), stated.get(one.id, {}))
        return first

    def _purchase(self, one: Any, rows: list[Any], tax: int, stated: dict[str, tuple[int, int]]) -> None:  # noqa: ANN401
        """What a purchase was planned to cost, and how a bill or a statement differs, shared out over what is in it."""
        rate = self.kept.get(("purchase", one.id), self.rates.of(one.currency))
        weights = [row.planned_cost for row in rows]
        of_tax = one.goods - half_up(one.goods * PPM, PPM + tax) if tax else 0
        planned = {
            Kind.goods: one.goods - of_tax,
            Kind.supplier_tax: of_tax,
            Kind.shipping: one.shipping,
            Kind.handling: one.handling,
        }
        parts = self.out.parts[one.order_id]

        def put(kind: Kind, basis: Basis, amount: int, home: int | None, at: int) -> None:
            """amount, home: what it costs us; the journal has costs with a minus."""
            if not amount and not home:
                return
            shares = allocate(-amount, weights)
            homes = [None] * len(rows) if home is None else allocate(-home, weights)
            for row, share, worth in zip(rows, shares, homes, strict=True):
                if share or worth:
                    key = Key(row.order_line_id, one.id, row.item_id, kind, basis)
                    parts[key] = Part(share, worth, rate, one.currency, at, 0, one.supplier_id, row.item_id)

        homes = {kind: self.rates.turn(amount, one.currency, rate) for kind, amount in planned.items()}
        if of_tax and rate is not None:
            # Goods and their tax were turned together, so together they are what that gives.
            whole = self.rates.turn(one.goods, one.currency, rate)
            homes[Kind.supplier_tax] = (whole or 0) - (homes[Kind.goods] or 0)
        for kind, amount in planned.items():
            put(kind, Basis.planned, amount, homes[kind], one.made_at)
        charged = {name: sums for name, sums in stated.items() if name in BILLED}
        if charged:
            at = max(at for _, at in charged.values())
            for kind, amount in planned.items():
                name = next(name for name, meant in BILLED.items() if meant is kind)
                # A depot asks nothing for goods that are ours.
                asked = amount if one.supplier_id in self.depots and name not in charged else charged.get(name, (0, 0))[0]
                more = asked - amount
                weighed = kind is Kind.shipping and more and self._is_other_band(one, asked, sum(row.quantity for row in rows))
                put(kind, Basis.weight if weighed else Basis.statement, more, self.rates.turn(more, one.currency, rate), at)
        elif one.billed is not None:
            whole = self.rates.turn(one.billed, one.currency, rate)
            more = None if whole is None else whole - sum(worth or 0 for worth in homes.values())
            put(Kind.goods, Basis.bill, one.billed - one.goods - one.shipping - one.handling, more, one.answered_at or self.now)
        back, at = self.claimed.get(one.id, (0, 0))
        put(Kind.claim, Basis.planned, -back, self.rates.turn(-back, one.currency, rate), at)
        for name, kind, known in (("rebate", Kind.rebate, 0), ("refund", Kind.claim, back)):
            if name in stated:
                # What a claim brought stands there already; a statement has the last word on how much it was.
                amount, at = stated[name][0] - known, stated[name][1]
                put(kind, Basis.statement, -amount, self.rates.turn(-amount, one.currency, rate), at)
        if one.paid_at is not None:
            self._paid(one, rows, rate)

    def _is_other_band(self, one: Any, asked: int, units: int) -> bool:  # noqa: ANN401
        """Whether what is asked for sending is what the same service costs at another weight."""
        if self.bands is None:
            rows = self.s.execute(select(Service.origin_id, Service.code, Service.weight_bands)).all()
            self.bands = {(origin, code): [] for origin, code, _ in rows}
            for origin, code, bands in rows:
                self.bands[origin, code].extend(tuple(band) for band in bands or [])
        return any(asked == first + more * (units - 1) for _, first, more in self.bands.get((one.origin_id, one.service), []))

    def _paid(self, one: Any, rows: list[Any], rate: int | None) -> None:  # noqa: ANN401
        """What went to the supplier; a rate that moved between buying and paying is a gain or a loss of its own."""
        mine = [part for key, part in self.out.parts[one.order_id].items() if key.purchase == one.id and key.kind in COSTS]
        amount = -sum(part.amount for part in mine)
        now = self.kept.get(("paid", one.id), self.rates.of(one.currency))
        paid = self.rates.turn(amount, one.currency, now)
        owed = None if rate is None else -sum(part.home or 0 for part in mine)
        row, parts = rows[0], self.out.parts[one.order_id]
        line = (row.order_line_id, one.id, row.item_id)
        parts[Key(*line, Kind.supplier_paid, Basis.planned)] = Part(
            amount, paid, now, one.currency, one.paid_at, 0, one.supplier_id, row.item_id
        )
        if paid is not None and owed is not None and paid != owed:
            key = Key(*line, Kind.rate_difference, Basis.rate)
            parts[key] = Part(owed - paid, owed - paid, NANO, self.rates.home, one.paid_at, 0, one.supplier_id, row.item_id)

    def _settle(self, order: int, lines: list[Any], rows: dict[str, tuple[int, int]], currency: str, rate: int | None) -> None:
        """What the store says of the order instead of what was expected; only of what it says something."""
        parts = self.out.parts[order]
        weights = [line.paid for line in lines]
        for name, (amount, at) in rows.items():
            if name not in SETTLED:
                continue
            kind, basis = SETTLED[name]
            expected = sum(part.amount for key, part in parts.items() if key.kind is kind)
            more = amount - expected
            if not more:
                continue
            home = self.rates.turn(more, currency, rate)
            shares = allocate(more, weights)
            homes = [None] * len(lines) if home is None else allocate(home, weights)
            for line, share, worth in zip(lines, shares, homes, strict=True):
                if not share and not worth:
                    continue
                # What the same cause said already, such as a refund of ours that the store pays otherwise, is one figure with it.
                key = Key(line.id, 0, 0, kind, basis)
                had, sale = parts.get(key), parts.get(Key(line.id, 0, 0, Kind.sale, Basis.planned))
                whose = (sale.supplier, sale.item) if sale else (None, None)
                fresh = Part(share, worth, rate, currency, at, 0, *whose, Ledger.store)
                parts[key] = fresh if had is None else replace(had, amount=had.amount + share, home=_plus(had.home, worth))


def _plus(one: int | None, other: int | None) -> int | None:
    return None if one is None or other is None else one + other


@cache
def _fields(table: type[Row], by: str, names: tuple[str, ...]) -> Select[*tuple[Any, ...]]:
    """Some columns of a table, moments in ms, of the rows with `numbers` in the column `by`."""
    fields = [type_coerce(getattr(table, name), BigInteger).label(name) if name.endswith("_at") else getattr(table, name) for name in names]
    return select(*fields).where(getattr(table, by).in_(among("numbers")))


@cache
def _lines() -> Select[*tuple[Any, ...]]:
    return (
        select(
            OrderLine.id, OrderLine.order_id, OrderLine.sku_id, OrderLine.quantity, OrderLine.paid, OrderLine.shipping_paid,
            OrderLine.discount, OrderLine.total, OrderLine.tax, OrderLine.tax_by, OrderLine.store_fee, OrderLine.payment_fee,
            OrderLine.state, OrderLine.refunded,
            type_coerce(OrderLine.refunded_at, BigInteger).label("refunded_at"), Sku.category,
        )
        .outerjoin(Sku, Sku.id == OrderLine.sku_id)
        .where(OrderLine.order_id.in_(among("numbers")))
        .order_by(OrderLine.id)
    )  # fmt: skip


@cache
def _bought_lines() -> Select[int, int, int, int, int, bool]:
    line = PurchaseLine
    fields = (line.purchase_id, line.order_line_id, line.item_id, line.quantity, line.planned_cost, line.live)
    # What was lost and bought again is paid all the same.
    return select(*fields).where(line.purchase_id.in_(among("purchases")), ~line.refused).order_by(line.id)


@cache
def _taxes() -> Select[int, int]:
    return select(Supplier.id, Supplier.tax)


@cache
def _depots() -> Select[int]:
    return select(Supplier.id).where(Supplier.kind.in_(DEPOTS))


@cache
def _used_labels() -> Select[int, int, str, int]:
    label = GoodsReturn
    used = (label.order_id.in_(among("orders")), label.label == "made", label.sent_at.is_not(None), label.label_cost > 0)
    fields = (label.order_line_id, label.label_cost, label.label_currency, type_coerce(label.sent_at, BigInteger))
    return select(*fields).where(*used).order_by(label.id)


@cache
def _settled_rows() -> Select[int | None, str, int, int]:
    row = SettlementRow
    return (
        select(row.order_id, row.kind, func.sum(row.amount), func.max(type_coerce(row.at, BigInteger)))
        .join(Settlement, Settlement.id == row.settlement_id)
        .where(row.order_id.in_(among("orders")))
        .group_by(row.order_id, row.kind)
    )


@cache
def _stated_rows() -> Select[int | None, str, int, int]:
    row = StatementRow
    sums = select(row.purchase_id, row.kind, func.sum(row.amount), func.max(type_coerce(row.at, BigInteger)))
    return sums.where(row.purchase_id.in_(among("purchases"))).group_by(row.purchase_id, row.kind)


def _labels(s: Session, orders: Collection[int]) -> dict[int, list[tuple[int, str, int]]]:
    """Labels that buyers sent something back with: order line -> (cost, currency, when), one for each line."""
    out: dict[int, list[tuple[int, str, int]]] = {}
    for line, cost, currency, at in s.execute(_used_labels(), {"orders": list(orders)}):
        before = [one for one in out.get(line, []) if one[1] == currency]
        out[line] = [(cost + sum(one[0] for one in before), currency, at)]
    return out


def _settled(s: Session, orders: Collection[int]) -> dict[int, dict[str, tuple[int, int]]]:
    """What settlements say of orders: order -> kind -> (amount, when)."""
    out: dict[int, dict[str, tuple[int, int]]] = {}
    for order, kind, amount, at in s.execute(_settled_rows(), {"orders": list(orders)}):
        out.setdefault(int(order or 0), {})[kind] = (int(amount), at)
    return out


def _stated(s: Session, purchases: Collection[int]) -> dict[int, dict[str, tuple[int, int]]]:
    """What statements say of purchases: purchase -> kind -> (amount, when)."""
    out: dict[int, dict[str, tuple[int, int]]] = {}
    for purchase, kind, amount, at in s.execute(_stated_rows(), {"purchases": list(purchases)}):
        out.setdefault(int(purchase or 0), {})[kind] = (int(amount), at)
    return out
