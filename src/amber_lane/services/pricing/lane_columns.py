"""Lanes read as columns, whole or spliced anew for some SKUs."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from sqlalchemy import BindParameter, Select, case, func, select
from sqlalchemy.orm import Session

from ...core import cost
from ...core.money import Ints
from ...core.states import WAITING_LINES, PurchaseState
from ...data.base import by_index
from ...data.bulk import in_chunks
from ...data.columns import Columns, fetch_columns, join, or_none, place_of, sorted_by, spliced
from ...data.lanes import SENDS_OTHERWISE, Lane, LanePart
from ...data.orders import OrderLine, PurchaseLine, PurchaseOrder
from ...data.setup import Origin, Supplier
from ...data.source import Item
from ...data.statements import among
from ..base.context import Context

# Places in the lists of states, of lanes and of items.
SHUT, GONE = 3, 2
FIELDS = (
    "lane",
    "sku",
    "store",
    "supplier",
    "origin",
    "priority",
    "state",
    "item",
    "num",
    "den",
    "cost",
    "stock",
    "offer",
    "least",
    "handling",
    "weight",
    "service",
    "money",
)


# Named when it is asked.
_SKUS: BindParameter[Any] = among("skus")
_SKU = FIELDS.index("sku")
ORDER = [FIELDS.index(name) for name in ("sku", "priority", "lane", "origin")]


def lane_columns(s: Session, skus: list[int] | None) -> list[Any]:
    """Open lanes with their items, as columns in the order of FIELDS; of some SKUs, or all."""
    parts = [_read(s, chunk) for chunk in ([None] if skus is None else in_chunks(skus))] or [_read(s, [])]
    return [join([part[i] for part in parts]) for i in range(len(FIELDS))]


def splice_lanes(s: Session, columns: list[Any], skus: list[int]) -> list[Any]:
    """The same columns with the lanes of some SKUs as they are now."""
    gone = np.isin(columns[_SKU], np.array(skus, dtype=np.int64))
    return spliced(columns, lane_columns(s, skus), gone, ORDER)


@cache
def _columns(some: bool) -> Columns:
    """some: of SKUs that are named."""
    query = (
        select(
            Lane.id,
            Lane.sku_id,
            func.coalesce(Lane.store_id, 0),
            Item.supplier_id,
            Origin.id,
            Lane.priority,
            case((Lane.begun, place_of(Lane.state, ("new", "open", "slow", "shut"))), else_=SHUT),
            LanePart.item_id,
            LanePart.units_num,
            LanePart.units_den,
            Item.cost,
            Item.stock,
            place_of(Item.offer, ("good", "doubted", "gone")),
            or_none(Item.least_price),
            Origin.handling,
            Item.weight_g,
            case((LanePart.service != "", LanePart.service), else_=Lane.service),
            Item.currency,
        )
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .join(Origin, Origin.id == func.coalesce(LanePart.origin_id, Lane.origin_id))
        .where(Lane.closed_at.is_(None), Lane.is_substitute.is_(False))
    )
    return Columns(query.where(Lane.sku_id.in_(_SKUS)) if some else query)


def _read(s: Session, skus: list[int] | None) -> list[object]:
    columns = fetch_columns(s, _columns(skus is not None), None if skus is None else {"skus": skus})
    # Quicker than by the database, which would carry all columns through its sorting.
    return sorted_by(columns, ORDER)


@cache
def _send_otherwise(some: bool) -> Select[int, dict[str, str]]:
    query = select(Lane.id, Lane.services).where(SENDS_OTHERWISE)
    return query.where(Lane.sku_id.in_(_SKUS)) if some else by_index(query, Lane, "ix_lane_services")


def services_by_country(s: Session, skus: list[int] | None) -> dict[int, dict[str, str]]:
    """Lanes that send to some countries by another service than their own."""
    return dict(s.execute(_send_otherwise(skus is not None), None if skus is None else {"skus": skus}).tuples().all())


def lane_pairs(s: Session) -> tuple[Ints, Ints]:
    """Every SKU with every item of its open lanes, as two columns."""
    query = select(Lane.sku_id, LanePart.item_id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.closed_at.is_(None))
    sku, item = fetch_columns(s, query)
    return sku, item


@cache
def _sold() -> Select[int, int, int, int]:
    """What is sold and not yet bought: item, units sold, and what one of them takes."""
    chosen = func.coalesce(
        OrderLine.lane_id,
        select(Lane.id).where(Lane.sku_id == OrderLine.sku_id, Lane.closed_at.is_(None), Lane.priority == 0).limit(1).scalar_subquery(),
    )
    waits = select(OrderLine.quantity, chosen.label("lane")).where(OrderLine.state.in_(WAITING_LINES))
    open_lines = by_index(waits, OrderLine, "ix_order_line_state").subquery()
    units = select(LanePart.item_id, open_lines.c.quantity, LanePart.units_num, LanePart.units_den)
    return units.join(open_lines, open_lines.c.lane == LanePart.lane_id)


@cache
def _bought() -> Select[int, int]:
    """Units of each item that are bought and not yet seen in the supplier's stock."""
    pending = (PurchaseOrder.state.in_((PurchaseState.waiting, PurchaseState.sent))) | (
        (PurchaseOrder.state == PurchaseState.accepted) & (PurchaseOrder.answered_at > func.coalesce(Supplier.good_sweep_at, 0))
    )
    bought = (
        select(PurchaseLine.item_id, func.sum(PurchaseLine.quantity))
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .join(Supplier, Supplier.id == PurchaseOrder.supplier_id)
        .where(PurchaseLine.live, PurchaseOrder.state.in_((PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted)), pending)
        .group_by(PurchaseLine.item_id)
    )
    return by_index(by_index(bought, PurchaseOrder, "ix_purchase_order_state"), PurchaseLine, "ix_purchase_line_purchase_id")


def owed_units(context: Context) -> dict[int, int]:
    """Supplier units per item that are sold and not yet bought, or bought and not yet seen in the supplier's stock."""
    owed: dict[int, int] = {}
    for item, quantity, num, den in context.session.execute(_sold()):
        owed[item] = owed.get(item, 0) + cost.packs_needed(quantity, num, den)
    for item, quantity in context.session.execute(_bought()):
        owed[item] = owed.get(item, 0) + quantity
    return owed


def skus_of_supplier(context: Context, supplier: int) -> set[int]:
    return set(context.session.scalars(select(Lane.sku_id).where(Lane.supplier_id == supplier, Lane.closed_at.is_(None)).distinct()))
