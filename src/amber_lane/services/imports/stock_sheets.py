"""A sheet that tells only what a supplier has left, and perhaps what it costs now; items are those that we know already."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import select

from ...core.currency import parse_money
from ...data.bulk import in_chunks
from ...data.session import Database
from ...data.setup import Supplier
from ...data.source import Item
from ..base.context import Context
from ..base.import_frame import Checked, KnownNames, Row, each, need, whole
from ..monitoring import large_sweeps, sweeps


@dataclass(frozen=True)
class Told:
    """What a row says of an item: cost in minor units of its currency."""

    supplier: int
    number: str
    cost: int
    currency: str
    stock: int


def check(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out, rows = KnownNames(context), Checked(), list(rows)
    known: dict[tuple[int, str], tuple[int, str, int]] = {}
    columns = (Item.supplier_id, Item.number, Item.cost, Item.currency, Item.stock)
    for chunk in in_chunks({row.get("item", "").strip() for row in rows}):
        found = context.session.execute(select(*columns).where(Item.number.in_(chunk))).tuples()
        known |= {(supplier, number): (cost, currency, stock) for supplier, number, cost, currency, stock in found}
    taken: dict[tuple[int, str], Told] = {}

    def read(row: Row) -> None:
        supplier, number = names.supplier(row), need(row, "item")
        was = known.get((supplier.id, number))
        if was is None:
            raise ValueError(f"{supplier.name} has no item {number!r} here; new ones come with a sheet of all its goods")
        cost, currency, stock = was
        if row.get("cost"):
            currency = (row.get("currency") or currency).upper()
            cost = parse_money(row["cost"], currency, "cost")
            if not 0 < cost <= 100_000_000:
                raise ValueError(f"cost: {row['cost']} must lie between 0.01 and 1,000,000")
        one = Told(supplier.id, number, cost, currency, whole(row, "stock", 0, 100_000_000))
        if taken.setdefault((supplier.id, number), one) != one:
            raise ValueError(f"{number} stands twice in the sheet, and not alike; the first row counts")
        if taken[supplier.id, number] is one:
            same = (one.cost, one.currency, one.stock) == (was[0], was[1], stock)
            out.add("same" if same else "changed", one, f"{number}: {one.stock} in stock")
            # Also what says the same was seen.
            out.good += [one] if same else []

    each(rows, progress, out, read)
    return out


def take(context: Context, checked: Checked) -> int:
    """For each supplier a sweep of those that the sheet names; the others are left as they are."""
    for number, mine in _by_supplier(checked).items():
        sweep = sweeps.begin(context, context.get(Supplier, number, "supplier"), context.actor)
        sweeps.take_sweep(context, sweep, _sweep(mine, context.now))
    _log(context, checked)
    return len(checked.good)


def carry(
    db: Database, context_of: Callable[[Any], Context], checked: Checked, progress: Callable[[int], None], at: datetime | None = None
) -> None:
    """The same of any size. at: when the sheet was made."""
    done = 0
    for number, mine in _by_supplier(checked).items():
        with db.writing() as s:
            context = context_of(s)
            sweep = sweeps.begin(context, context.get(Supplier, number, "supplier"), context.actor).id
            data = _sweep(mine, min(at or context.now, context.now))
        large_sweeps.carry_out(db.reading, db.writing, context_of, sweep, data)
        done += len(mine)
        progress(done)
    with db.writing() as s:
        _log(context_of(s), checked)


def _by_supplier(checked: Checked) -> dict[int, list[Told]]:
    of: dict[int, list[Told]] = {}
    for one in checked.good:
        of.setdefault(one.supplier, []).append(one)
    return of


def _sweep(mine: Sequence[Told], at: datetime) -> sweeps.SweepData:
    cost, stock = (np.array([getattr(one, name) for one in mine], dtype=np.int64) for name in ("cost", "stock"))
    return sweeps.SweepData([one.number for one in mine], cost, [one.currency for one in mine], stock, at, whole=False)


def _log(context: Context, checked: Checked) -> None:
    n = len(checked.good)
    context.log("item.sheet", "items", f"stock of {n} supplier items told by a sheet", count=n)
