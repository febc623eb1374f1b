"""Carries out work in portions (services.base.portions): one job after the other, the next portion only when nobody else has to write."""

from __future__ import annotations

import time
from collections.abc import Callable

import structlog
from sqlalchemy import Select, select, update

from ..clock import Clock
from ..core.states import JOB
from ..data.outbox import Job, JobPart
from ..data.session import Database
from ..services.base import portions
from ..services.base.context import Context
from ..services.base.errors import UseCaseError

# A portion that breaks something here is set aside after so many tries, and the others go on.
TRIES = 3
# Between two portions it rests for a part of what the last one took, at most so many seconds.
REST, REST_MOST = 0.1, 0.1
log = structlog.get_logger()


class Portions:
    """All work in portions of one database. stopping: asked between two portions."""

    def __init__(self, db: Database, clock: Clock, stopping: Callable[[], bool] = lambda: False) -> None:
        self.db, self.clock, self.stopping = db, clock, stopping

    def recover(self) -> None:
        """After a start: what was held for something that a kill cut off begins now."""
        with self.db.writing() as s:
            s.execute(update(Job).where(Job.state == portions.HELD).values(state=JOB.target("let_go")))

    def run_due(self) -> None:
        """Go on until nothing is left."""
        while not self.stopping() and (number := self._next()) is not None:
            begun = time.monotonic()
            while not self.stopping() and self._one(number):
                # Somewhat longer than it takes whoever waits to write to see that it is their turn.
                time.sleep(min((time.monotonic() - begun) * REST, REST_MOST))
                begun = time.monotonic()

    def _next(self) -> int | None:
        with self.db.reading() as s:
            mine = (Job.state.in_(portions.GOING), Job.kind.in_(portions.WORK))
            return s.scalar(select(Job.id).where(*mine).order_by(Job.id).limit(1))

    def _one(self, number: int) -> bool:
        """The next portion of a job, or its end; False once it has ended."""
        try:
            self._plan(number)
            with self.db.writing(patient=True) as s:
                job = s.get(Job, number)
                if job is None or job.state not in portions.GOING:
                    return False
                job.state = JOB.step(job.state, "start")
                body = dict(job.body)
                # Its portions are one act: of each kind that they write down, by its number.
                body["parts"] = dict(body.get("parts") or {})
                due = s.scalars(_first(number, 2)).all()
                part = due[0] if due else None
                context = Context(s, self.clock, body["who"], body.get("person"), body["parts"], more=len(due) > 1)
                if part is None:
                    self._end(context, job)
                    return False
                try:
                    with s.begin_nested():
                        done = portions.WORK[job.kind](context, body, part.body)
                    job.done, job.body = job.done + done, body
                except UseCaseError as error:
                    job.failed += _size(part)
                    job.message = error.message[:500]
                s.delete(part)
                return True
        except Exception:
            log.exception("a portion failed", job=number)
            return self._again(number)

    def _plan(self, number: int) -> None:
        """Cut what was asked for into portions; that is worked out while others write."""
        with self.db.reading() as s:
            job = s.get(Job, number)
            if job is None or job.state not in portions.GOING or job.body.get("planned", True):
                return
            asked = s.scalar(_first(number))
            if asked is None:
                return
            context = Context(s, self.clock, job.body["who"], job.body.get("person"))
            body, parts, total = portions.PLAN[job.kind](context, dict(job.body), asked.body)
        with self.db.writing(patient=True) as s:
            job, part = s.get(Job, number), s.get(JobPart, asked.id)
            if job is not None and part is not None:
                s.delete(part)
                job.body, job.total = {**body, "planned": True}, total
                portions.add(Context(s, self.clock, job.body["who"]), number, parts)

    def _again(self, number: int) -> bool:
        """Something broke here, and nothing of the portion was kept: it is tried again, and at last set aside."""
        with self.db.writing(patient=True) as s:
            job, part = s.get(Job, number), s.scalar(_first(number))
            if job is None or part is None:
                if job is not None:
                    job.state, job.ended_at = JOB.step(job.state, "fail"), self.clock.now()
                    job.message = "it broke at its end; the server's log says how"
                return False
            part.tries += 1
            if part.tries >= TRIES:
                job.failed += _size(part)
                job.message = "some of it broke something here; the server's log says what"
            return True

    def _end(self, context: Context, job: Job) -> None:
        end = portions.FINISH.get(job.kind)
        message = end(context, dict(job.body), job.done, job.failed) if end and not job.stop_asked else ""
        job.state = JOB.step(job.state, "stop" if job.stop_asked else "fail" if job.failed and not job.done else "finish")
        job.message, job.ended_at = message or job.message, context.now
        job.result = {"done": job.done, "failed": job.failed}


def _first(number: int, many: int = 1) -> Select[JobPart]:
    return select(JobPart).where(JobPart.job_id == number, JobPart.tries < TRIES).order_by(JobPart.id).limit(many)


def _size(part: JobPart) -> int:
    return len(part.body) if isinstance(part.body, list) else 1
