"""Open troubles with files: those that came from a server or by mail and could not be taken as a whole."""

from __future__ import annotations

from collections.abc import Iterator
from posixpath import basename

from ...core.writing import grouped
from ..base.context import Context
from ..files import arrivals, rules
from .alert import Alert, AlertKey, AlertStep, Doing, Source, acts

STATIONS = {"catalogue": "watch", "stock": "watch", "listings": "shelf", "claim_answers": "transit", "statements": "books"}
STATIONS |= {"settlements": "books"}


def _files(context: Context) -> Iterator[Alert]:
    for row, rule, server, partner in arrivals.open_ones(context):
        left = f"{grouped(row.bad)} row{'' if row.bad == 1 else 's'} of it were not taken" if row.bad else ""
        came = f"It came from {server.name}" if server else "It came by mail"
        yield Alert(
            AlertKey("file", row.id),
            STATIONS.get(rule.what, "orders"),
            "File",
            f"{partner.name}: {basename(row.path)} was {'not taken as a whole' if row.bad else 'not taken'}",
            f"{came}, as {rules.CALLED[rule.what]}. {'; '.join(part for part in (row.message, left) if part)}",
            row.taken_at or row.seen_at,
            AlertStep("Look at it", go="/setup/files"),
            other=AlertStep("Leave it so", act=True),
        )


@acts("file")
def _leave_it(do: Doing) -> None:
    arrivals.close(do.context, do.alert.key.about[0])


SOURCES: dict[str, Source] = {"file": _files}
