"""Goods that come in whole packs of more than is sold at once: what an order of the usual size really buys, and what is left over."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from fractions import Fraction

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.cost import packs_needed
from ...core.states import OrderLineState
from ...data.bulk import in_chunks
from ...data.lanes import LanePart
from ...data.orders import OrderLine
from ...data.source import Item


def usual_sizes(s: Session, skus: Iterable[int]) -> dict[int, int]:
    """How many of a SKU an order usually asks for: the middle one of its past orders. SKUs that were never ordered are not in it."""
    found: dict[int, list[int]] = {}
    for chunk in in_chunks(set(skus)):
        query = select(OrderLine.sku_id, OrderLine.quantity).where(OrderLine.sku_id.in_(chunk), OrderLine.state != OrderLineState.cancelled)
        for sku, quantity in s.execute(query).tuples():
            found.setdefault(sku or 0, []).append(quantity)
    return {sku: sorted(sizes)[(len(sizes) - 1) // 2] for sku, sizes in found.items()}


def of_lines(s: Session, lines: Iterable[OrderLine]) -> dict[int, str]:
    """Per line of orders what is left over of whole packs that it makes us buy; only those where something is."""
    wanted = {line.id: line for line in lines if line.lane_id}
    found: dict[int, list[tuple[Item, Fraction]]] = {}
    query = select(LanePart, Item).join(Item, Item.id == LanePart.item_id).where(LanePart.units_den > 1)
    for part, item in s.execute(query.where(LanePart.lane_id.in_({line.lane_id for line in wanted.values()}))).tuples():
        found.setdefault(part.lane_id, []).append((item, Fraction(part.units_num, part.units_den)))
    said = {number: message(found.get(line.lane_id or 0, []), line.quantity) for number, line in wanted.items()}
    return {number: text for number, text in said.items() if text}


def message(parts: Sequence[tuple[Item, Fraction]], quantity: int) -> str:
    """What an order of so many buys in whole packs, and what of it is left over; '' where nothing is."""
    said = []
    for item, units in parts:
        bought = packs_needed(quantity, units.numerator, units.denominator)
        over = int((bought - quantity * units) / units)
        if units.denominator > 1 and over:
            packs = f"{bought} pack{'s' if bought > 1 else ''} of {item.number}"
            said.append(f"{packs} {'are' if bought > 1 else 'is'} bought whole, and {over} of {over + quantity} are left over")
    return "; ".join(said)
