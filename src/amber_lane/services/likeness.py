"""Which items are like a SKU and which SKUs are like an item, by the core's likeness, among the few that share its words."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction

from sqlalchemy import Engine, func, or_, select
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from ..core.likeness import Evidence, Found, Matcher, Pattern, Row, judge, match, told
from ..data.lanes import Rejection
from ..data.setup import Supplier
from ..data.shelf import Sku
from ..data.source import Item
from .desk import Desk, by_id

# So many items that share a SKU's rarest words are compared with it in full.
LOOKED_AT = 120
LIKE_FROM, OURS_FROM = 25, 80
# More SKUs than these are made ready beside the work, not while somebody waits.
AT_ONCE = 3000
_WORD = re.compile(r"\w+")


@dataclass(frozen=True)
class Candidate:
    """An item that may fill a SKU, with what agrees and differs, in words and as data. score 0 to 100; decision: open, review, none."""

    item: Item
    agrees: list[str]
    differs: list[str]
    score: int
    decision: str
    evidence: list[Evidence] = field(default_factory=list)


@dataclass(frozen=True)
class Close:
    """A SKU of ours that is like an item."""

    sku: str
    title: str
    likeness: int
    agrees: list[str]
    differs: list[str]


def row_of_sku(sku: Sku) -> Row:
    return Row(str(sku.id), sku.title, sku.brand, sku.gtin, sku.mpn, options=sku.options, number=sku.code)


def row_of_item(item: Item) -> Row:
    return Row(
        str(item.id),
        item.title,
        item.brand,
        item.gtin,
        item.mpn,
        item.pack_size,
        supplier=str(item.supplier_id),
        options=item.options,
        number=item.number,
    )


def _score(one: Found) -> int:
    return max(0, min(100, round(one.score)))


def search_items(desk: Desk, text: str, supplier: int | None = None, limit: int = 50) -> list[Item]:
    """Items whose title, number or barcode hold all the words."""
    query = select(Item).join(Supplier, Supplier.id == Item.supplier_id).where(Supplier.ended_at.is_(None))
    query = query.order_by(Item.stock.desc(), Item.id).limit(limit)
    for word in text.split()[:8]:
        holds = (column.icontains(word, autoescape=True) for column in (Item.title, Item.number))
        query = query.where(or_(*holds, Item.gtin == word, Item.mpn == word))
    if supplier:
        query = query.where(Item.supplier_id == supplier)
    return list(desk.s.scalars(query))


def candidates(desk: Desk, sku: Sku, text: str = "", limit: int = 9, patterns: Sequence[Pattern] = ()) -> list[Candidate]:
    """Items for a SKU, the likest first: those that a search finds, or by its numbers and rarest words.

    Pairs that a person has refused are not offered again, unless they are searched for.
    """
    if text.strip():
        found = search_items(desk, text)
    else:
        refused = set(desk.s.scalars(select(Rejection.item_id).where(Rejection.sku_id == sku.id)))
        near = by_id(desk.s, Item, near_items(desk, sku, patterns)).values()
        ended = set(desk.s.scalars(select(Supplier.id).where(Supplier.ended_at.is_not(None))))
        found = [one for one in near if one.id not in refused and one.supplier_id not in ended]
    rows = _judged(sku, found, patterns)
    return sorted(rows, key=lambda one: (-one.score, one.item.cost, one.item.id))[:limit]


def near_items(desk: Desk, sku: Sku, patterns: Sequence[Pattern] = ()) -> list[int]:
    """Items worth comparing with a SKU: with one of its numbers, a number that follows from it, or its rarest words."""
    same = [Item.gtin == sku.gtin] if sku.gtin else []
    same += [Item.mpn == sku.mpn] if sku.mpn else []
    found = list(desk.s.scalars(select(Item.id).where(or_(*same)).limit(20))) if same else []
    for one in patterns:
        if number := one.number(sku.code):
            found += desk.s.scalars(select(Item.id).where(Item.supplier_id == int(one.supplier), Item.number == number))
    return list(dict.fromkeys([*found, *_by_words(desk.s, f"{sku.title} {sku.options}")]))


def compare(sku: Sku, item: Item, patterns: Sequence[Pattern] = ()) -> Candidate:
    """One item against a SKU."""
    return _judged(sku, [item], patterns)[0]


def units_between(pairs: Sequence[tuple[Sku, Item]]) -> list[Fraction]:
    """Supplier units for one unit sold of each pair, by the packs that both speak of."""
    if not pairs:
        return []
    matcher = Matcher([row_of_item(item) for _, item in pairs], [row_of_sku(sku) for sku, _ in pairs])
    return [Fraction(ours.pack, theirs.pack) for ours, theirs in zip(matcher.ours, matcher.theirs, strict=True)]


def _judged(sku: Sku, items: Sequence[Item], patterns: Sequence[Pattern] = ()) -> list[Candidate]:
    if not items:
        return []
    found = match([row_of_sku(sku)], [row_of_item(one) for one in items], shown=len(items), patterns=patterns)[0]
    near = {one.theirs: Candidate(items[one.theirs], *told(one.evidence), _score(one), one.decision, one.evidence) for one in found}
    return [near.get(at) or Candidate(one, [], ["nothing of it is alike"], 0, "none") for at, one in enumerate(items)]


def _by_words(s: Session, text: str) -> list[int]:
    """Items that share the rarest words of a text, the nearest first."""
    words = list(dict.fromkeys(word for word in _WORD.findall(text.lower()) if len(word) > 2 and not word.isdigit()))[:16]
    if not words:
        return []
    if s.get_bind().dialect.name == "sqlite":
        link, marks = s.connection(), ",".join("?" * len(words))
        rows = link.exec_driver_sql(f"select term, doc from item_words where term in ({marks})", tuple(words)).all()
        if rows:
            picked: list[str] = []
            total = 0
            for word, n in sorted(rows, key=lambda row: row[1]):
                # Words that are in everything tell nothing and take long.
                if picked and (total + n > 3000 or len(picked) >= 6):
                    break
                picked.append(word)
                total += n
            query = " OR ".join(f'"{word}"' for word in picked)
            ranked = "select rowid from item_fts where item_fts match ? order by rank limit ?"
            return [int(row[0]) for row in link.exec_driver_sql(ranked, (query, LOOKED_AT))]
    near = [Item.title.icontains(word, autoescape=True) for word in sorted(words, key=lambda word: (-len(word), word))[:3]]
    return list(s.scalars(select(Item.id).where(or_(*near)).order_by(Item.id).limit(400)))


class Ours:
    """All our SKUs made ready for comparing, kept in memory. When SKUs have come or gone it is made anew beside the old one."""

    def __init__(self) -> None:
        self.mark: tuple[int, ...] = ()
        self.made: tuple[Matcher, list[tuple[str, str]]] | None = None
        self.lock = threading.Lock()
        self.making: threading.Thread | None = None
        self.not_before = 0.0

    def like(self, desk: Desk, items: Sequence[Item], most: int = 1, least: int = OURS_FROM, veto: bool = False) -> dict[int, list[Close]]:
        """SKUs that are like items; by item, the likest first. veto: also those of which something surely differs.

        Nothing is found while a large catalogue is being made ready for the first time.
        """
        self._follow(desk.s)
        if self.made is None or not items:
            return {}
        matcher, skus = self.made
        things = matcher.things([row_of_item(one) for one in items])
        out: dict[int, list[Close]] = {}
        for item, thing, near in zip(items, things, matcher.candidates(things), strict=True):
            rows = [(i, judge(matcher.theirs[i], thing, matcher.corpus)) for i in near[: 3 * most]]
            good = sorted((one for one in rows if one[1].score >= least and (veto or not one[1].veto)), key=lambda one: -one[1].score)
            out[item.id] = [Close(*skus[i], max(0, min(100, round(one.score))), *told(one.evidence)) for i, one in good[:most]]
        return out

    def warm(self, engine: Engine) -> None:
        """Make them ready beside whatever else begins, so that the first look does not wait for it.

        A large catalogue would slow down all other beginnings; it is made ready when somebody first looks for goods.
        """
        with self.lock:
            if self.made is None and self.making is None:
                with Session(engine) as s:
                    mark = _mark(s)
                if mark[0] > AT_ONCE:
                    return
                self.making = threading.Thread(target=self._make, args=(engine, mark), daemon=True)
                self.making.start()

    def _follow(self, s: Session) -> None:
        mark = _mark(s)
        with self.lock:
            if mark == self.mark or self.making is not None or time.monotonic() < self.not_before:
                return
            if self.made is None and mark[0] <= AT_ONCE:
                self.made, self.mark = _ready(s), mark
                return
            self.making = threading.Thread(target=self._make, args=(s.get_bind(), mark), daemon=True)
            self.making.start()

    def _make(self, engine: Engine, mark: tuple[int, ...]) -> None:
        begin = time.monotonic()
        try:
            with Session(engine) as s:
                made = _ready(s)
            with self.lock:
                self.made, self.mark = made, mark
                # New SKUs come in droves, and those that were just brought in are known by their lanes anyway.
                self.not_before = time.monotonic() + 20 * (time.monotonic() - begin)
        except SQLAlchemyError:
            # The house is being closed; whoever looks next has them made ready again.
            return
        finally:
            self.making = None


def _mark(s: Session) -> tuple[int, ...]:
    return tuple(s.execute(select(func.count(), func.coalesce(func.max(Sku.id), 0)).select_from(Sku)).one())


def _ready(s: Session) -> tuple[Matcher, list[tuple[str, str]]]:
    rows = s.execute(select(Sku.id, Sku.code, Sku.title, Sku.brand, Sku.gtin, Sku.mpn, Sku.options).order_by(Sku.id)).all()
    matcher = Matcher([Row(str(r.id), r.title, r.brand, r.gtin, r.mpn, options=r.options) for r in rows])
    return matcher, [(row.code, row.title) for row in rows]
