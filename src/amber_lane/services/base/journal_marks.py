"""What changes an order's money marks that order, so that the journal follows it once, at the end of the same transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from itertools import chain
from typing import TYPE_CHECKING

from sqlalchemy import event, inspect
from sqlalchemy.orm import Session, UOWTransaction

from ...core.states import WAITING_LINES
from ...data.base import Row
from ...data.claims import Claim
from ...data.depot import DepotEntry, InboundLine
from ...data.orders import OrderLine, PurchaseLine, PurchaseOrder
from ...data.returns import GoodsReturn
from ...data.session import at_end
from ...data.setup import Supplier
from ...data.source import Sample

if TYPE_CHECKING:
    from .context import Context

MARKS, CONTEXT = "journal_marks", "journal_context"
# Table -> what of it the journal depends on.
_WATCHED: dict[type[Row], frozenset[str]] = {
    OrderLine: frozenset(
        {"state", "quantity", "paid", "shipping_paid", "discount", "tax", "tax_by", "store_fee", "payment_fee", "refunded", "sku_id"}
    ),
    PurchaseOrder: frozenset({"state", "goods", "shipping", "handling", "billed", "paid_at"}),
    PurchaseLine: frozenset({"live", "quantity", "planned_cost"}),
    Sample: frozenset({"state", "cost"}),
    Claim: frozenset({"came_back"}),
    GoodsReturn: frozenset({"sent_at", "label_cost"}),
    DepotEntry: frozenset({"units"}),
    InboundLine: frozenset({"counted", "damaged", "came_back", "cost"}),
    Supplier: frozenset({"plans", "currency", "ended_at"}),
}


@dataclass
class Marks:
    """What of the journal is to be looked at: numbers of orders, purchases and samples; moves, load_lines: of our stock in depots; plans:
    that a supplier's plans changed."""

    orders: set[int] = field(default_factory=set)
    purchases: set[int] = field(default_factory=set)
    samples: set[int] = field(default_factory=set)
    moves: set[int] = field(default_factory=set)
    load_lines: set[int] = field(default_factory=set)
    plans: bool = False


_FOLLOW: list[Callable[[Context, Marks], None]] = []


def following(do: Callable[[Context, Marks], None]) -> Callable[[Context, Marks], None]:
    """Names the function that the marks are given to; it stands in a part that knows all others."""
    _FOLLOW[:] = [do]
    return do


def mark(s: Session, orders: Iterable[int]) -> None:
    """The journal follows these orders; for what was written without rows of the session's own."""
    _marks(s).orders.update(orders)


def _marks(s: Session) -> Marks:
    at_end(s, "journal", lambda: _follow(s))
    marks: Marks = s.info.setdefault(MARKS, Marks())
    return marks


def _follow(s: Session) -> None:
    _FOLLOW[0](s.info[CONTEXT], s.info.pop(MARKS, Marks()))


@event.listens_for(Session, "after_flush")
def _note(s: Session, _: UOWTransaction) -> None:
    if not s.info.get("write"):
        return
    for row in chain(s.new, s.dirty):
        watched = _WATCHED.get(type(row))
        if watched is None or not _moved(row, watched):
            continue
        if isinstance(row, OrderLine | PurchaseOrder | Claim | GoodsReturn):
            _marks(s).orders.add(row.order_id)
        elif isinstance(row, PurchaseLine):
            _marks(s).purchases.add(row.purchase_id)
        elif isinstance(row, Sample):
            _marks(s).samples.add(row.id)
        elif isinstance(row, DepotEntry):
            _marks(s).moves.add(row.id)
        elif isinstance(row, InboundLine):
            _marks(s).load_lines.add(row.id)
        elif isinstance(row, Supplier) and (row.plans or row in s.dirty):
            _marks(s).plans = True


def _moved(row: Row, watched: frozenset[str]) -> bool:
    """Whether something changed that is money: from one way of waiting to be bought to another nothing does."""
    attributes = inspect(row).attrs
    for name in watched:
        history = attributes[name].history
        if not history.has_changes():
            continue
        if name == "state" and isinstance(row, OrderLine) and history.deleted and {*history.added, *history.deleted} <= {*WAITING_LINES}:
            continue
        return True
    return False
