"""Once a week, to whom one chooses: what was earned, why it changed, and what waits."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import select

from ...core.currency import show
from ...core.writing import grouped
from ...data.outbox import AuditEntry
from ...data.setup import Setting
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Invalid
from ..base.regional import home_of
from ..books import profit, why
from ..books.grouping import Period
from ..books.profit import View
from ..outbox import queue
from . import today

NAME = "weekly_mail"
MOST = 10
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_ADDRESS = re.compile(r"[^@\s<>\"',;]+@[^@\s<>\"',;]+\.[^@\s<>\"',;]+")
CAUSES = 3


@dataclass(frozen=True)
class WeeklyMail:
    """to: mail addresses, none = it is not sent; day: 0 = Monday."""

    to: tuple[str, ...] = ()
    day: int = 0


def settings_of(context: Context) -> WeeklyMail:
    row = context.session.scalar(select(Setting).where(Setting.name == NAME))
    return WeeklyMail(tuple(row.value["to"]), int(row.value["day"])) if row else WeeklyMail()


def save(context: Context, wanted: WeeklyMail) -> WeeklyMail:
    """Who gets it, and on which day."""
    wrong = [one for one in wanted.to if not _ADDRESS.fullmatch(one) or len(one) > 200]
    if wrong:
        raise Invalid(f"{wrong[0]!r} is not a mail address", {"to": f"{wrong[0]!r} is not a mail address"})
    if len(wanted.to) > MOST:
        raise Invalid(f"at most {MOST} people get it", {"to": f"at most {MOST}"})
    if not 0 <= wanted.day < len(DAYS):
        raise Invalid("that is no day of the week", {"day": "is no day of the week"})
    was = settings_of(context)
    fresh = WeeklyMail(tuple(dict.fromkeys(one.lower() for one in wanted.to)), wanted.day)
    _put(context, fresh)
    told = f"the weekly mail goes to {', '.join(fresh.to)} on {DAYS[fresh.day]}s" if fresh.to else "nobody gets the weekly mail"
    context.log("weekly.save", "weekly mail", told, before={"to": list(was.to), "day": was.day}, undo=True)
    return fresh


def _put(context: Context, wanted: WeeklyMail) -> None:
    row = context.session.scalar(select(Setting).where(Setting.name == NAME))
    value = {"to": list(wanted.to), "day": wanted.day}
    if row is None:
        context.session.add(Setting(name=NAME, value=value))
    else:
        row.value = value
    context.session.flush()


@undoing.undoes("weekly.save")
def undo_save(context: Context, act: AuditEntry) -> None:
    before = undoing.before(act)
    _put(context, WeeklyMail(tuple(before["to"]), int(before["day"])))


def send_due(context: Context) -> int:
    """Write the mail of the last whole week where its day has come; each week once, whoever asks. Returns to how many."""
    wanted, day = settings_of(context), house_days.today(context)
    if not wanted.to or day.weekday() != wanted.day:
        return 0
    monday = day - timedelta(days=day.weekday() + 7)
    week = Period(monday, monday + timedelta(days=6))
    subject, text = written(context, week)
    sent = 0
    for to in wanted.to:
        key = f"weekly-{monday.isoformat()}-{to}"
        if not queue.is_there(context, key):
            sent += queue.mail(context, key, key, to, subject, text)
    if sent:
        context.log("weekly.sent", "weekly mail", f"weekly mail written to {sent} {'person' if sent == 1 else 'people'}", count=sent)
    return sent


def written(context: Context, week: Period) -> tuple[str, str]:
    """Subject and text of a week's mail."""
    home = home_of(context.session)
    total = profit.table(context, View("store", week, week.before())).total
    found = why.changed(context, week, week.before())
    days = f"{house_days.day_text(context, week.first)} to {house_days.day_text(context, week.last)}"
    change = found.after - found.before
    moved = (
        "as much as the week before" if not change else f"{show(abs(change), home)} {'less' if change < 0 else 'more'} than the week before"
    )
    lines = [
        f"{days}: {show(found.after, home)} profit, {moved}.",
        f"{grouped(total.now['orders'])} orders, {show(total.now['sales'], home)} paid by buyers.",
        "",
    ]
    causes = sorted((one for one in found.effects.items() if one[1]), key=lambda one: -abs(one[1]))[:CAUSES]
    if causes:
        lines.append("What changed it most:")
        for effect, amount in causes:
            lines.append(f"- {'+' if amount > 0 else ''}{show(amount, home)}: {why.MEANING[effect]}")
            parts, _, _ = why.parts_of(context, found, effect, 2)
            lines += [
                f"    {part.title} {part.code}".rstrip() + f" {'+' if part.amount > 0 else ''}{show(part.amount, home)}" for part in parts
            ]
        lines.append("")
    waits = today.open_alerts(context)
    lines.append(
        f"{len(waits)} thing{'' if len(waits) == 1 else 's'} wait{'s' if len(waits) == 1 else ''} for somebody" + (":" if waits else ".")
    )
    lines += [f"- {one.message}" for one in waits[:5]]
    if left := profit.left_out(context):
        lines += ["", f"Without what is in {' and '.join(left)}: there is no exchange rate to {home}."]
    return f"Your week: {show(found.after, home)} profit", "\n".join(lines) + "\n"
