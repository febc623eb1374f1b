"""Work on very many things, cut into portions that are each a transaction: others write between them, a kill loses none, and all
of it is one act. What a portion does is written down before the first one begins."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from sqlalchemy import delete, func, select, update

from ...core.states import JOB, JobState
from ...data.bulk import bulk_insert
from ...data.outbox import Job, JobPart
from .context import Context
from .errors import Conflict

# Up to so many things are done at once, while the person waits; a portion of more takes no longer than anybody may have to wait.
AT_ONCE, PORTION = 250, 100
GOING, HELD = (JobState.waiting, JobState.running), JobState.held

# kind -> what one portion does: (context, the job's body, the portion); returns how many it did. Its context belongs to whoever asked.
Work = Callable[[Context, dict[str, Any], Any], int]
WORK: dict[str, Work] = {}
# kind -> what is done, and told, once all portions are: (context, body, things done, things that could not be).
Finish = Callable[[Context, dict[str, Any], int, int], str]
FINISH: dict[str, Finish] = {}


# kind -> what cuts what was asked for into portions, reading only: (context, body, what was asked); returns body, portions, how many.
Plan = Callable[[Context, dict[str, Any], Any], tuple[dict[str, Any], list[Any], int]]
PLAN: dict[str, Plan] = {}


def plan(kind: str) -> Callable[[Plan], Plan]:
    def enter_(does: Plan) -> Plan:
        PLAN[kind] = does
        return does

    return enter_


def work(kind: str) -> Callable[[Work], Work]:
    def enter_(does: Work) -> Work:
        WORK[kind] = does
        return does

    return enter_


def finish(kind: str) -> Callable[[Finish], Finish]:
    def enter_(does: Finish) -> Finish:
        FINISH[kind] = does
        return does

    return enter_


def cut(things: Iterable[int], size: int = PORTION) -> list[list[int]]:
    rows = list(things)
    return [rows[start : start + size] for start in range(0, len(rows), size)]


def enter(  # noqa: PLR0913 - its options, by name
    context: Context, kind: str, title: str, body: dict[str, Any], parts: Sequence[Any], total: int, stops: bool = True, held: bool = False
) -> Job:
    """Write down work that goes on after this transaction. stops: whether a person may stop it halfway; held: not before it is let go."""
    whose = {"who": context.actor, "person": context.person, "stops": stops}
    job = Job(key="", kind=kind, title=title, body={**body, **whose}, total=total, made_at=context.now)
    job.state = JOB.target("hold") if held else JOB.first
    job.key = f"{kind}-{context.now.timestamp()}-{id(job)}"
    context.session.add(job)
    context.session.flush()
    job.key = f"{kind}-{job.id}"
    add(context, job.id, parts)
    return job


def let_go(context: Context, number: int) -> None:
    """Work that was held begins."""
    context.session.execute(update(Job).where(Job.id == number, Job.state == HELD).values(state=JOB.target("let_go")))


def add(context: Context, job: int, parts: Sequence[Any]) -> None:
    """Further portions of a job."""
    body = JobPart.__table__.c.body.type.bind_processor(context.session.get_bind().dialect)
    bulk_insert(context.session, JobPart, ("job_id", "body", "tries"), [(job, body(part) if body else part, 0) for part in parts])


def left(context: Context, job: int) -> int:
    return int(context.session.scalar(select(func.count()).select_from(JobPart).where(JobPart.job_id == job)) or 0)


def of_act(context: Context, act: int) -> list[Job]:
    """Work of an act that is still going on."""
    jobs = context.session.scalars(select(Job).where(Job.state.in_(GOING), Job.kind.in_(WORK)).order_by(Job.id))
    return [job for job in jobs if act in (job.body.get("act"), *(job.body.get("parts") or {}).values())]


def stop(context: Context, job: Job) -> None:
    """Leave what has not been begun. Conflict where that may not be left."""
    if not job.body.get("stops", True):
        raise Conflict(f"{job.title}: what was changed is not left halfway; undo the change instead")
    leave(context, job)


def leave(context: Context, job: Job) -> None:
    """What has not been begun is not done any more."""
    context.session.execute(delete(JobPart).where(JobPart.job_id == job.id))
    job.stop_asked = True


def under_way(context: Context, most: int = 3) -> Sequence[Job]:
    """Work that is going on, the oldest first."""
    return context.session.scalars(select(Job).where(Job.state.in_(GOING)).order_by(Job.id).limit(most)).all()
