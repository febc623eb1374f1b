"""A mail when something has to be sent to a depot, to whom one chooses, at most as often as one wants."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select

from ...core.currency import show
from ...data.base import from_ms, to_ms
from ...data.setup import Setting
from ..base.context import Context
from ..base.regional import home_of
from ..outbox import queue
from .planning import ReorderPlan, plan
from .terms import wishes_of

LAST = "depot_warned"


def send_due(context: Context) -> int:
    """Write the mail where something is to be ordered and the time has come; the same list is not told twice. Returns to how many."""
    wishes = wishes_of(context)
    if not wishes.warn_to:
        return 0
    row = context.session.scalar(select(Setting).where(Setting.name == LAST))
    if row is not None and context.now - from_ms(int(row.value["at"])) < timedelta(hours=wishes.warn_hours):
        return 0
    found = plan(context)
    due = [n for n in range(len(found.rows)) if found.order(n)]
    if not due:
        return 0
    subject, text = written(context, found, due)
    stamp = to_ms(context.now)
    sent = sum(queue.mail(context, f"depot-{stamp}-{to}", f"depot-{stamp}-{to}", to, subject, text) for to in wishes.warn_to)
    if sent:
        if row is None:
            row = Setting(name=LAST, value={})
            context.session.add(row)
        row.value = {"at": stamp}
        n = len(due)
        context.log(
            "depot.warned",
            "depot",
            f"{sent} {'person' if sent == 1 else 'people'} told that {n} SKU{'' if n == 1 else 's'} should be ordered",
            count=n,
        )
    return sent


def written(context: Context, found: ReorderPlan, due: list[int]) -> tuple[str, str]:
    """Subject and text."""
    home = home_of(context.session)
    lines = []
    for n in due[:30]:
        row, units = found.rows[n], found.order(n)
        chance = round(100 * float(found.wanted.out[n]))
        lines.append(
            f"- {row.sku.code} {row.sku.title}: order {units}, about {show(units * row.unit_cost, home)}. {row.stock.there} are at "
            f"{row.depot.name}; the chance of running out is {chance} % if it is ordered at the next look only."
        )
    if len(due) > 30:
        lines.append(f"- and {len(due) - 30} more")
    n = len(due)
    subject = f"{n} SKU{'' if n == 1 else 's'} to order for the depot"
    return subject, "\n".join(["To keep what sells in stock, order today:", "", *lines, ""])
