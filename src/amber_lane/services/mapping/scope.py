"""What a person is limited to, as conditions of queries: SKUs and items of theirs, and whether one thing is."""

from __future__ import annotations

from sqlalchemy import ColumnElement, select, true

from ...core.permissions import Scope
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context
from ..base.errors import NotFound


def of_scope(scope: Scope) -> ColumnElement[bool]:
    """SKUs of somebody's categories that are listed in somebody's stores."""
    where: ColumnElement[bool] = true()
    if scope.categories:
        where &= Sku.category.in_(scope.categories)
    if scope.stores:
        where &= Sku.id.in_(select(Listing.sku_id).where(Listing.store_id.in_(scope.stores)))
    return where


def items_of(scope: Scope) -> ColumnElement[bool]:
    """Items of somebody's suppliers."""
    return Item.supplier_id.in_(scope.suppliers) if scope.suppliers else true()


def own_sku(context: Context, sku: int) -> None:
    """NotFound where a SKU is none of those that whoever acts works for, as if it were not there."""
    if context.scope.limited and context.session.scalar(select(Sku.id).where(Sku.id == sku, of_scope(context.scope))) is None:
        raise NotFound(f"there is no SKU {sku} among those that you work for")


def own_items(context: Context, items: list[int]) -> None:
    """NotFound where an item is of a supplier that whoever acts does not work for."""
    if context.scope.suppliers:
        found = set(context.session.scalars(select(Item.id).where(Item.id.in_(items), items_of(context.scope))))
        if lacks := set(items) - found:
            raise NotFound(f"there is no item {min(lacks)} of a supplier that you work for")
