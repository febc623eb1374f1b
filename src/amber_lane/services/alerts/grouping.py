"""Today by cause: troubles that come from one thing are one row, which opens to them and is settled for all, some or one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from ...core.writing import grouped
from .alert import Alert, AlertKey, AlertStep, Cause, Member

# The kind of a row that stands for several alerts of one cause.
CAUSE = "cause"


def _step(step: AlertStep, n: int) -> AlertStep:
    label = step.label.replace("all {n}", "both") if n == 2 else step.label
    return replace(step, label=label.format(n=f"{grouped(n)}"))


def folded(cause: Cause, rows: list[Alert]) -> Alert:
    """Troubles of one cause as one: their number, their sum, the oldest of their times."""
    n, first = len(rows), rows[0]
    dearest = sorted(rows, key=lambda one: -one.at_risk)
    return Alert(
        AlertKey(CAUSE, cause.key),
        first.station,
        first.kind,
        cause.message.format(n=f"{grouped(n)}"),
        cause.reason,
        min(one.since for one in rows),
        _step(cause.step, n),
        sum(one.at_risk for one in rows),
        first.per_day,
        "loss" if any(one.tone == "loss" for one in rows) else first.tone,
        count=sum(one.count for one in rows),
        other=_step(cause.other, n) if cause.other else None,
        members=tuple(Member(one.key, one.message, one.reason, one.step.go, one.at_risk) for one in dearest),
    )


def by_cause(open_alerts: Iterable[Alert]) -> list[Alert]:
    """One row for each cause of two or more; what is alone stays as it is. A loss per day and one that comes once are never added up."""
    out: list[Alert] = []
    groups: dict[tuple[str, bool], list[Alert]] = {}
    for one in open_alerts:
        if one.cause is None:
            out.append(one)
        else:
            groups.setdefault((one.cause.key, one.per_day), []).append(one)
    for rows in groups.values():
        cause = rows[0].cause
        out.append(folded(cause, rows) if cause and len(rows) > 1 else rows[0])
    return out
