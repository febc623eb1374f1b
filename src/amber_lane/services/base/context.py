"""What every use case is handed: the session, the time and who acts. And the errors that a person can be told."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any, TypeVar

from sqlalchemy.orm import Session

from ...clock import Clock
from ...core.permissions import Allowed, Scope
from ...data.base import Row, Versioned
from ...data.kept import kept
from ...data.outbox import AuditEntry, AuditEntryPart
from . import consequences, journal_marks
from .errors import Conflict, NotFound

R = TypeVar("R", bound=Row)
V = TypeVar("V", bound=Versioned)
K = TypeVar("K", int, str)
T = TypeVar("T")


_LOGGED: list[Callable[[Context, AuditEntry], None]] = []


def logged(do: Callable[[Context, AuditEntry], None]) -> Callable[[Context, AuditEntry], None]:
    """Names the function that is given every act; it stands in a part that knows the outbox."""
    _LOGGED[:] = [do]
    return do


@dataclass
class Context:
    """session, clock and actor of one use case. `actor` is a person's name, or what acts by itself; person: their number.

    allowed: what that person may do; None of what acts by itself, which may do everything.
    """

    session: Session
    clock: Clock
    actor: str
    person: int | None = None
    # Of a job that goes on in portions: the act of each kind that its next portion belongs to.
    parts: dict[str, int] | None = None
    # Another portion of the same work comes after this one: what is looked at as a whole, as the plan of open orders, is left to the last.
    more: bool = False
    allowed: Allowed | None = None
    # Of an act that is done for somebody who may not: what it came to when it was asked for, in the house's minor units.
    approved: int | None = None
    # What this act has come to so far, by limit, in the house's minor units.
    counted: dict[str, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        # Whoever follows what a transaction changed acts for the one that began it.
        self.session.info.setdefault(journal_marks.CONTEXT, self)

    @property
    def now(self) -> datetime:
        return self.clock.now()

    @property
    def scope(self) -> Scope:
        """What whoever acts is limited to."""
        return self.allowed.scope if self.allowed else Scope()

    def kept(self, name: str, make: Callable[[Context], T], minutes: float = 1.0, still: bool = False, lags: bool = False) -> T:
        """What `make` works out of the data, kept until a table that it read changes (not where `still`) or so many minutes have passed.

        lags: what takes long to make may be some seconds old, for whoever looks at it all the time. `make` must not depend on who asks.
        In a transaction that writes it is worked out on the spot.
        """
        # Where time runs fast, a minute is not a moment: nothing is worked out anew by time alone more often than every two seconds.
        minutes = max(minutes, getattr(self.clock, "speed", 1.0) / 30)
        # What is kept is everybody's, and so is made by nobody: whoever asked first may see less than the next.
        return kept(self.session, name, self.now, lambda s: make(replace(self, session=s, allowed=None, person=None)), minutes, still, lags)

    def get(self, kind: type[R], number: int, name: str) -> R:
        """A row by its number; NotFound in plain words."""
        row = self.session.get(kind, number) if 0 < number < 2**62 else None
        if row is None:
            raise NotFound(f"there is no {name} {number}")
        return row

    def get_version(self, kind: type[V], number: int, version: int | None, name: str) -> V:
        """A row that a person changes, if it is still as they saw it (None: whatever it is now); its version goes up."""
        row = self.get(kind, number, name)
        if version is not None and row.version != version:
            raise Conflict(f"somebody changed this {name} while you had it open; look at it again, nothing was overwritten")
        row.version += 1
        return row

    def reprice(  # noqa: PLR0913 - its options, by name
        self,
        skus: Iterable[int] | None,
        act: int | None = None,
        sweep: int | None = None,
        items: dict[int, int] | None = None,
        only: set[int] | None = None,
        alone: bool = False,
        seen: bool = False,
        counted: bool = False,
        story: dict[str, Any] | None = None,
        then: Callable[[dict[str, int]], object] | None = None,
    ) -> None:
        """What changed decides about prices and stock of some SKUs (None = all): their listings are looked at again, once, before this
        transaction is kept; of very many SKUs in portions that follow it. See `consequences.Repricing` and `How`."""
        how = consequences.How(sweep, act, counted, alone, seen, story)
        wanted = None if skus is None else set(skus)
        consequences.mark_prices(self, consequences.Repricing(wanted, how, only, items or {}, then))

    def reroute(self) -> None:
        """What changed decides how open orders are filled: they are looked at again, once, before this transaction is kept.

        Of a job in portions, with its last one.
        """
        if not self.more:
            consequences.mark_orders(self)

    def carry_out(self) -> None:
        """Do what is marked now, for whoever answers with what came of it; at the end of the transaction nothing of it is left."""
        consequences.carry_out(self.session)

    def log(  # noqa: PLR0913 - the columns of the log
        self,
        kind: str,
        on: str,
        message: str,
        reason: str = "",
        before: object = None,
        after: object = None,
        undo: bool = False,
        count: int = 1,
    ) -> AuditEntry:
        """Write down an act. With `undo`, a function for its kind stands in services.activity.undo."""
        act = AuditEntry(
            at=self.now,
            who=self.actor,
            person_id=self.person,
            kind=kind,
            on=on,
            message=message,
            reason=reason,
            before=before,
            after=after,
            undo="open" if undo else "",
            count=count,
        )
        self.session.add(act)
        self.session.flush()
        for do in _LOGGED:
            do(self, act)
        return act

    def log_part(
        self,
        kind: str,
        on: str,
        tell: Callable[[int], str],
        after: dict[str, Any],
        count: int,
        before: dict[str, Any] | None = None,
        reason: str = "",
    ) -> AuditEntry:
        """Write down an act that can be undone, of which this may be one portion: the portions of a job are one act, and so one undo.

        tell: the words for so many. Conflict where it was undone meanwhile.
        """
        number = (self.parts or {}).get(kind)
        act = None if number is None else self.session.get(AuditEntry, number)
        if act is None:
            act = self.log(kind, on, tell(count), reason=reason, before=before, after=after, undo=True, count=count)
            if self.parts is not None:
                self.parts[kind] = act.id
            return act
        if act.undo != "open":
            raise Conflict("what was done so far has been undone, so the rest was left as it was")
        act.count += count
        act.message = tell(act.count)
        act.on = act.on if on in act.on or len(act.on) > 200 else f"{act.on}, {on}"
        self.session.add(AuditEntryPart(audit_entry_id=act.id, before=before, after=after))
        self.session.flush()
        return act
