"""Two replays laid beside each other, as they are told; and what was asked of them, as a job keeps it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from datetime import datetime
from typing import Any

from sqlalchemy import select

from ...core.currency import plain
from ...core.plans import Membership
from ...data.shelf import Listing
from ..base.context import Context
from ..base.regional import home_of
from . import replay
from .drafts import Change, Draft, FeeChange, PolicyChange, RateChange, RuleChange, SupplierChange

MOVERS = 40
_KINDS: dict[str, type[Any]] = {one.__name__: one for one in (RuleChange, FeeChange, SupplierChange, PolicyChange, RateChange)}


def as_stored(change: Change | None) -> dict[str, Any] | None:
    """A drafted change as plain data."""
    return None if change is None else {"kind": type(change).__name__, **asdict(change)}  # type: ignore[call-overload]


def again(data: dict[str, Any] | None) -> Change | None:
    """The change that was kept so."""
    if data is None:
        return None
    given = {name: value for name, value in data.items() if name != "kind"}
    if "rules" in given:
        given["rules"] = [Draft(**one) for one in given["rules"]]
    if given.get("plans"):
        given["plans"] = [Membership(**one) for one in given["plans"]]
    change: Change = _KINDS[data["kind"]](**given)
    return change


def beside(
    context: Context, days: int, one: Change | None, other: Change | None, progress: Callable[[float], None] = lambda share: None
) -> dict[str, Any]:
    """Both sets over the last days: since, one, other, and the listings that earn most otherwise. progress: the share that is done."""
    past = replay.read(context, days)
    first = replay.run(context, past, one, lambda share: progress(share / 2))
    second = replay.run(context, past, other, lambda share: progress(0.5 + share / 2))
    gap, home = second.earned - first.earned, home_of(context.session)
    order = [i for i in abs(gap).argsort(kind="stable")[::-1][:MOVERS].tolist() if gap[i]]
    numbers = [int(first.book.ids[i]) for i in order]
    titles = dict(context.session.execute(select(Listing.id, Listing.title).where(Listing.id.in_(numbers))).tuples().all())
    return {
        "since": datetime.fromtimestamp(past.start / 1000, context.now.tzinfo).isoformat(),
        "one": _side(first, home),
        "other": _side(second, home),
        "left_out": first.left_out,
        "movers": [
            {
                "listing": number,
                "sku": first.book.sku_code[i],
                "title": titles.get(number, ""),
                "one": _money(int(first.earned[i]), first.book.currency[i]),
                "other": _money(int(second.earned[i]), first.book.currency[i]),
            }
            for i, number in zip(order, numbers, strict=True)
        ],
    }


def _money(minor: int, currency: str) -> dict[str, str]:
    return {"amount": plain(minor, currency), "currency": currency}


def _side(run: replay.Run, home: str) -> dict[str, Any]:
    return {
        "listings": len(run.book.ids),
        "moves": run.moves,
        "pauses": run.pauses,
        "live": run.live_share / 1_000_000,
        "lines": len(run.line_row),
        "sold": run.count(0) + run.count(1),
        "at_loss": run.count(replay.LOSS),
        "lost": _money(run.sum(replay.LOSS), home),
        "oversold": run.count(replay.OVERSOLD),
        "refunds": _money(run.sum(replay.OVERSOLD), home),
        "missed": run.count(replay.MISSED),
        "earned": _money(int(run.home.sum()), home),
        "days": [value / 100 for value in run.days],
    }
