"""Saved searches: they look by themselves, bring in what is new and fits within a limit of the day, and report."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict, replace
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select

from ...data.setup import Store
from ...data.source import SavedSearch
from ..base import house_days
from ..base.context import Context
from ..base.errors import Invalid
from ..catalogue.search import Finder, Search, SearchResult
from ..listings import preparation

BRINGS = ("report", "prepared", "live")
REPORTS_MOST = 30
LOOK_MOST = 2_000


def save(context: Context, name: str, ask: Search, every_hours: int, daily_limit: int, bring: str) -> SavedSearch:
    """Keep a search that runs by itself. Items that fit it now are its start: only what is new after is brought in."""
    if bring not in BRINGS:
        raise Invalid(f"what it finds is brought in as {', '.join(BRINGS)}")
    if not name.strip():
        raise Invalid("give it a name", {"name": "is empty"})
    context.get(Store, ask.store, "store")
    words = {**asdict(ask), "suppliers": list(ask.suppliers), "offset": 0, "limit": LOOK_MOST}
    row = SavedSearch(
        name=name.strip()[:80],
        words=words,
        every_hours=every_hours,
        next_at=context.now,
        daily_limit=daily_limit,
        bring=bring,
        store_id=ask.store,
        reports=[],
    )
    context.session.add(row)
    context.session.flush()
    context.log("search.save", row.name, f"search {row.name} saved, it runs every {every_hours} h")
    return row


def search_of(row: SavedSearch) -> Search:
    return Search(**{**row.words, "suppliers": tuple(row.words["suppliers"])})


def due(context: Context) -> list[SavedSearch]:
    """Those whose time has come; their next one is planned at once, so that none runs twice."""
    rows = list(context.session.scalars(select(SavedSearch).where(SavedSearch.next_at <= context.now).order_by(SavedSearch.id)))
    for row in rows:
        row.next_at = context.now + timedelta(hours=row.every_hours)
    context.session.flush()
    return rows


def brought_today(context: Context, row: SavedSearch) -> int:
    """How many it has brought in on this day of the house."""
    day = house_days.today(context)
    made = ((datetime.fromisoformat(one["at"]), int(one["made"])) for one in row.reports or [])
    return sum(n for at, n in made if house_days.day_of(context, at) == day)


def find_now(context: Context, finder: Finder, number: int) -> SearchResult:
    """What fits a saved search now. Writes nothing, so that nobody waits for it."""
    return finder.find(context, replace(search_of(context.get(SavedSearch, number, "saved search")), ours="no", limit=LOOK_MOST, offset=0))


def run(context: Context, finder: Finder, number: int, found: SearchResult) -> dict[str, Any]:
    """Take what one look found. Returns the report; `publish` names listings that shall go on sale."""
    row = context.get(SavedSearch, number, "saved search")
    seen = set(_seen(row.reports or []))
    fresh = [number for number in found.ids if number not in seen]
    left = max(row.daily_limit - brought_today(context, row), 0)
    first, made, failed = not row.reports, 0, 0
    listings: list[int] = []
    wanted = fresh[:left] if row.bring != "report" else []
    if wanted and row.store_id:
        done = preparation.prepare(context, finder, wanted, row.store_id)
        made = sum(1 for one in done if one.outcome == "made")
        failed = sum(1 for one in done if one.outcome == "failed")
        listings = [one.listing for one in done if one.outcome == "made" and one.listing]
    over = max(len(fresh) - len(wanted), 0) if row.bring != "report" else 0
    message = f"{len(fresh)} {'fit' if first else 'new that fit'}"
    message += f", {made} brought in" if row.bring != "report" else ""
    message += f", {failed} could not be" if failed else ""
    message += f", {over} wait for tomorrow: its limit is {row.daily_limit} a day" if over else ""
    shown = fresh if row.bring == "report" else wanted
    report = {
        "at": context.now.isoformat(),
        "fit": found.total,
        "fresh": len(fresh),
        "made": made,
        "message": message,
        "items": shown[:LOOK_MOST],
    }
    row.reports = [report, *(row.reports or [])][:REPORTS_MOST]
    row.last_at = context.now
    row.version += 1
    context.log("search.run", row.name, f"{row.name}: {message}", count=made or 1)
    context.session.flush()
    return {"message": message, "listings": listings, "publish": listings if row.bring == "live" else []}


def _seen(reports: Iterable[dict[str, Any]]) -> Iterable[int]:
    for one in reports:
        yield from one.get("items", [])


def stop(context: Context, number: int) -> None:
    """Take a saved search away; what it brought in stays."""
    row = context.get(SavedSearch, number, "saved search")
    context.log("search.stop", row.name, f"no longer looks for {row.name}", reason="what it brought in stays")
    context.session.delete(row)
    context.session.flush()


def every(context: Context) -> Sequence[SavedSearch]:
    """All saved searches, the newest first."""
    return context.session.scalars(select(SavedSearch).order_by(SavedSearch.id.desc())).all()
