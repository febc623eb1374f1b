"""Print houses: what they print on, as they tell it, and which of their blanks stand in for each other."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict

import numpy as np
from sqlalchemy import select

from ...connectors.print_protocol import BlankTerms
from ...core.colour import difference, lab
from ...data.printing import Blank, LanePrint
from ...data.setup import Supplier
from ...data.source import Item
from ..base.context import Context
from . import lane_prints
from .blank_terms import rgb_of, terms_of

# Two cloths are the same colour to a buyer up to this CIEDE2000 difference.
SAME_COLOUR = 10.0


def take_blanks(context: Context, supplier: Supplier, told: Sequence[BlankTerms]) -> int:
    """What a house prints on, as it tells it now; what it tells no more has ended. What is printed on a blank that changed is checked anew.

    Returns how many were new or changed.
    """
    s = context.session
    known = {row.code: row for row in s.scalars(select(Blank).where(Blank.supplier_id == supplier.id))}
    changed: list[int] = []
    for one in told:
        row, data = known.pop(one.code, None), asdict(one)
        if row is None:
            row = Blank(supplier_id=supplier.id, code=one.code, name=one.name, kind=one.kind, terms={}, seen_at=context.now)
            s.add(row)
        # As it is read back: sequences are lists.
        plain = {name: [dict(part) for part in value] if isinstance(value, tuple) else value for name, value in data.items()}
        if row.terms != plain or row.ended_at is not None:
            row.name, row.kind, row.terms, row.ended_at = one.name, one.kind, plain, None
            row.version = (row.version or 0) + 1
            s.flush()
            changed.append(row.id)
        row.seen_at = context.now
    for row in known.values():
        if row.ended_at is None:
            row.ended_at = context.now
            changed.append(row.id)
    s.flush()
    if changed:
        n = len(changed)
        context.log("blank.told", supplier.name, f"{supplier.name} tells {n} blank{'' if n == 1 else 's'} otherwise than before", count=n)
        lane_prints.check(context, s.scalars(select(LanePrint.lane_id).where(LanePrint.blank_id.in_(changed))))
    return len(changed)


def blanks(context: Context, kind: str = "") -> list[tuple[Blank, Supplier]]:
    """All that can be printed on, by kind and name."""
    query = select(Blank, Supplier).join(Supplier, Supplier.id == Blank.supplier_id)
    query = query.where(Blank.ended_at.is_(None), Supplier.ended_at.is_(None)).order_by(Blank.kind, Supplier.name, Blank.name)
    return list(context.session.execute(query.where(Blank.kind == kind) if kind else query).tuples())


def items_of(context: Context, found: Iterable[Blank]) -> dict[tuple[int, str, str, int], Item]:
    """The items that blanks are ordered by: (blank, colour, size, number of sides) -> item."""
    out: dict[tuple[int, str, str, int], Item] = {}
    for blank in found:
        terms = terms_of(blank)
        rows = select(Item).where(Item.supplier_id == blank.supplier_id, Item.number.in_([one.number for one in terms.items]))
        by_number = {row.number: row for row in context.session.scalars(rows)}
        for one in terms.items:
            if (row := by_number.get(one.number)) is not None:
                out[blank.id, one.colour, one.size, one.sides] = row
    return out


def same_colours(own: BlankTerms, other: BlankTerms) -> dict[str, str]:
    """Each colour of a blank with the nearest one of another blank, where that is near enough."""
    theirs = lab(np.array([rgb_of(other, one.name) for one in other.colours], dtype=np.float64))
    out = {}
    for one in own.colours:
        apart = difference(lab(np.array(rgb_of(own, one.name), dtype=np.float64)), theirs)
        at = int(np.argmin(apart))
        if float(apart[at]) <= SAME_COLOUR:
            out[one.name] = other.colours[at].name
    return out
