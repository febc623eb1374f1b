"""Long jobs entered for the worker; the same thing asked for twice is one job."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from ...core.states import JobState
from ...data.outbox import Job
from .context import Context

ENDED = (JobState.done, JobState.failed, JobState.stopped)


def start(context: Context, kind: str, key: str, title: str, body: dict[str, Any], total: int = 0) -> Job:
    """Enter a job. The same key while it is open is the same job, not a second one."""
    job = context.session.scalar(select(Job).where(Job.key == key))
    if job is not None and job.state not in ENDED:
        return job
    if job is not None:
        job.key = f"{key}#{job.id}"
        context.session.flush()
    job = Job(
        key=key, kind=kind, title=title, body={**body, "who": context.actor, "person": context.person}, total=total, made_at=context.now
    )
    context.session.add(job)
    context.session.flush()
    return job
