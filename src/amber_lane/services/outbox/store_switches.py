"""What a store lets us do: its prices written, its stock written, its orders bought. A store begins in practice: none of it."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...connectors.payloads import ListingPayload
from ...data.setup import Store
from ..base.context import Context
from ..base.errors import Conflict

# Part -> the store's column.
PARTS = {"prices": "write_prices", "stock": "write_stock", "orders": "buy_orders"}
CALLED = {"prices": "prices are not written", "stock": "stock is not written", "orders": "orders are not bought"}
_OF_PART = {"prices": ("price",), "stock": ("quantity", "state")}


def writes(store: Store) -> bool:
    """Whether anything of its listings is written."""
    return store.write_prices or store.write_stock


def writing(s: Session, store: int) -> bool:
    """The same of a store by its number."""
    return bool(s.scalar(select(Store.write_prices | Store.write_stock).where(Store.id == store)))


def in_practice(store: Store) -> bool:
    """Nothing is written to it and nothing bought for it."""
    return not (store.write_prices or store.write_stock or store.buy_orders)


def must(context: Context, store_id: int, part: str) -> None:
    """Conflict where a person asks for what the store's switch does not let out."""
    store = context.get(Store, store_id, "store")
    if not getattr(store, PARTS[part]):
        raise Conflict(f"{store.name}: {CALLED[part]} yet; turn that on under Set-up, Stores and suppliers")


def let_out(store: Store, change: ListingPayload) -> ListingPayload:
    """The parts of a listing change that the store's switches let out."""
    stopped = {name for part, names in _OF_PART.items() if not getattr(store, PARTS[part]) for name in names}
    return change.model_copy(update=dict.fromkeys(stopped)) if stopped else change


__all__ = ["CALLED", "PARTS", "in_practice", "let_out", "must", "writes"]
