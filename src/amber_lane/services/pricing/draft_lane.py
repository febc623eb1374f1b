"""A lane that is only looked at, laid among those that stand; nothing is written for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select

from ...core import cost
from ...core.states import WAITING_LINES
from ...data.columns import spliced
from ...data.lanes import Lane, LanePart
from ...data.orders import OrderLine
from ..base.context import Context
from .lane_columns import FIELDS, ORDER

# Its number; no lane that stands has it.
NUMBER = 2**40
_SKU, _STORE, _PRIORITY = (FIELDS.index(name) for name in ("sku", "store", "priority"))


@dataclass(frozen=True)
class DraftLane:
    """A lane that is only looked at. store 0 = all; rows: one for each item, in the order of FIELDS; services: country -> service where
    it is not its own; items: (item, units as num and den) of each."""

    sku: int
    store: int
    priority: int
    rows: Sequence[tuple[Any, ...]]
    services: dict[str, str]
    items: Sequence[tuple[int, int, int]]


def with_draft(columns: list[Any], draft: DraftLane) -> list[Any]:
    """The same columns with a lane among them; those at its place and after move down one."""
    at, columns = _PRIORITY, list(columns)
    same = (columns[_SKU] == draft.sku) & (columns[_STORE] == draft.store)
    if (columns[at][same] == draft.priority).any():
        columns[at] = columns[at] + (same & (columns[at] >= draft.priority))
    fresh = [list(one) if isinstance(one[0], str) else np.array(one, dtype=np.int64) for one in zip(*draft.rows, strict=True)]
    return spliced(columns, fresh, np.zeros(len(columns[_SKU]), dtype=np.bool_), ORDER)


def owed_by_draft(context: Context, draft: DraftLane, owed: dict[int, int]) -> dict[int, int]:
    """What is owed of each item if a lane stood: lines that wait for the first lane would be filled by it where it is that."""
    main = context.session.execute(
        select(Lane.id, Lane.store_id).where(Lane.sku_id == draft.sku, Lane.closed_at.is_(None), Lane.priority == 0).order_by(Lane.id)
    ).first()
    if draft.priority or (main is not None and (main.store_id or 0) != draft.store):
        return owed
    now = select(LanePart.item_id, LanePart.units_num, LanePart.units_den).where(LanePart.lane_id == (main.id if main else 0))
    waiting = select(OrderLine.quantity).where(
        OrderLine.sku_id == draft.sku, OrderLine.lane_id.is_(None), OrderLine.state.in_(WAITING_LINES)
    )
    out, parts = dict(owed), list(context.session.execute(now).tuples())
    for quantity in context.session.scalars(waiting):
        for sign, some in ((-1, parts), (1, draft.items)):
            for item, num, den in some:
                out[item] = out.get(item, 0) + sign * cost.packs_needed(quantity, num, den)
    return out
