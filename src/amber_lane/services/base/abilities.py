"""Whether a partner can do what others of its kind cannot: by its kind, or by its description."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

from sqlalchemy import select

from ...connectors.abilities import Ability
from ...connectors.kinds import DESCRIBED, abilities_of_kind
from ...data.setup import Carrier, Link, Supplier
from .context import Context

P = TypeVar("P", bound=Supplier | Carrier)


def able(context: Context, row: Supplier | Carrier, ability: Ability) -> bool:
    """Whether one partner can do it."""
    return bool(able_ones(context, [row], ability))


def able_ones(context: Context, rows: Iterable[P], ability: Ability) -> list[P]:
    """Those of some partners, all of one sort, that can do it."""
    rows = list(rows)
    owner = "carrier" if rows and isinstance(rows[0], Carrier) else "supplier"
    asked = [row.id for row in rows if row.kind == DESCRIBED]
    query = select(Link.owner_id, Link.can).where(Link.owner == owner, Link.owner_id.in_(asked))
    told: dict[int, list[str]] = dict(context.session.execute(query).tuples().all()) if asked else {}
    return [row for row in rows if ability in (told.get(row.id, ()) if row.kind == DESCRIBED else abilities_of_kind(owner, row.kind))]
