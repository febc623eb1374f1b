"""Stock of ours that a depot holds: what it takes and asks, the goods held there, loads on their way in, and a ledger that only grows.

Money is minor units of the depot's currency, but for what a load's supplier is paid.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import CheckConstraint, Connection, ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import HeldState, InboundState
from .base import Row, Versioned, part

# How stock comes in and goes out. Damaged, lost and written off are gone for good; counted: a count that a person took over.
COMES = ("counted_in", "found", "returned", "counted")
GOES = ("sent", "damaged", "lost", "written_off", "sent_back", "counted")
_KINDS = ",".join(f"'{one}'" for one in dict.fromkeys((*COMES, *GOES)))


class DepotTerms(Versioned):
    """What a depot takes and asks. storage: of a litre and day, in millionths of a minor unit; receive: a carton; pick: a unit.

    It takes goods up to a weight, longest side and value (0 = any), of these kinds (none = all), in cartons up to a weight and size.
    """

    __tablename__ = "depot_terms"
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"), unique=True)
    storage: Mapped[int] = mapped_column(default=0)
    receive: Mapped[int] = mapped_column(default=0)
    pick: Mapped[int] = mapped_column(default=0)
    weight_most: Mapped[int] = mapped_column(default=0)
    side_most: Mapped[int] = mapped_column(default=0)
    value_most: Mapped[int] = mapped_column(default=0)
    kinds: Mapped[list[Any]] = mapped_column(default=list)
    carton_weight: Mapped[int] = mapped_column(default=20_000)
    carton_sides: Mapped[list[Any]] = mapped_column(default=lambda: [600, 400, 400])
    # Days from the gate to being counted in.
    days_low: Mapped[int] = mapped_column(default=1)
    days_high: Mapped[int] = mapped_column(default=3)
    # Litres that it keeps for us; 0 = as many as we send.
    room: Mapped[int] = mapped_column(default=0)
    # Where loads are sent.
    address: Mapped[dict[str, Any]] = mapped_column(default=dict)
    # How far its movements were read, and when its stock was.
    cursor: Mapped[str] = mapped_column(default="")
    told_at: Mapped[datetime | None]


class HeldGoods(Versioned):
    """A SKU that a depot was asked to hold. One unit of it is source_num / source_den of the item that it is bought as."""

    __tablename__ = "held_goods"
    __table_args__ = (
        UniqueConstraint("supplier_id", "sku_id"),
        UniqueConstraint("supplier_id", "number"),
        CheckConstraint("state in ('asked','question','agreed','refused','ended')", name="state"),
        CheckConstraint("inner > 0 and source_num > 0 and source_den > 0", name="packs"),
    )
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    sku_id: Mapped[int] = mapped_column(ForeignKey("sku.id"))
    # The item that lanes to this stock lead to; its number there is ours.
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    source_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    source_num: Mapped[int] = mapped_column(default=1)
    source_den: Mapped[int] = mapped_column(default=1)
    number: Mapped[str]
    state: Mapped[HeldState]
    # What the depot said last, and what we answered.
    message: Mapped[str] = mapped_column(default="")
    answer: Mapped[str] = mapped_column(default="")
    asked_at: Mapped[datetime]
    sides: Mapped[list[Any]]
    weight_g: Mapped[int]
    value: Mapped[int]
    kind: Mapped[str] = mapped_column(default="")
    pictures: Mapped[list[Any]] = mapped_column(default=list)
    # Units that are packed together and stay so.
    inner: Mapped[int] = mapped_column(default=1)
    # Units that one carton is filled with; 0 = as many as fit.
    carton: Mapped[int] = mapped_column(default=0)
    least: Mapped[int] = mapped_column(default=0)
    # Of how many days that it could be asked for it shall be there, in ppm; None = as the house wishes.
    service: Mapped[int | None]
    # Seasons and promotions: name, first and last day, and how many times as much is sold then, in ppm.
    seasons: Mapped[list[Any]] = mapped_column(default=list)
    # What the depot said was there, and since when that differs from the ledger.
    told: Mapped[int | None]
    told_at: Mapped[datetime | None]
    differs_since: Mapped[datetime | None]
    # "Not now": nothing is proposed before.
    quiet_until: Mapped[date | None]


class Inbound(Versioned):
    """A load to a depot. goods, freight: what its supplier asks, in its currency; rate: of the depot's money for one of it, billionths.

    cartons: sscc, grams, and what is in each as [line number, units].
    """

    __tablename__ = "inbound"
    __table_args__ = (
        Index("ix_inbound_state", "state"),
        CheckConstraint(
            "state in ('planned','ordered','on_the_way','at_gate','counted','refused','cancelled')",
            name="state",
        ),
    )
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    # Whom it is bought from; None = we send it.
    from_id: Mapped[int | None] = mapped_column(ForeignKey("supplier.id"))
    origin_id: Mapped[int | None] = mapped_column(ForeignKey("origin.id"))
    service: Mapped[str] = mapped_column(default="")
    reference: Mapped[str] = mapped_column(unique=True)
    state: Mapped[InboundState]
    made_at: Mapped[datetime]
    ordered_at: Mapped[datetime | None]
    left_at: Mapped[datetime | None]
    reached_at: Mapped[datetime | None]
    counted_at: Mapped[datetime | None]
    due: Mapped[date | None]
    cartons: Mapped[list[Any]] = mapped_column(default=list)
    currency: Mapped[str]
    goods: Mapped[int] = mapped_column(default=0)
    freight: Mapped[int] = mapped_column(default=0)
    billed: Mapped[int | None]
    rate: Mapped[int]
    tracking: Mapped[str] = mapped_column(default="")
    message: Mapped[str] = mapped_column(default="")
    their_number: Mapped[str] = mapped_column(default="")


class InboundLine(Versioned):
    """units sent; packs of the supplier's item bought for them; cost: of all its units with their part of freight and receiving.

    counted: units that were right, damaged ones apart. settled: how a difference was settled: claim, written_off; '' = open, or none.
    """

    __tablename__ = "inbound_line"
    __table_args__ = (
        UniqueConstraint("inbound_id", "held_id"),
        Index("ix_inbound_line_held_id", "held_id"),
        CheckConstraint("units > 0", name="units"),
    )
    inbound_id: Mapped[int] = mapped_column(ForeignKey("inbound.id"))
    held_id: Mapped[int] = mapped_column(ForeignKey("held_goods.id"))
    line_no: Mapped[int]
    packs: Mapped[int] = mapped_column(default=0)
    units: Mapped[int]
    price: Mapped[int] = mapped_column(default=0)
    cost: Mapped[int] = mapped_column(default=0)
    lot: Mapped[str] = mapped_column(default="")
    best_before: Mapped[date | None]
    counted: Mapped[int | None]
    damaged: Mapped[int] = mapped_column(default=0)
    picture_id: Mapped[int | None] = mapped_column(ForeignKey("picture.id"))
    note: Mapped[str] = mapped_column(default="")
    settled: Mapped[str] = mapped_column(default="")
    settled_at: Mapped[datetime | None]
    # What was asked back for it, and what came.
    claimed: Mapped[int] = mapped_column(default=0)
    came_back: Mapped[int | None]


class DepotEntry(Row):
    """One movement of stock: units and what they are worth, and how much is there after it. What came in = what is there + what is gone."""

    __tablename__ = "depot_entry"
    __table_args__ = (
        UniqueConstraint("held_id", "nth"),
        Index("ix_depot_entry_at", "at"),
        # The same parcel line, load line or word of the depot moves stock once.
        Index("uq_depot_entry_once", "once", unique=True, **part("once <> ''")),
        CheckConstraint(f"kind in ({_KINDS})", name="kind"),
        CheckConstraint("units <> 0", name="units"),
        CheckConstraint("there >= 0 and value >= 0", name="there"),
    )
    held_id: Mapped[int] = mapped_column(ForeignKey("held_goods.id"))
    nth: Mapped[int]
    at: Mapped[datetime]
    kind: Mapped[str]
    units: Mapped[int]
    there: Mapped[int]
    worth: Mapped[int]
    value: Mapped[int]
    # What somebody pays for goods that are gone, as a supplier who takes them back.
    paid: Mapped[int] = mapped_column(default=0)
    # What it belongs to, so that it is never written twice.
    once: Mapped[str] = mapped_column(default="")
    inbound_id: Mapped[int | None] = mapped_column(ForeignKey("inbound.id"))
    purchase_id: Mapped[int | None] = mapped_column(ForeignKey("purchase_order.id"))
    lot: Mapped[str] = mapped_column(default="")
    best_before: Mapped[date | None]
    who: Mapped[str] = mapped_column(default="")
    reason: Mapped[str] = mapped_column(default="")


def make(connection: Connection) -> None:
    """The triggers by which the ledger is only ever added to, and adds up; may be repeated."""
    run = connection.exec_driver_sql
    for act in ("update", "delete"):
        run(
            f"create trigger if not exists depot_entry_no_{act} before {act} on depot_entry "
            "begin select raise(abort, 'what is in the stock ledger is never changed'); end"
        )
    before = "from depot_entry where held_id = new.held_id and nth = new.nth - 1"
    run(
        "create trigger if not exists depot_entry_adds_up before insert on depot_entry "
        f"when new.there <> coalesce((select there {before}), 0) + new.units "
        f"or new.value <> coalesce((select value {before}), 0) + new.worth "
        f"or (new.nth <> 1 and not exists (select 1 {before})) "
        "begin select raise(abort, 'the stock ledger does not add up'); end"
    )
