"""What a transaction's changes mean for prices, stock shown and open orders: marked while it goes on, carried out once before it is kept.

Whoever changes something marks it by `Context.reprice` and `Context.reroute`. Prices are looked at first, then orders.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from sqlalchemy.orm import Session

from ...data.session import at_end

if TYPE_CHECKING:
    from .context import Context

Counts = dict[str, int]
MARKS = "consequences"


@dataclass(frozen=True)
class How:
    """Why listings are looked at, and how.

    alone: nobody has looked at it, so that more moves of prices at once than the limits let go wait for a person.
    seen: a person has looked at what this does, so that even what waits for them goes now.
    counted: it counts as one more look at stock that is steady. story: how a sweep that did something is told (on, reason).
    """

    sweep: int | None = None
    act: int | None = None
    counted: bool = False
    alone: bool = False
    seen: bool = False
    story: dict[str, Any] | None = None


@dataclass
class Repricing:
    """Listings to be looked at: of these SKUs (None = all), of those only some (None = all of them).

    items: SKU -> the item whose change caused it, for the story. then: is given how many decisions of each kind came of it.
    """

    skus: set[int] | None
    how: How
    only: set[int] | None = None
    items: dict[int, int] = field(default_factory=dict)
    then: Callable[[Counts], object] | None = None

    def joins(self, other: Repricing) -> bool:
        """Whether another is the same look, of more listings; then it is taken in."""
        if self.then or other.then or self.how != other.how or (self.only is None) != (other.only is None):
            return False
        self.skus = None if self.skus is None or other.skus is None else self.skus | other.skus
        self.only = None if self.only is None or other.only is None else self.only | other.only
        self.items = {**self.items, **other.items}
        return True


@dataclass
class _Marks:
    """What one transaction has marked, each with whoever acts. reroute: None = no order is to be looked at."""

    reprice: list[tuple[Context, Repricing]] = field(default_factory=list)
    reroute: Context | None = None


_REPRICE: list[Callable[[Context, Repricing], Counts]] = []
_REROUTE: list[Callable[[Context], None]] = []


def repricing(do: Callable[[Context, Repricing], Counts]) -> Callable[[Context, Repricing], Counts]:
    """Names the function that looks at listings again; it stands in a part that knows prices."""
    _REPRICE[:] = [do]
    return do


def rerouting(do: Callable[..., None]) -> Callable[..., None]:
    """Names the function that looks at open orders again; it stands in a part that knows all others."""
    _REROUTE[:] = [do]
    return do


def mark_prices(context: Context, wanted: Repricing) -> None:
    marks = _marks(context.session)
    if not any(one.joins(wanted) for _, one in marks.reprice):
        marks.reprice.append((context, wanted))


def mark_orders(context: Context) -> None:
    _marks(context.session).reroute = context


def _marks(s: Session) -> _Marks:
    at_end(s, MARKS, lambda: carry_out(s))
    marks: _Marks = s.info.setdefault(MARKS, _Marks())
    return marks


def carry_out(s: Session) -> None:
    """Do what is marked so far."""
    marks: _Marks = s.info.pop(MARKS, _Marks())
    s.flush()
    for context, wanted in marks.reprice:
        counts = _REPRICE[0](context, wanted)
        if wanted.then:
            wanted.then(counts)
        s.flush()
    if marks.reroute is not None:
        _REROUTE[0](marks.reroute)
