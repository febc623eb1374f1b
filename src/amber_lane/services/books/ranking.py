"""What to do more of, and what to stop: SKUs by what they earn a day, with luck told from skill (computation, section 11)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

import numpy as np
from sqlalchemy import func, select

from ...core import earning
from ...core.books import Kind
from ...core.money import Bools, Floats, Ints
from ...core.states import DecisionState, ListingState
from ...core.writing import decimals
from ...data.base import to_ms
from ...data.bulk import by_id
from ...data.shelf import Listing, Sku
from ...data.watch import ListingDecision
from ..base import house_days
from ..base.context import Context
from . import columns
from .grouping import Grouped, Period, keys_of

WINDOW = 28
DAY_MS = 86_400_000
# Seldom sold things say little about themselves.
LEAST_UNITS = 3
OFTEN_OUT = 5
WANTED = ("contribution", "net", "fees", "goods", "sending", "refunds", "planned", "profit")
GROUPS = ("loses", "comes_back", "often_out", "rising", "falling", "never_sold")


@dataclass(frozen=True)
class Ranked:
    """A SKU as it earns. a_day: expected a day, house minor units; chance: that it sells faster now than before (0 to 1).

    group: what is to be done about it ('' = nothing); worth: what is at stake a day; cause, step and go: why, what, and where.
    """

    sku: int
    code: str
    title: str
    units: int
    days_on: int
    days_out: int
    pace: float
    unit: int
    a_day: int
    earned: int
    chance: float
    group: str
    worth: int
    cause: str
    step: str
    go: str


@dataclass
class _Seen:
    """Columns over SKUs: units and days on sale of the last 28 days and the 28 before, and what the sales of both left."""

    skus: Ints
    newer: Ints
    older: Ints
    on_newer: Ints
    on_older: Ints
    figures: dict[str, Ints]
    listed_days: Ints
    # Orders of both windows, and how many of them were refunded.
    orders: Ints
    refunded: Ints


def ranked(context: Context, most: int = 400) -> list[Ranked]:
    """All SKUs that are on sale or sold lately: those where something is to be done first, by what is at stake; then by what they earn."""
    return context.kept("books ranking", lambda one: _ranked(one), minutes=15)[:most]


def _ranked(context: Context) -> list[Ranked]:
    seen = _look(context)
    if not len(seen.skus):
        return []
    rows = by_id(context.session, Sku, seen.skus.tolist())
    category = np.array([rows[n].category if n in rows else "" for n in seen.skus.tolist()])
    pace, chance = np.zeros(len(seen.skus)), np.zeros(len(seen.skus))
    worse, usual = np.zeros(len(seen.skus), dtype=bool), np.zeros(len(seen.skus))
    for name in np.unique(category):
        mine = category == name
        both, days = (seen.newer + seen.older)[mine], (seen.on_newer + seen.on_older)[mine]
        prior = earning.gamma_prior(both, days)
        pace[mine] = earning.paces(prior, seen.newer[mine], seen.on_newer[mine])
        back, sent = seen.refunded[mine], seen.orders[mine]
        worse[mine] = earning.surely_worse(back, sent, int(back.sum()), int(sent.sum())) & (back > 1)
        usual[mine] = back.sum() / max(sent.sum(), 1)
        chance[mine] = earning.chance_rising(prior, seen.newer[mine], seen.on_newer[mine], seen.older[mine], seen.on_older[mine])
    units = seen.newer + seen.older
    planned = _planned(context, seen.skus)
    unit = earning.unit_contribution(seen.figures["contribution"], units, planned)
    known = [(n, rows[sku]) for n, sku in enumerate(seen.skus.tolist()) if sku in rows]
    out = []
    for n, row in known:
        often = f"{seen.refunded[n]} of {seen.orders[n]} orders refunded; usual {decimals(100 * usual[n], 1)} %" if worse[n] else ""
        out.append(_one(seen, n, row, _Worth(float(pace[n]), float(chance[n]), float(unit[n]), often)))
    place = {name: n for n, name in enumerate(GROUPS)}
    return sorted(out, key=lambda one: (one.group == "", -abs(one.worth) if one.group else 0, place.get(one.group, 9), -one.a_day))


def _look(context: Context) -> _Seen:
    today = house_days.today(context)
    newer = Period(today - timedelta(days=WINDOW), today - timedelta(days=1))
    older = Period(newer.first - timedelta(days=WINDOW), newer.first - timedelta(days=1))
    of = columns.read(context.session)
    keys = keys_of(of, "sku")
    new, old = Grouped(of, keys, newer.mask(of)), Grouped(of, keys, older.mask(of))
    both = Period(older.first, newer.last)
    whole = Grouped(of, keys, both.mask(of))
    listed = _days_on(context)
    skus = np.array(sorted({*listed, *whole.keys.tolist()} - {0}), dtype=np.int64)

    mask = both.mask(of)
    orders = _count(of, mask & (of["units"] > 0), skus)
    refunded = _count(of, mask & (of["kind"] == columns.KINDS.index(Kind.refund.value)) & (of["home"] < 0), skus)
    on = np.array([listed.get(sku, (0, 0, 0)) for sku in skus.tolist()], dtype=np.int64).reshape(-1, 3)
    n_new, n_old = (_spread(skus, one.keys, one.column("units")) for one in (new, old))
    # What sold was on sale, whatever is known of it.
    on_new, on_old = np.maximum(on[:, 0], np.minimum(n_new, 1)), np.maximum(on[:, 1], np.minimum(n_old, 1))
    return _Seen(
        skus, np.maximum(n_new, 0), np.maximum(n_old, 0), on_new, on_old,
        {name: _spread(skus, whole.keys, whole.column(name)) for name in WANTED}, on[:, 2], orders, refunded,
    )  # fmt: skip


def _count(of: columns.Columns, chosen: Bools, skus: Ints) -> Ints:
    """How many orders of each SKU have one of these entries."""
    pairs = np.unique(np.stack([of["sku"][chosen].astype(np.int64), of["order"][chosen]]), axis=1)
    keys, n = np.unique(pairs[0], return_counts=True) if pairs.size else (skus[:0], skus[:0])
    return _spread(skus, keys, n.astype(np.int64))


def _spread(skus: Ints, keys: Ints, values: Ints) -> Ints:
    """Values by SKU, nought where there is none."""
    out = np.zeros(len(skus), dtype=np.int64)
    if len(keys):
        at = np.searchsorted(skus, keys)
        there: Bools = (at < len(skus)) & (skus[np.minimum(at, len(skus) - 1)] == keys)
        out[at[there]] = values[there]
    return out


def _days_on(context: Context) -> dict[int, tuple[int, int, int]]:
    """Days on sale and in stock of each SKU that is listed: in the last 28 days, in the 28 before, and how many days out in the last 28.

    By what was paused and resumed; of several listings the one that was longest on sale counts.
    """
    end = house_days.begin(context, house_days.today(context))
    middle, start = end - timedelta(days=WINDOW), end - timedelta(days=2 * WINDOW)
    moves: dict[int, list[tuple[int, bool]]] = {}
    rows = select(ListingDecision.listing_id, ListingDecision.at, ListingDecision.kind).where(
        ListingDecision.kind.in_(("pause", "resume")), ListingDecision.at >= start, ListingDecision.state != DecisionState.undone
    )
    for listing, at, kind in context.session.execute(rows.order_by(ListingDecision.at)):
        moves.setdefault(listing, []).append((to_ms(at), kind == "pause"))
    out: dict[int, tuple[int, int, int]] = {}
    listings = select(Listing.id, Listing.sku_id, Listing.state).where(Listing.state.in_((ListingState.live, ListingState.paused)))
    for listing, sku, state in context.session.execute(listings):
        off_new, off_old = _off(moves.get(listing, []), state == ListingState.paused, to_ms(start), to_ms(middle), to_ms(end))
        one = (WINDOW - off_new, WINDOW - off_old, off_new)
        if sku not in out or one[0] > out[sku][0]:
            out[sku] = one
    return out


def _off(moves: list[tuple[int, bool]], now_off: bool, start: int, middle: int, end: int) -> tuple[int, int]:
    """Whole days that a listing was off sale after and before the middle, told backwards from how it is now."""
    off, until = [0, 0], end
    state = now_off
    for at, paused in [*reversed(moves), (start, not state)]:
        at = max(min(at, end), start)
        if state:
            off[0] += max(until - max(at, middle), 0)
            off[1] += max(min(until, middle) - at, 0)
        until, state = at, not paused
    return off[0] // DAY_MS, off[1] // DAY_MS


def _planned(context: Context, skus: Ints) -> Floats:
    """What a unit of each SKU is expected to leave now, by the best of its listings; 0 where nothing is known."""
    on_sale = Listing.state.in_((ListingState.live, ListingState.paused))
    rows = context.session.execute(select(Listing.sku_id, func.max(Listing.profit)).where(on_sale).group_by(Listing.sku_id))
    best = dict(rows.tuples().all())
    return np.array([float(best.get(sku) or 0) for sku in skus.tolist()], dtype=np.float64)


@dataclass(frozen=True)
class _Worth:
    """What a SKU is thought to do. often: that it comes back surely more often than its kind, in words."""

    pace: float
    chance: float
    unit: float
    often: str


def _one(seen: _Seen, n: int, row: Sku, of: _Worth) -> Ranked:
    pace, chance, unit = of.pace, of.chance, of.unit
    units, out_days = int(seen.newer[n] + seen.older[n]), int(seen.listed_days[n])
    earned, a_day = int(seen.figures["contribution"][n]), round(pace * unit)
    group, worth, cause, step, go = "", 0, "", "", ""
    on_sale = int(seen.on_newer[n]) > 0
    listing = f"/price?view=listings&words={row.code}"
    if units >= 1 and earned < 0:
        group, worth = "loses", round(earned / (2 * WINDOW))
        cause, step, go = _loss(seen, n, row)
    elif of.often:
        group, worth = "comes_back", round(int(seen.figures["refunds"][n]) / (2 * WINDOW))
        cause, step, go = of.often, "See its lanes", f"/lanes?words={row.code}"
    elif out_days >= OFTEN_OUT and units >= LEAST_UNITS:
        group, worth = "often_out", round(pace * out_days * unit / WINDOW)
        cause, step, go = f"off sale {out_days} of {WINDOW} days", "Ask another supplier", f"/lanes?words={row.code}"
    elif units >= LEAST_UNITS and chance >= earning.RISING:
        group, worth = "rising", round((int(seen.newer[n]) - int(seen.older[n])) * unit / WINDOW)
        cause = f"{int(seen.newer[n])} sold in four weeks, {int(seen.older[n])} in the four before"
        step, go = "Look at its price", listing
    elif units >= LEAST_UNITS and chance <= earning.FALLING:
        group, worth = "falling", -round(max(int(seen.older[n]) - int(seen.newer[n]), 0) * unit / WINDOW)
        cause = f"{int(seen.newer[n])} sold in four weeks, {int(seen.older[n])} in the four before"
        step, go = "Look at its price", listing
    elif not units and on_sale and int(seen.on_older[n]) >= WINDOW:
        group, cause = "never_sold", f"on sale for {2 * WINDOW} days and more without a sale"
        step, go = "End it", f"/shelf?words={row.code}"
    return Ranked(
        row.id, row.code, row.title, units, int(seen.on_newer[n]), out_days, pace, round(unit), a_day, earned, chance, group, worth,
        cause, step, go,
    )  # fmt: skip


def _loss(seen: _Seen, n: int, row: Sku) -> tuple[str, str, str]:
    """Why a SKU loses money, by what took most of its sales."""
    of = {name: int(seen.figures[name][n]) for name in ("net", "fees", "goods", "sending", "refunds", "planned", "profit")}
    if -of["refunds"] * 2 > of["net"] > 0:
        return "refunds took more than half of its sales", "Another lane first", f"/lanes?words={row.code}"
    if of["planned"] > 0 > of["profit"]:
        return "bills and fees came to more than was planned", "See its lanes", f"/lanes?words={row.code}"
    if of["goods"] + of["sending"] + of["net"] < 0:
        return "it is sold for less than it costs", "Raise its price", f"/price?view=listings&words={row.code}"
    return "fees leave less than it costs", "Raise its price", f"/price?view=listings&words={row.code}"
