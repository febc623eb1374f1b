"""What follows for listings when something changed: decided, and written at once or in portions."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from functools import cache
from typing import Any

import numpy as np
from sqlalchemy import Select, func, select

from ...core.money import Bools, Ints
from ...core.states import DecisionState
from ...core.writing import grouped
from ...data.bulk import in_chunks
from ...data.lanes import Lane, LanePart, by_items
from ...data.outbox import Job
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ...data.statements import among
from ...data.watch import ListingDecision
from ..base import causes, portions
from ..base.consequences import How, Repricing, repricing
from ..base.context import Context
from . import compare_at
from .decide import CROWD, Decided, decide, limited_to
from .decisions import of_book, write
from .frame import MANY, Book, load
from .lane_columns import lane_pairs

# A store's first move of more prices than this is a person's to look at, whatever the limits say.
MASS = 20
# What stands in the counts where the listings of so many SKUs are still to be looked at; and the work that does it.
LATER, FOLLOW = "later", "follow"


@dataclass(frozen=True)
class Ask(How):
    """How listings are looked at in portions.

    crowd, mass: found of all of it before its first portion: whether more prices move than the limits let go, and in which stores very
    many do for the first time; None = it is no portion, and is found of what is there.
    """

    crowd: bool | None = None
    mass: tuple[int, ...] = ()


@repricing
def _respond(context: Context, wanted: Repricing) -> dict[str, int]:
    """Decide for the listings of some SKUs and write listings, decisions and outbox: in this transaction, or of very many SKUs in
    portions that follow it. Returns how many decisions of each kind were written, or LATER: of how many SKUs they follow."""
    ask, skus = Ask(**asdict(wanted.how)), wanted.skus
    n = len(skus) if skus is not None else int(context.session.scalar(select(func.count()).select_from(Sku)) or 0)
    if n > portions.AT_ONCE:
        _enter(context, ask, skus, wanted.items, wanted.only, n)
        return {LATER: n}
    counts = respond_now(context, ask, skus, wanted.items, wanted.only)
    tell(context, ask, counts)
    return counts


def respond_now(context: Context, ask: Ask, skus: set[int] | None, items: dict[int, int], only: set[int] | None) -> dict[str, int]:
    """Decide and write within this transaction, whatever the number."""
    book = load(context, None if skus is None else with_sharers(context, skus))
    if not len(book.ids):
        return {}
    decided = decide(book, ask.counted)
    waiting = _waiting(context, book)
    if not ask.seen and (frozen := _frozen(book, decided, ask, waiting)).any():
        decided = decide(book, ask.counted, frozen)
    elif ask.seen:
        _agree_to_mass(context, book, decided)
    if only is not None:
        decided = limited_to(book, decided, np.isin(book.ids, list(only)))
    anew = np.isin(book.ids, [listing for listing, still in waiting.items() if not still])
    # What begins to wait is told, also where its cost is what it was.
    anew |= decided.crowd & ~np.isin(book.ids, list(waiting))
    decided = compare_at.follow(context, book, decided, None if only is None else np.isin(book.ids, list(only)))
    return write(context, book, decided, ask.sweep, ask.act, items, anew)


def tell(context: Context, ask: Ask, counts: dict[str, int]) -> None:
    """The story of a sweep that did something, with its undo."""
    if ask.story and (message := tell_counts(counts)):
        after = {"sweep": ask.sweep, **counts}
        context.log(
            "watch.respond", ask.story["on"], message, reason=ask.story["reason"], after=after, undo=True, count=sum(counts.values())
        )


_VERBS = (
    ("reprice", "repriced", "repriced"),
    ("pause", "paused", "paused"),
    ("resume", "resumed", "resumed"),
    ("quantity", "quantity followed", "quantities followed"),
    ("end", "ended", "ended"),
)


def tell_counts(counts: dict[str, int]) -> str:
    """'214 repriced, 3 paused'; of very many, whose turn is still to come, that they follow; empty when nothing was done."""
    if counts.get(LATER):
        return f"{grouped(counts[LATER])} SKUs are looked at now"
    verbs = ((counts.get(kind, 0), one, many) for kind, one, many in _VERBS)
    return ", ".join(f"{n} {one if n == 1 else many}" for n, one, many in verbs if n)


def _enter(
    context: Context, ask: Ask, skus: set[int] | None, items: dict[int, int], only: set[int] | None, n: int, held: bool = False
) -> Job:
    whole = {"skus": None if skus is None else sorted(skus), "items": list(items.items()), "only": None if only is None else sorted(only)}
    body = {"ask": asdict(ask), "act": ask.act, "counts": {}, "planned": False}
    return portions.enter(context, FOLLOW, "Prices and stock follow", body, [whole], n, stops=False, held=held)


def respond_once_let_go(context: Context, skus: set[int], sweep: int, items: dict[int, int], story: dict[str, Any]) -> int:
    """Write down that SKUs are looked at for a sweep that is still being written; the work begins once it is let go (portions.let_go),
    or once this is found again after a kill. Returns its number."""
    ask = Ask(sweep=sweep, counted=True, alone=True, story=story)
    return _enter(context, ask, skus, items, None, len(skus), held=True).id


@portions.plan(FOLLOW)
def _plan(context: Context, body: dict[str, Any], whole: dict[str, Any]) -> tuple[dict[str, Any], list[Any], int]:
    """Portions of SKUs that share no item with those of another, and what can only be found of all of them. Reads only."""
    ask = Ask(**body["ask"])
    skus = None if whole["skus"] is None else set(whole["skus"])
    if not ask.seen:
        book = load(context, None if skus is None else with_sharers(context, skus))
        decided = decide(book, ask.counted)
        moves = decided.changed & (decided.price != book.wanted_price)
        ask = replace(ask, crowd=_is_crowd(book, moves, ask), mass=tuple(np.unique(book.store[_mass(book, moves)]).tolist()))
    items, only = dict(whole["items"]), None if whole["only"] is None else set(whole["only"])
    listings: dict[int, list[int]] = {}
    if only is not None:
        for number, sku in context.session.execute(select(Listing.id, Listing.sku_id)):
            if number in only:
                listings.setdefault(sku, []).append(number)
    groups = [group for group in _apart(context, skus) if only is None or any(sku in listings for sku in group)]
    parts = [
        {
            "skus": group,
            "items": [(sku, items[sku]) for sku in group if sku in items],
            "only": None if only is None else [number for sku in group for number in listings.get(sku, ())],
        }
        for group in groups
    ]
    return {**body, "ask": asdict(ask)}, parts, sum(map(len, groups))


@portions.work(FOLLOW)
def _follow(context: Context, body: dict[str, Any], part: dict[str, Any]) -> int:
    only = None if part["only"] is None else set(part["only"])
    counts = respond_now(context, Ask(**body["ask"]), set(part["skus"]), dict(part["items"]), only)
    body["counts"] = {kind: body["counts"].get(kind, 0) + counts.get(kind, 0) for kind in {*body["counts"], *counts}}
    return len(part["skus"])


@portions.finish(FOLLOW)
def _followed(context: Context, body: dict[str, Any], done: int, failed: int) -> str:
    tell(context, Ask(**body["ask"]), body["counts"])
    return tell_counts(body["counts"]) or "nothing had to change"


def _apart(context: Context, skus: set[int] | None) -> list[list[int]]:
    """SKUs in portions; those that draw on one item are always together."""
    # Loaded where it is used, since every start would wait for it.
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    sku, item = lane_pairs(context.session)
    known = np.array(list(context.session.scalars(select(Sku.id).order_by(Sku.id))), dtype=np.int64)
    things = np.unique(item)
    n = len(known)
    ends = (np.searchsorted(known, sku), n + np.searchsorted(things, item))
    graph = coo_array((np.ones(len(sku), dtype=np.int8), ends), shape=(n + len(things),) * 2)
    _, label = connected_components(graph, directed=False)
    mine = label[:n]
    if skus is not None:
        wanted = np.unique(mine[np.searchsorted(known, np.array(sorted(skus), dtype=np.int64))])
        keep = np.isin(mine, wanted)
        known, mine = known[keep], mine[keep]
    order = np.argsort(mine, kind="stable")
    out: list[list[int]] = []
    for group in np.split(known[order], np.flatnonzero(np.diff(mine[order])) + 1):
        if out and len(out[-1]) + len(group) <= portions.PORTION:
            out[-1] += group.tolist()
        elif len(group):
            out.append(group.tolist())
    return out


def _waiting(context: Context, book: Book) -> dict[int, bool]:
    """Listings whose price waits since too many moved at once, and whether what caused that is still so."""
    query = select(ListingDecision.listing_id, ListingDecision.audit_entry_id).where(
        ListingDecision.state == DecisionState.waits, ListingDecision.outcome == CROWD
    )
    rows = [row for part in of_book(book) for row in context.session.execute(query.where(*part)).tuples()]
    gone = causes.over(context, {act for _, act in rows if act})
    return {listing: act not in gone for listing, act in rows}


def _mass(book: Book, moves: Bools) -> Bools:
    """Rows of stores where very many prices would move for the first time."""
    first = moves & ~book.mass_agreed
    counts = np.bincount(book.store[first], minlength=int(book.store.max(initial=0)) + 1)
    return np.asarray(first & (counts[book.store] > MASS), dtype=np.bool_)


def _agree_to_mass(context: Context, book: Book, decided: Decided) -> None:
    """A person has looked at a first mass move, so the next is only asked for where the limits say so."""
    rows = _mass(book, decided.changed & (decided.price != book.wanted_price))
    for number in np.unique(book.store[rows]).tolist():
        context.get(Store, number, "store").mass_agreed = True


def _is_crowd(book: Book, moves: Bools, ask: Ask) -> bool:
    """Whether more prices move than the limits let go alone."""
    limits = book.policy["wait_over"][moves]
    limits = limits[limits > 0]
    return bool(ask.alone and len(limits) and int(moves.sum()) > int(limits.min()))


def _frozen(book: Book, decided: Decided, ask: Ask, waiting: dict[int, bool]) -> Bools:
    """Prices that wait for a person since too many of them move at once: now, or when they began to wait, for as long as the cause
    of that holds. Without it they are looked at like any other."""
    moves = decided.changed & (decided.price != book.wanted_price)
    portion = ask.crowd is not None
    first = moves & ~book.mass_agreed & np.isin(book.store, list(ask.mass)) if portion else _mass(book, moves)
    if ask.crowd if portion else _is_crowd(book, moves, ask):
        return np.asarray(moves & (book.policy["wait_over"] > 0) | first, dtype=np.bool_)
    still = [listing for listing, holds in waiting.items() if holds]
    return np.asarray(moves & np.isin(book.ids, still) | first, dtype=np.bool_)


@cache
def _sharing() -> Select[int]:
    """SKUs with an open lane of an item that open lanes of `skus` draw on."""
    items = select(LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id).where(Lane.sku_id.in_(among("skus")), Lane.closed_at.is_(None))
    lanes = select(Lane.sku_id).join(LanePart, LanePart.lane_id == Lane.id)
    return by_items(lanes.where(LanePart.item_id.in_(items), Lane.closed_at.is_(None)).distinct())


def with_sharers(context: Context, skus: set[int]) -> set[int]:
    """The SKUs and all others that draw on the same items, however far the chain reaches."""
    if len(skus) > MANY:
        return _all_sharers(*lane_pairs(context.session), skus)
    known, fresh = set(skus), set(skus)
    while fresh:
        near: set[int] = set()
        for chunk in in_chunks(fresh):
            near |= set(context.session.scalars(_sharing(), {"skus": chunk}))
        fresh = near - known
        known |= fresh
    return known


def _all_sharers(sku: Ints, item: Ints, skus: set[int]) -> set[int]:
    """The same for very many SKUs at once."""
    known = np.fromiter(skus, np.int64, len(skus))
    while True:
        wider = np.union1d(known, sku[np.isin(item, item[np.isin(sku, known)])])
        if len(wider) == len(known):
            return set(known.tolist())
        known = wider
