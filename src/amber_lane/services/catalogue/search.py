"""Finding goods: every supplier's items as columns, with what each would land at, sell for and leave in a chosen store.

The columns are kept in memory and follow the tables by what has changed; what is shown of a page is read anew each time.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field, fields
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import BigInteger, func, select, type_coerce
from sqlalchemy.orm import Session

from ...connectors.kinds import DEPOTS
from ...core.money import Bools, Ints
from ...core.numbers import PPM
from ...data import revisions
from ...data.columns import coded, fetch_columns, or_none, place_of
from ...data.setup import Origin, Store, Supplier
from ...data.source import Item
from ..base.context import Context
from ..base.errors import Invalid
from ..pricing.inputs import Facts
from . import ingest
from .stability import in_stock_all
from .work_out import Goods, View, _empty_view, ours_of, ratings, work_out

OFFERS = ("good", "doubted", "gone")
SORTS = ("profit", "margin", "days", "lands", "stock", "steady")
MANY = 5_000
_WORD = re.compile(r"\w+")


@dataclass(frozen=True)
class Search:
    """What is looked for. Amounts in the store's minor units; None or empty = whatever."""

    store: int
    words: str = ""
    suppliers: tuple[int, ...] = ()
    category: str = ""
    ships_from: str = ""
    days: int | None = None
    lands_most: int | None = None
    keeps_least: int | None = None
    stock_least: int | None = None
    rating_least: int | None = None
    ours: str = ""
    sort: str = "profit"
    down: bool = True
    offset: int = 0
    limit: int = 50


@dataclass
class SearchResult:
    """Item ids of one page in order; total: how many of `of` fit in all; the columns that it was found in."""

    ids: list[int]
    total: int
    of: int
    goods: Goods
    view: View


class ItemWorth(NamedTuple):
    """One item in one store; amounts in the store's money. known: a price meets the rules and it is sent there."""

    price: int
    landed: int
    profit: int
    known: bool
    stock: int


@dataclass
class Finder:
    """The columns of one database. One thread brings them up to date at a time."""

    goods: Goods | None = None
    views: dict[int, View] = field(default_factory=dict)
    matched: dict[tuple[str, int, int], Ints] = field(default_factory=dict)
    steady: tuple[int, Ints] | None = None
    lock: Any = field(default_factory=threading.Lock)

    def warm(self, context: Context) -> None:
        """Read the columns before somebody waits for them, for the first store."""
        store = context.session.scalar(select(func.min(Store.id)))
        if store is not None:
            with self.lock:
                self.look(context, store)

    def find(self, context: Context, ask: Search) -> SearchResult:
        """The page of a search. Invalid when its store or its order is none."""
        if ask.sort not in SORTS:
            raise Invalid(f"goods are put in order by {', '.join(SORTS)}")
        with self.lock:
            goods, view = self.look(context, ask.store)
            mask = self._mask(context, ask, goods, view)
            rows = np.flatnonzero(mask)
            key = self._key(context, ask.sort, goods, view)[rows]
            rank = -key if ask.down else key
            if ask.sort in ("profit", "margin", "lands"):
                # Where nothing is known of a price, it comes last either way.
                rank = np.where(view.known[rows], rank, np.iinfo(np.int64).max)
            total, end = len(rows), ask.offset + ask.limit
            if total > 4 * end:
                # Only what can stand on the page is put in order; equal ones at its end all take part.
                near = np.flatnonzero(rank <= np.partition(rank, end)[end])
                rows, rank = rows[near], rank[near]
            places = rows[np.lexsort((goods.ids[rows], rank))[ask.offset : end]]
            return SearchResult(goods.ids[places].tolist(), total, len(goods.ids), goods, view)

    def worth(self, context: Context, store: int, items: Sequence[int]) -> dict[int, ItemWorth]:
        """What items would be in a store; those that are none are left out."""
        with self.lock:
            goods, view = self.look(context, store)
            wanted = np.unique(np.array(items, dtype=np.int64))
            places = np.searchsorted(goods.ids, wanted)
            places = places[places < len(goods.ids)]
            places = places[np.isin(goods.ids[places], wanted)]
            columns = (view.price, view.landed, view.profit, view.known, goods.stock)
            rows = zip(*(column[places].tolist() for column in columns), strict=True)
            return {number: ItemWorth(*row) for number, row in zip(goods.ids[places].tolist(), rows, strict=True)}

    def look(self, context: Context, store: int) -> tuple[Goods, View]:
        """The columns as they are now, and what they are in a store. Call with the lock held."""
        revisions.beside(context.session)
        facts = Facts.read(context.session)
        if store not in facts.stores:
            raise Invalid("choose a store to sell in", {"store": "is not one of yours"})
        moved = self._follow(context.session)
        goods = self.goods
        assert goods is not None
        mark = _mark(facts, store, context.session)
        for number, known in self.views.items():
            if len(moved) and len(known.landed) == len(goods.ids) and number in facts.stores:
                _fill(context.session, facts, number, goods, known, moved)
        view = self.views.get(store)
        if view is None or view.mark != mark or len(view.landed) != len(goods.ids):
            view = _empty_view(len(goods.ids), mark)
            _fill(context.session, facts, store, goods, view, np.arange(len(goods.ids)))
            self.views[store] = view
        return goods, view

    def _follow(self, s: Session) -> Ints:
        """Bring the columns up to date. Returns the places of items that moved (none where all is read anew)."""
        newest = s.scalar(select(func.max(Item.id))) or 0
        goods = self.goods
        last = 0 if goods is None or not len(goods.ids) else int(goods.ids[-1])
        if goods is not None and last and newest > last and self._count(s) == len(goods.ids) + self._count(s, last):
            self._append(s, goods, last)
        elif goods is None or newest != last:
            self.goods = _read(s)
            self.views.clear()
            self.matched.clear()
            self.steady = None
            return np.zeros(0, dtype=np.int64)
        fresh = _read(s, goods.seen)
        if not len(fresh.ids):
            return fresh.ids
        places = np.searchsorted(goods.ids, fresh.ids)
        for name in ("cost", "stock", "offer", "lead", "least", "weight"):
            getattr(goods, name)[places] = getattr(fresh, name)
        goods.seen = max(goods.seen, fresh.seen)
        return places

    def _count(self, s: Session, after: int = 0) -> int:
        return int(s.scalar(select(func.count()).select_from(Item).where(Item.id > after)) or 0)

    def _append(self, s: Session, goods: Goods, last: int) -> None:
        """Items that have come stand behind the others; what they would be in each store is worked out for them alone."""
        more = _read(s, after=last)
        words = sorted({*goods.categories, *more.categories})
        monies = sorted({*goods.monies, *more.monies})
        for fresh in (goods, more):
            fresh.category, fresh.categories = _recoded(fresh.category, fresh.categories, words), words
            fresh.money, fresh.monies = _recoded(fresh.money, fresh.monies, monies), monies
        columns = ("ids", "supplier", "origin", "cost", "stock", "weight", "lead", "least", "offer", "category", "money")
        for name in columns:
            setattr(goods, name, np.concatenate([getattr(goods, name), getattr(more, name)]))
        self.matched.clear()
        self.steady = None
        facts = Facts.read(s)
        for store, view in self.views.items():
            grown = _empty_view(len(more.ids), view.mark)
            for one in fields(View):
                if one.name != "mark":
                    setattr(view, one.name, np.concatenate([getattr(view, one.name), getattr(grown, one.name)]))
            if store in facts.stores:
                _fill(s, facts, store, goods, view, np.arange(len(goods.ids) - len(more.ids), len(goods.ids)))

    def _mask(self, context: Context, ask: Search, goods: Goods, view: View) -> Bools:
        mask = goods.offer != OFFERS.index("gone")
        # What a depot holds is ours already.
        none = Supplier.ended_at.is_not(None) | Supplier.kind.in_(DEPOTS)
        if ended := list(context.session.scalars(select(Supplier.id).where(none))):
            mask &= ~np.isin(goods.supplier, np.array(ended, dtype=np.int64))
        if ask.words.strip():
            hit = np.zeros(len(goods.ids), dtype=np.bool_)
            hit[self._match(context.session, ask.words, goods)] = True
            mask &= hit
        if ask.suppliers:
            mask &= np.isin(goods.supplier, np.array(ask.suppliers, dtype=np.int64))
        if ask.category:
            mask &= goods.category == (goods.categories.index(ask.category) if ask.category in goods.categories else -2)
        if ask.ships_from:
            lands = context.session.scalars(select(Origin.id).where(Origin.country == ask.ships_from.upper()))
            mask &= np.isin(goods.origin, np.array(list(lands), dtype=np.int64))
        if ask.days is not None:
            mask &= (view.service >= 0) & (view.days_high <= ask.days)
        if ask.lands_most is not None:
            mask &= view.known & (view.landed <= ask.lands_most)
        if ask.keeps_least is not None:
            mask &= view.known & (view.profit >= ask.keeps_least)
        if ask.stock_least is not None:
            mask &= goods.stock >= ask.stock_least
        if ask.rating_least is not None:
            good = [number for number, (kept, of) in ratings(context).items() if of and kept * 100 >= ask.rating_least * of]
            mask &= np.isin(goods.supplier, np.array(good, dtype=np.int64))
        if ask.ours in ("yes", "no"):
            have = np.isin(goods.ids, context.kept("ours", lambda context: ours_of(context.session), still=True))
            mask &= have if ask.ours == "yes" else ~have
        return np.asarray(mask, dtype=np.bool_)

    def _match(self, s: Session, text: str, goods: Goods) -> Ints:
        """Places of the items whose words begin with all the words of a text."""
        words = _WORD.findall(text.lower())[:10]
        if not words:
            return np.arange(len(goods.ids))
        query = " ".join(f'"{word}"*' for word in words)
        key = (query, len(goods.ids), ingest.words_stamp(s))
        if key not in self.matched:
            if len(self.matched) > 200:
                self.matched.clear()
            if s.get_bind().dialect.name == "sqlite":
                link = s.connection()
                joined = link.exec_driver_sql("select group_concat(rowid) from item_fts where item_fts match ?", (query,)).scalar()
                ids = np.sort(np.fromstring(joined or "", dtype=np.int64, sep=","))
            else:
                rows = select(Item.id).order_by(Item.id)
                for word in words:
                    rows = rows.where(Item.title.icontains(word, autoescape=True) | (Item.number == word))
                ids = np.array(list(s.scalars(rows)), dtype=np.int64)
            places = np.searchsorted(goods.ids, ids)
            places = places[places < len(goods.ids)]
            self.matched[key] = places[goods.ids[places] == ids[: len(places)]]
        return self.matched[key]

    def _key(self, context: Context, sort: str, goods: Goods, view: View) -> Ints:
        if sort == "margin":
            return np.asarray(np.where(view.net > 0, view.profit * PPM // np.maximum(view.net, 1), -PPM), dtype=np.int64)
        if sort == "days":
            return np.where(view.service >= 0, view.days_high, 999)
        if sort == "steady":
            return self._steadiness(context, goods)
        return {"profit": view.profit, "lands": view.landed, "stock": goods.stock}[sort]

    def _steadiness(self, context: Context, goods: Goods) -> Ints:
        """Milliseconds that each item was in stock in the last 60 days; worked out once a day of ours."""
        day = context.now.toordinal()
        if self.steady is None or self.steady[0] != day or len(self.steady[1]) != len(goods.ids):
            item, held = in_stock_all(context)
            out = np.where(goods.stock != 0, 60 * 86_400_000, 0).astype(np.int64)
            places = np.searchsorted(goods.ids, item)
            inside = places < len(goods.ids)
            out[places[inside]] = held[inside]
            self.steady = (day, out)
        return self.steady[1]


def _recoded(codes: Ints, old: list[str], new: list[str]) -> Ints:
    """Places in a list of words as places in a longer one."""
    place = {word: i for i, word in enumerate(new)}
    return np.array([place[word] for word in old], dtype=np.int64)[codes] if len(codes) else codes


def _read(s: Session, since: int | None = None, after: int = 0) -> Goods:
    query = select(
        Item.id,
        Item.supplier_id,
        or_none(Item.origin_id),
        Item.cost,
        Item.stock,
        Item.weight_g,
        Item.lead_days,
        or_none(Item.least_price),
        place_of(Item.offer, OFFERS),
        func.coalesce(type_coerce(Item.changed_at, BigInteger), 0),
        Item.category,
        Item.currency,
    )
    if since is not None:
        changed_at = type_coerce(Item.changed_at, BigInteger)
        # Several changes may fall into one moment, so that moment is read again where it is not the whole catalogue's.
        some = select(Item.id).where(changed_at == since).limit(MANY + 1).subquery()
        several = s.scalar(select(func.count()).select_from(some)) or 0
        query = query.where(changed_at >= since if several <= MANY else changed_at > since)
    if after:
        query = query.where(Item.id > after)
    # In order only where all are read: asked to sort, the database would walk through all items to find the few that moved.
    *columns, category, money = fetch_columns(s, query.order_by(Item.id) if since is None else query)
    n = len(columns[0])
    codes, names = coded(list(category) if n else [])
    units, monies = coded(list(money) if n else [])
    ids, supplier, origin, unit, stock, weight, lead, least, offer, changed = columns
    seen = int(changed.max()) if len(changed) else since or 0
    return Goods(ids, supplier, origin, unit, stock, weight, lead, least, offer, codes, names, units, monies, seen)


def _mark(facts: Facts, store: int, s: Session) -> int:
    """A number that moves when anything does that a price is made of beside the items themselves."""
    rows: list[Any] = [facts.stores[store], *facts.suppliers.values(), *facts.fees.values(), *facts.rules, *facts.policies, *facts.services]
    plain_rows = [tuple(_plain(getattr(row, c.key)) for c in row.__mapper__.column_attrs if c.key not in VOLATILE) for row in rows]
    origins = s.execute(select(Origin.id, Origin.handling, Origin.country)).all()
    return hash((tuple(plain_rows), tuple(map(tuple, origins)), tuple(sorted(facts.rates.items()))))


# What moves all the time and is no part of a price.
VOLATILE = frozenset(
    [
        "version",
        "next_sweep",
        "next_catalogue",
        "next_ask",
        "next_read",
        "good_sweep_at",
        "feed_as_of",
        "stale",
        "orders_cursor",
        "watching",
        "sweep_minutes",
        "reading",
        "note",
    ]
)


def _plain(value: object) -> object:
    return repr(value) if isinstance(value, (dict, list)) else value


def _fill(s: Session, facts: Facts, store_id: int, goods: Goods, view: View, rows: Ints) -> None:
    """Work out some rows of a view."""
    if not len(rows):
        return
    made = work_out(s, facts, facts.stores[store_id], goods, rows)
    view.landed[rows], view.ship[rows] = made.terms.landed, made.ship + made.handling
    view.price[rows], view.set_by[rows] = made.priced.price, made.priced.set_by
    view.profit[rows], view.net[rows] = made.priced.kept.profit, made.priced.kept.net
    view.days_low[rows], view.days_high[rows] = made.days_low, made.days_high
    view.known[rows], view.service[rows] = made.known, made.service
