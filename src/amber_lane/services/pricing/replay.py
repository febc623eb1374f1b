"""Replay: a set of rules and responses run over the past weeks' sightings and orders, beside another set."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields, replace
from datetime import timedelta
from typing import Any

import numpy as np
from sqlalchemy import BigInteger, select, type_coerce

from ...core import cost, price
from ...core.money import Bools, Ints, half_up_columns
from ...core.numbers import PPM
from ...core.price import NONE
from ...core.replay import LOSS, MISSED, OVERSOLD, Sales, Shown, Truth, sell, step_at
from ...data.base import to_ms
from ...data.bulk import in_chunks
from ...data.columns import fetch_columns, join
from ...data.orders import Order, OrderLine
from ...data.setup import Supplier
from ...data.source import Item
from ...data.watch import Sighting
from ..base.context import Context
from .decide import BY_STOCK, LIVE, PAUSED, decide
from .drafts import Change
from .frame import DAY_MS, Book, OwnLimits, Raw, build, terms_of
from .frame import read as read_listings
from .inputs import Facts, NoRate
from .lane_costing import Parts
from .packs import usual_sizes
from .policy import Keys, lay_over, price_layers

UNKNOWN_STOCK = 1_000_000
# Listings that are run together.
AT_A_TIME = 8000


@dataclass(frozen=True)
class ReplayPast:
    """What was seen of the items behind the listings, and what was ordered; the same for every set of rules.

    Sightings sorted by item and time; `first` has each item's values before the first of them. listings: as they are today.
    """

    start: int
    end: int
    item: Ints
    at: Ints
    cost: Ints
    stock: Ints
    first: dict[int, tuple[int, int]]
    orders: tuple[Ints, Ints, Ints, Ints]
    listings: Raw

    def of(self, items: Ints) -> ReplayPast:
        """What was seen of some items alone."""
        at = np.flatnonzero(np.isin(self.item, items))
        return replace(self, item=self.item[at], at=self.at[at], cost=self.cost[at], stock=self.stock[at])


@dataclass(frozen=True)
class Run:
    """What would have been. One entry per listing or per order line.

    earned: of each listing, in its store's currency. home: of each line, and days: of each day, in the house's, without what is sold in
    currencies that have no rate to it (left_out).
    """

    book: Book
    sales: Sales
    line_row: Ints
    line_at: Ints
    quantity: Ints
    moves: int
    pauses: int
    live_share: int
    days: list[int]
    earned: Ints
    home: Ints
    left_out: list[str]

    def count(self, outcome: int) -> int:
        return int((self.sales.outcome == outcome).sum())

    def sum(self, outcome: int) -> int:
        return int(self.home[self.sales.outcome == outcome].sum())


def read(context: Context, days: int) -> ReplayPast:
    """Sightings and orders of the last days."""
    now = context.now
    start, end = to_ms(now - timedelta(days=days)), to_ms(now)
    at = type_coerce(Sighting.at, BigInteger)
    seen = (
        select(Sighting.item_id, at, Sighting.cost, Sighting.stock, Sighting.old_cost, Sighting.old_stock)
        .where(Sighting.verdict.in_(("good", "gone")), Sighting.at >= now - timedelta(days=days))
        .order_by(Sighting.item_id, Sighting.at, Sighting.id)
    )
    item, when, costs, stock, old_cost, old_stock = (np.asarray(column, dtype=np.int64) for column in fetch_columns(context.session, seen))
    fresh = np.flatnonzero(np.r_[True, item[1:] != item[:-1]]) if len(item) else item
    first = {int(item[i]): (int(old_cost[i]), int(old_stock[i])) for i in fresh.tolist()}
    ordered = type_coerce(Order.ordered_at, BigInteger)
    lines = (
        select(Order.store_id, OrderLine.sku_id, ordered, OrderLine.quantity)
        .join(Order, Order.id == OrderLine.order_id)
        .where(Order.ordered_at >= now - timedelta(days=days), OrderLine.sku_id.is_not(None))
        .order_by(Order.ordered_at)
    )
    columns = [np.asarray(column, dtype=np.int64) for column in fetch_columns(context.session, lines)]
    orders = (columns[0], columns[1], columns[2], columns[3])
    return ReplayPast(start, end, item, when, costs, stock, first, orders, read_listings(context, Facts.read(context.session)))


def run(context: Context, past: ReplayPast, change: Change | None, progress: Callable[[float], None] = lambda share: None) -> Run:
    """One set of rules (None: those in force) over the past. The lanes are those of today; nothing is written.

    Some thousands of listings at a time, which know nothing of each other here, so that the memory does not grow with their number.
    progress: told the share that is done; whatever it raises ends the run.
    """
    facts = Facts.read(context.session)
    facts = facts if change is None else change.lay(facts)
    whole = build(past.listings, facts, within_allowance=False)
    book = _rows(whole, np.flatnonzero(whole.counted & (whole.lane > 0)))
    place = {pair: i for i, pair in enumerate(zip(book.store.tolist(), book.sku.tolist(), strict=True))}
    store, sku, when, many = past.orders
    rows = np.array([place.get(pair, -1) for pair in zip(store.tolist(), sku.tolist(), strict=True)], dtype=np.int64)
    n_days, n = max(-(-(past.end - past.start) // DAY_MS), 1), len(book.ids)
    days, earned = np.zeros(n_days, dtype=np.int64), np.zeros(n, dtype=np.int64)
    worth, left_out = facts.worth(book.currency)
    none = np.zeros(0, dtype=np.int64)
    outcomes, earnings, paid, lines, whens, units, homes = ([none] for _ in range(7))
    shares = [(0, 0)]
    moves = pauses = 0
    for start in range(0, n, AT_A_TIME):
        progress(start / n)
        some = np.arange(start, min(start + AT_A_TIME, n))
        mine = np.flatnonzero((rows >= start) & (rows < start + AT_A_TIME))
        part = _rows(book, some)
        truth, minutes = _timeline(context, facts, part, past.of(part.parts.item))
        shown, moved, paused, live = _show(facts, part, truth, minutes, past)
        at, quantity, row = when[mine], many[mine], rows[mine] - start
        sales = sell(shown, truth, part.terms, part.policy["refund_cost"], row, at, quantity, minutes[row] * 30_000)
        home = half_up_columns(sales.earned * worth[rows[mine]], PPM)
        np.add.at(days, np.clip((at - past.start) // DAY_MS, 0, n_days - 1), home)
        np.add.at(earned, rows[mine], sales.earned)
        sold = (sales.outcome, sales.earned, sales.price, rows[mine], at, quantity, home)
        for column, values in zip((outcomes, earnings, paid, lines, whens, units, homes), sold, strict=True):
            column.append(values)
        shares.append((live, len(some)))
        moves, pauses = moves + moved, pauses + paused
    live = sum(share * count for share, count in shares) // max(sum(count for _, count in shares), 1)
    every = (outcomes, earnings, paid, lines, whens, units, homes)
    outcome, sums, price_of, line, at, quantity, at_home = (np.concatenate(column) for column in every)
    return Run(book, Sales(outcome, sums, price_of), line, at, quantity, moves, pauses, live, days.tolist(), earned, at_home, left_out)


def _rows(book: Book, at: Ints) -> Book:
    """Some rows of a book, without what it needs to share stock."""
    n = len(book.ids)
    out: dict[str, Any] = {"policy": {name: column[at] for name, column in book.policy.items()}}
    for one in fields(book):
        value = getattr(book, one.name)
        if isinstance(value, np.ndarray) and len(value) == n:
            out[one.name] = value[at]
        elif isinstance(value, list) and len(value) == n and one.name != "endings":
            out[one.name] = [value[i] for i in at.tolist()]
        elif one.name in ("terms", "limits"):
            out[one.name] = value.take(at)
    out["parts"] = book.parts.take(at)
    return replace(book, **out)


def _timeline(context: Context, facts: Facts, book: Book, past: ReplayPast) -> tuple[Truth, Ints]:
    """Landed cost and units to be had of each listing over time, with a step each day; minutes between two looks at it."""
    parts, n = book.parts, len(book.ids)
    about = _items(context, np.unique(parts.item))
    place = np.searchsorted(about.ids, parts.item)
    low, high = (np.searchsorted(past.item, parts.item, side) for side in ("left", "right"))
    many = high - low
    # Every listing at the start and each day, and whenever one of its items changed.
    ticks = np.arange(past.start, past.end, DAY_MS, dtype=np.int64)
    event = np.repeat(low, many) + np.arange(int(many.sum())) - np.repeat(np.cumsum(many) - many, many)
    span = past.end - past.start + 1
    days = (np.arange(n)[:, None] * span + (ticks - past.start)[None, :]).ravel()
    steps = np.sort(np.r_[days, np.repeat(parts.row, many) * span + np.clip(past.at[event] - past.start, 0, span - 1)], kind="stable")
    steps = steps[np.r_[True, steps[1:] != steps[:-1]]] if n else steps
    rows, at = steps // span, steps % span + past.start
    begin, end = (np.searchsorted(rows, parts.row, side) for side in ("left", "right"))
    size = end - begin
    # One entry for each item of each listing at each of its steps: which event of the item held then, -1 = what was before the first.
    of = np.repeat(np.arange(len(parts.row)), size)
    where = np.repeat(begin, size) + np.arange(int(size.sum())) - np.repeat(np.cumsum(size) - size, size)
    mark = past.item * span + np.clip(past.at - past.start, 0, span - 1)
    last = np.searchsorted(mark, parts.item[of] * span + (at[where] - past.start), "right") - 1
    none_yet = last < low[of]
    # What the first sighting says of before holds from the start; without one, what is so today has always been so.
    now = zip(parts.item.tolist(), (many > 0).tolist(), about.cost[place].tolist(), about.stock[place].tolist(), strict=True)
    old = np.array([past.first[number] if seen else today for number, seen, *today in now], dtype=np.int64).reshape(-1, 2)
    first_cost, first_stock = old[:, 0], old[:, 1]
    events = np.maximum(last, 0)
    costs = np.where(none_yet, first_cost[of], past.cost[events] if len(past.cost) else 0)
    stock = np.where(none_yet, first_stock[of], past.stock[events] if len(past.stock) else 0)
    free = np.full(len(rows), UNKNOWN_STOCK, dtype=np.int64)
    np.minimum.at(free, where, np.where(stock < 0, UNKNOWN_STOCK, stock) * parts.den[of] // parts.num[of])
    goods = np.zeros(len(rows), dtype=np.int64)
    num, den = _counted(context, book)
    cushion, currency = book.policy["currency_cushion"][parts.row], np.array(book.currency)[parts.row]
    supplier, money = about.supplier[place], about.money[place]
    kinds, which = np.unique(np.stack([supplier.astype(str), money, currency, cushion.astype(str)]), axis=1, return_inverse=True)
    kind = which.reshape(-1)[of]
    for number, (who_id, of_money, to, extra) in enumerate(kinds.T.tolist()):
        who: Supplier = facts.suppliers[int(who_id)]
        try:
            convert = facts.conversion(who, to, int(extra), of=of_money)
        except NoRate:
            continue
        mine = np.flatnonzero(kind == number)
        tax = np.full(len(mine), who.tax, dtype=np.int64)
        np.add.at(goods, where[mine], cost.goods_cost(convert.apply(costs[mine]), num[of[mine]], den[of[mine]], tax))
    rebate = np.where(book.policy["rebate_counts"] == 1, half_up_columns(book.rebate * PPM, np.maximum(book.goods, 1)), 0)
    landed = goods - half_up_columns(goods * rebate[rows], PPM) + (book.ship + book.handling + book.risk)[rows]
    first = np.searchsorted(parts.row, np.arange(n))
    minutes = np.array([facts.suppliers[number].sweep_minutes for number in supplier[first].tolist()], dtype=np.int64)
    return Truth(rows, at, landed, free), minutes


@dataclass(frozen=True)
class _About:
    """Items in the order of their ids, as they are now."""

    ids: Ints
    supplier: Ints
    cost: Ints
    stock: Ints
    money: Any


def _items(context: Context, ids: Ints) -> _About:
    found: list[list[Any]] = []
    query = select(Item.id, Item.supplier_id, Item.cost, Item.stock, Item.currency).order_by(Item.id)
    for chunk in in_chunks(ids.tolist()):
        found.append(fetch_columns(context.session, query.where(Item.id.in_(chunk))))
    columns = [join([part[i] for part in found]) for i in range(5)] if found else [np.zeros(0, dtype=np.int64)] * 5
    return _About(columns[0], columns[1], columns[2], columns[3], np.array(list(columns[4]), dtype=str))


def _counted(context: Context, book: Book) -> tuple[Ints, Ints]:
    """Units of each part that one sale is charged with; a part of a pack that is bought whole by the usual order."""
    parts = book.parts
    rows = np.flatnonzero(parts.den > 1)
    if not len(rows):
        return parts.num, parts.den
    sku = book.sku[parts.row]
    sizes = usual_sizes(context.session, set(sku[rows].tolist()))
    usual = np.array([sizes.get(one, 1) for one in sku.tolist()], dtype=np.int64)
    return np.where(parts.den == 1, parts.num, -(-usual * parts.num // parts.den)), np.where(parts.den == 1, parts.den, usual)


def _ruled(facts: Facts, book: Book, truth: Truth, endings: price.Endings) -> tuple[price.Terms, price.Limits]:
    """The terms and limits of every step, by the rules at its landed cost."""
    rows, e = truth.row, len(truth.row)
    stores = [facts.stores[i].code for i in book.store.tolist()]
    layers = price_layers(facts, endings)
    # Names stand at every step only where a rule goes by them.
    scopes = {one.scope for one in layers}
    names = {"supplier": book.supplier_code, "category": book.category, "store": stores, "sku": book.sku_code}
    keys = Keys(**{name: [column[i] for i in rows.tolist()] if name in scopes else [] for name, column in names.items()})
    over = lay_over(e, layers, keys, truth.landed, lambda money: facts.turned(money, book.currency)[rows])
    own = OwnLimits.none(e)._replace(item_least=book.limits.least_price[rows])
    terms, limits = terms_of(facts, book.store, book.category, truth.landed, over, own, rows)
    terms = replace(terms, reserve=book.terms.reserve[rows])
    return terms, replace(limits, ceiling=np.where(limits.ceiling == NONE, book.limits.ceiling[rows], limits.ceiling))


def _as_it_stood(part: Book, first: Bools, price_then: Ints) -> Book:
    """Listings with nothing of today's that was not so then: no price rests, everything may be written, stock is no one else's."""
    n = len(part.ids)
    if first.any():
        # Whatever is followed later, it starts as it should have been on that day.
        for name in ("follow_price", "follow_stock"):
            part.policy[name] = np.where(first, 1, part.policy[name])
    return replace(
        part,
        wanted_price=np.where(price_then > 0, price_then, part.wanted_price),
        steady=np.zeros(n, dtype=np.int64),
        parts=Parts.none(),
        prices_on=np.ones(n, dtype=np.bool_),
        stock_on=np.ones(n, dtype=np.bool_),
        rest_price=np.full(n, NONE, dtype=np.int64),
        rest_stock=np.full(n, NONE, dtype=np.int64),
    )


def _in_order(out: list[tuple[Ints, Ints, Ints, Ints, Bools]]) -> Shown:
    """All steps by listing and time."""
    row, at_, prices, shows = (np.concatenate([one[i] for one in out]) if out else np.zeros(0, dtype=np.int64) for i in range(4))
    live = np.concatenate([one[4] for one in out]) if out else np.zeros(0, dtype=np.bool_)
    order = np.lexsort((at_, row))
    return Shown(row[order], at_[order], prices[order], shows[order], live[order])


def _same_as_before(truth: Truth) -> Bools:
    """Steps of a listing at which neither its cost nor its stock is another than at the step before."""
    rows, same = truth.row, np.zeros(len(truth.row), dtype=np.bool_)
    same[1:] = (rows[1:] == rows[:-1]) & (truth.landed[1:] == truth.landed[:-1]) & (truth.available[1:] == truth.available[:-1])
    return same


def _wordless(book: Book) -> Book:
    """Words decide nothing, and are not carried through every step."""
    words: dict[str, Any] = {one.name: [] for one in fields(book) if isinstance(getattr(book, one.name), list)}
    return replace(book, **words)


def _show(facts: Facts, book: Book, truth: Truth, minutes: Ints, past: ReplayPast) -> tuple[Shown, int, int, int]:
    """What each listing would have shown: every step decided as a sweep would have, in the order of time of each listing.

    Returns it with how many prices moved, how many pauses there were, and the share of the time on sale (ppm).
    """
    n, endings = len(book.ids), price.Endings()
    terms, limits = _ruled(facts, book, truth, endings)
    starts = np.searchsorted(truth.row, np.arange(n))
    counts = np.diff(np.r_[starts, len(truth.row)])
    # It begins with the price that the rules ask for on the first day, so that both sets start from what they would have made.
    state, paused_by = np.full(n, LIVE, dtype=np.int64), np.zeros(n, dtype=np.int64)
    now_price, quantity = np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.int64)
    step_price, step_at_ = np.zeros(n, dtype=np.int64), np.full(n, NONE, dtype=np.int64)
    since = np.full(n, NONE, dtype=np.int64)
    # A listing that the last step left as it was stays so for as long as nothing of it moves; most days nothing does.
    settled = np.zeros(n, dtype=np.bool_)
    same = _same_as_before(truth)
    out: list[tuple[Ints, Ints, Ints, Ints, Bools]] = []
    moves = pauses = 0
    bare = _wordless(book)
    for k in range(int(counts.max(initial=0))):
        mine = np.flatnonzero(counts > k)
        at = starts[mine] + k
        t = truth.at[at]
        back = _came_back(book, state, paused_by, since, minutes, mine, t)
        if len(back[0]):
            who, when = back
            state[who], paused_by[who], since[who] = LIVE, 0, NONE
            show = np.minimum(truth.available[starts[who] + k - 1] - book.policy["cushion"][who], book.policy["cap"][who])
            quantity[who] = np.maximum(show, 0)
            out.append((who, when, now_price[who].copy(), quantity[who].copy(), np.ones(len(who), dtype=np.bool_)))
            settled[who] = False
        asks = np.flatnonzero(~(settled[mine] & same[at]))
        mine, at, t = mine[asks], at[asks], t[asks]
        if not len(mine):
            continue
        fresh = (step_at_[mine] != NONE) & (step_at_[mine] > t - DAY_MS) & (step_price[mine] > 0)
        old = np.where(fresh, step_price[mine], now_price[mine])
        first = now_price[mine] == 0
        part = _as_it_stood(_rows(bare, mine), first, now_price[mine])
        part = replace(part, state=state[mine], paused_by=paused_by[mine], wanted_quantity=quantity[mine], available=truth.available[at])
        own = replace(limits.take(at), old=np.where(old > 0, old, NONE))
        decided = decide(replace(part, endings=endings, terms=terms.take(at), limits=own))
        moved = ~first & (decided.price != now_price[mine])
        moves += int(moved.sum())
        pauses += int((~first & (decided.state != LIVE) & (state[mine] == LIVE)).sum())
        begins = moved & ~fresh
        as_before = (decided.price == now_price[mine]) & (decided.quantity == quantity[mine]) & (decided.paused_by == paused_by[mine])
        settled[mine] = ~first & ~fresh & as_before & (np.where(decided.state == LIVE, LIVE, PAUSED) == state[mine])
        step_price[mine[begins]], step_at_[mine[begins]] = now_price[mine[begins]], t[begins]
        now_price[mine], quantity[mine] = decided.price, decided.quantity
        state[mine] = np.where(decided.state == LIVE, LIVE, PAUSED)
        paused_by[mine] = decided.paused_by
        room = truth.available[at] - book.policy["cushion"][mine]
        enough = (state[mine] == PAUSED) & (paused_by[mine] == BY_STOCK) & (room >= book.policy["resume_at"][mine])
        since[mine] = np.where(enough, np.where(since[mine] == NONE, t, since[mine]), NONE)
        out.append((mine, t, now_price[mine].copy(), quantity[mine].copy(), state[mine] == LIVE))
    shown = _in_order(out)
    return shown, moves, pauses, _live_share(shown, past)


def _came_back(book: Book, state: Ints, paused_by: Ints, since: Ints, minutes: Ints, mine: Ints, t: Ints) -> tuple[Ints, Ints]:
    """Listings that were seen steady for long enough before now, and when they came back."""
    ready = (state[mine] == PAUSED) & (paused_by[mine] == BY_STOCK) & (since[mine] != NONE)
    who = mine[ready]
    when = since[who] + (book.policy["resume_sweeps"][who] - 1) * minutes[who] * 60_000
    early = when < t[ready]
    return who[early], when[early]


def _live_share(shown: Shown, past: ReplayPast) -> int:
    if not len(shown.row):
        return 0
    ends = np.r_[shown.at[1:], past.end]
    ends[np.r_[shown.row[1:] != shown.row[:-1], True]] = past.end
    held = int(((ends - shown.at) * shown.live).sum())
    return held * PPM // max((past.end - past.start) * len(np.unique(shown.row)), 1)


__all__ = ["LOSS", "MISSED", "OVERSOLD", "ReplayPast", "Run", "read", "run", "step_at"]
