"""The journal: every movement of money, only ever added to. Beside it settlements, statements, fixed costs and closed months."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import CheckConstraint, Connection, ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from ..core.books import Basis, Kind, Ledger
from .base import Row, Versioned, part


def _one_of(column: str, values: type[Kind | Basis | Ledger]) -> CheckConstraint:
    return CheckConstraint(f"{column} in ({','.join(repr(one.value) for one in values)})", name=column)


class JournalEvent(Row):
    """What caused entries. source: order, purchase, bill, settlement, statement, refund, reversal, payment, overhead, sample.

    about: the number of the order, or the reference of what is of no order.
    """

    __tablename__ = "journal_event"
    source: Mapped[str]
    about: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime]
    who: Mapped[str] = mapped_column(default="")
    note: Mapped[str] = mapped_column(default="")


class JournalEntry(Row):
    """One movement: `amount` is added to `account` and taken from `against`, so whatever is written balances.

    amount in its own currency, home in the house's of that time, by `rate` (billionths); both None where nobody knew a rate, and then it is
    in no sum. day: the house's day it counts on; own_day: when it happened, where that month was closed already. units: of a sale.
    """

    __tablename__ = "journal_entry"
    __table_args__ = (
        Index("ix_journal_entry_order_id", "order_id", **part("order_id is not null")),
        Index("ix_journal_entry_day", "day"),
        Index("ix_journal_entry_no_rate", "id", **part("home is null")),
        _one_of("kind", Kind),
        _one_of("basis", Basis),
        _one_of("account", Ledger),
        CheckConstraint("account <> against", name="balances"),
        CheckConstraint("(home is null) = (rate is null)", name="rate"),
    )
    event_id: Mapped[int] = mapped_column(ForeignKey("journal_event.id"))
    kind: Mapped[str]
    basis: Mapped[str]
    account: Mapped[str]
    against: Mapped[str]
    order_id: Mapped[int | None] = mapped_column(ForeignKey("order.id"))
    order_line_id: Mapped[int | None] = mapped_column(ForeignKey("order_line.id"))
    purchase_id: Mapped[int | None] = mapped_column(ForeignKey("purchase_order.id"))
    parcel_id: Mapped[int | None] = mapped_column(ForeignKey("parcel.id"))
    claim_id: Mapped[int | None] = mapped_column(ForeignKey("claim.id"))
    store_id: Mapped[int | None] = mapped_column(ForeignKey("store.id"))
    supplier_id: Mapped[int | None] = mapped_column(ForeignKey("supplier.id"))
    sku_id: Mapped[int | None] = mapped_column(ForeignKey("sku.id"))
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    category: Mapped[str] = mapped_column(default="")
    country: Mapped[str] = mapped_column(default="")
    units: Mapped[int] = mapped_column(default=0)
    currency: Mapped[str]
    amount: Mapped[int]
    rate: Mapped[int | None]
    home: Mapped[int | None]
    home_currency: Mapped[str]
    day: Mapped[date]
    own_day: Mapped[date | None]


class ClosedMonth(Row):
    """A month to which nothing is added any more; what comes later counts in the first open one."""

    __tablename__ = "closed_month"
    month: Mapped[date] = mapped_column(unique=True)
    at: Mapped[datetime]
    who: Mapped[str]


class Overhead(Versioned):
    """A fixed cost of each month from `first` to `last` (days that months begin with; None = until it is ended). per month, minor units.

    supplier_id, plan: the supplier's plan that a plan_fee is of; such rows follow the supplier's terms and nobody types them.
    """

    __tablename__ = "overhead"
    __table_args__ = (CheckConstraint("amount > 0", name="amount"), CheckConstraint("kind in ('overhead','plan_fee')", name="kind"))
    name: Mapped[str]
    kind: Mapped[str] = mapped_column(default="overhead")
    store_id: Mapped[int | None] = mapped_column(ForeignKey("store.id"))
    supplier_id: Mapped[int | None] = mapped_column(ForeignKey("supplier.id"))
    plan: Mapped[str] = mapped_column(default="")
    made_at: Mapped[datetime | None]
    amount: Mapped[int]
    currency: Mapped[str]
    first: Mapped[date]
    last: Mapped[date | None]


class Settlement(Row):
    """What a store says it paid out at once: its number there, and the sum that came."""

    __tablename__ = "settlement"
    __table_args__ = (UniqueConstraint("store_id", "number"),)
    store_id: Mapped[int] = mapped_column(ForeignKey("store.id"))
    number: Mapped[str]
    currency: Mapped[str]
    at: Mapped[datetime]
    # The payout as it says itself; None until its row has come.
    paid: Mapped[int | None]
    read_at: Mapped[datetime]
    # A person took it although it is not the sum of its rows, or something in it is nobody's.
    settled_at: Mapped[datetime | None]


class SettlementRow(Row):
    """One row of a settlement. amount: what it adds to the payout, signed. order_id: None where no order of ours has that number."""

    __tablename__ = "settlement_row"
    __table_args__ = (
        UniqueConstraint("settlement_id", "line"),
        Index("ix_settlement_row_order_id", "order_id"),
        Index("ix_settlement_row_at", "at"),
        CheckConstraint(
            "kind in ('sale','shipping','discount','tax','fee','payment_fee','refund','fee_back','adjustment','payout')", name="kind"
        ),
    )
    settlement_id: Mapped[int] = mapped_column(ForeignKey("settlement.id"))
    line: Mapped[str]
    order_no: Mapped[str] = mapped_column(default="")
    order_id: Mapped[int | None] = mapped_column(ForeignKey("order.id"))
    kind: Mapped[str]
    amount: Mapped[int]
    at: Mapped[datetime]


class StatementRow(Row):
    """One row of what a supplier says it billed. amount: what it asks of us (rebates and refunds: gives), >= 0.

    accepted_at: it is as ordered, or a person took it as it is; claimed_at: they ask the supplier for it.
    """

    __tablename__ = "statement_row"
    __table_args__ = (
        UniqueConstraint("supplier_id", "reference", "kind", "line"),
        Index("ix_statement_row_purchase_id", "purchase_id"),
        Index("ix_statement_row_open", "supplier_id", "reference", **part("accepted_at is null")),
        CheckConstraint("kind in ('goods','shipping','handling','tax','refund','rebate')", name="kind"),
    )
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    reference: Mapped[str]
    line: Mapped[str] = mapped_column(default="")
    purchase_id: Mapped[int | None] = mapped_column(ForeignKey("purchase_order.id"))
    kind: Mapped[str]
    amount: Mapped[int]
    currency: Mapped[str]
    at: Mapped[datetime]
    read_at: Mapped[datetime]
    accepted_at: Mapped[datetime | None]
    claimed_at: Mapped[datetime | None]


def make(connection: Connection) -> None:
    """The triggers by which the journal is only ever added to, and a closed month never changes; may be repeated."""
    run = connection.exec_driver_sql
    for table in ("journal_event", "journal_entry"):
        for act in ("update", "delete"):
            run(
                f"create trigger if not exists {table}_no_{act} before {act} on {table} "
                f"begin select raise(abort, 'what is in the journal is never changed'); end"
            )
    # 86,400,000 ms a day: the first of the month that a day is in, as days are kept.
    month = "cast(strftime('%s', date(new.day / 1000, 'unixepoch', 'start of month')) as integer) * 1000"
    run(
        "create trigger if not exists journal_entry_open before insert on journal_entry "
        f"when exists (select 1 from closed_month where month = {month}) "
        "begin select raise(abort, 'that month is closed'); end"
    )
