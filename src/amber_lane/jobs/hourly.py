"""What is looked over once an hour: sales, lanes, returns, what waits. Worked out while others write, written in portions."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from ..clock import Clock
from ..data import moved
from ..data.base import statistics
from ..data.session import Database
from ..services.activity import retention
from ..services.alerts import weekly_mail
from ..services.base.context import Context
from ..services.books import upkeep
from ..services.claims import clock, lane_losses
from ..services.depot import warnings
from ..services.fulfilment import delivery_exceptions, parcel_tracking
from ..services.mapping import audit, performance
from ..services.monitoring import polling_plan, sweeps
from ..services.pricing import memberships, return_rates, sales_velocity, what_if
from ..services.pricing.policy import policy_for

EVERY = timedelta(hours=1)
# Rows of one column or two that are written in a moment.
ROWS = 2000


class Hourly:
    """The hourly look of one database. stopping: asked between its steps, so that a stop of the server never waits for it."""

    def __init__(self, db: Database, clock: Clock, folder: Path, stopping: Callable[[], bool] = lambda: False) -> None:
        self.db, self.clock, self.folder, self.stopping = db, clock, folder, stopping
        self.last: datetime | None = None
        self.pruned: datetime | None = None

    def due(self) -> bool:
        return self.last is None or self.clock.now() - self.last > EVERY

    def steps(self) -> Iterator[tuple[str, Callable[[], None]]]:
        """Each by itself: a step that fails keeps none of the others from their turn."""
        self.last = self.clock.now()
        steps: tuple[tuple[str, Callable[[], None]], ...] = (
            ("pace", self._pace),
            ("trust", self._trust),
            ("faults", self._faults),
            ("returns", self._returns),
            ("calls", self._calls),
            ("books", self._books),
            *((name, self._write(does)) for name, does in _WRITES),
            ("keeping", self._prune),
        )
        for step in steps:
            if self.stopping():
                return
            yield step

    def _write(self, does: Callable[[Context], Any]) -> Callable[[], None]:
        def step() -> None:
            with self.db.writing(patient=True) as s:
                does(Context(s, self.clock, "Watch"))

        return step

    def _in_portions(self, rows: Sequence[Any], does: Callable[[Context, Sequence[Any]], Any]) -> None:
        for start in range(0, len(rows), ROWS):
            if self.stopping():
                return
            with self.db.writing(patient=True) as s:
                does(Context(s, self.clock, "Watch"), rows[start : start + ROWS])

    def _pace(self) -> None:
        with self.db.reading() as s:
            rows = sales_velocity.moved(Context(s, self.clock, "Watch"))
        self._in_portions(rows, sales_velocity.save_paces)

    def _calls(self) -> None:
        with self.db.reading() as s:
            rows = polling_plan.moves(Context(s, self.clock, "Watch"))
        self._in_portions(rows, lambda context, part: polling_plan.save_intervals(context, list(part)))

    def _returns(self) -> None:
        with self.db.reading() as s:
            back = return_rates.count(Context(s, self.clock, "Watch"))
        with self.db.writing(patient=True) as s:
            context = Context(s, self.clock, "Watch")
            categories = return_rates.save_rates(context, back)
            if categories and policy_for(context.session)["reserve_real"]:
                act = context.log("reserve.counted", "returns", "returns were counted anew", reason="the returns reserve follows it")
                context.reprice(return_rates.skus_of(context, categories, back), act=act.id, alone=True)

    def _books(self) -> None:
        """The journal is whole."""
        with self.db.reading() as s:
            orders = upkeep.due(Context(s, self.clock, "Books"))
        self._in_portions(orders, upkeep.catch_up)
        if not self.stopping():
            self._write(upkeep.finish)()

    def _prune(self) -> None:
        """What is too old goes, once a day."""
        if self.pruned is not None and self.clock.now() - self.pruned < timedelta(days=1):
            return
        self.pruned = self.clock.now()
        with self.db.reading() as s:
            steps = list(retention.steps(Context(s, self.clock, "Watch"), self.folder))
            retention.drop_sheets(Context(s, self.clock, "Watch"), self.folder)
        for step in steps:
            while not self.stopping():
                with self.db.writing(patient=True) as s:
                    if not step(Context(s, self.clock, "Watch")):
                        break
        self.db.shrink()

    def _trust(self) -> None:
        """What lanes came to."""
        with self.db.reading() as s:
            context = Context(s, self.clock, "Lanes")
            seen = performance.seen(context)
            fresh, moves = performance.fresh(context, seen), performance.moves(context, seen)
        for kind, rows in fresh.items():
            self._in_portions(rows, lambda context, part, kind=kind: performance.save_records(context, kind, part))  # type: ignore[misc]
        with self.db.reading() as s:
            lost = lane_losses.fresh(Context(s, self.clock, "Lanes"))
        for kind, rows in lost.items():
            self._in_portions(rows, lambda context, part, kind=kind: lane_losses.save(context, kind, part))  # type: ignore[misc]
        for start in range(0, len(moves), performance.PORTION):
            part = dict(list(moves.items())[start : start + performance.PORTION])
            with self.db.writing(patient=True) as s:
                performance.move(Context(s, self.clock, "Lanes"), part)

    def _faults(self) -> None:
        """What is wrong with lanes."""
        fine: list[int] = []
        with self.db.reading() as s:
            found = audit.faults(Context(s, self.clock, "Lanes"), fine)
        with self.db.writing(patient=True) as s:
            audit.save_faults(Context(s, self.clock, "Lanes"), found)
        self._in_portions(fine, audit.keep_fine)


_WRITES: tuple[tuple[str, Callable[[Context], Any]], ...] = (
    ("step", sweeps.step_on),
    ("review", what_if.review),
    ("arrived", parcel_tracking.suppose_arrived),
    ("old", sweeps.grow_old_while_paused),
    ("late", delivery_exceptions.tell_late),
    ("plans", memberships.refresh),
    ("weekly mail", weekly_mail.send_due),
    ("depot mail", warnings.send_due),
    ("claims", clock.remind),
    ("moved", lambda context: moved.forget(context.session)),
    ("statistics", lambda context: statistics(context.session)),
)
