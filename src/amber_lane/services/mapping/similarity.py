"""Which items are like a SKU and which SKUs are like an item, by the core's likeness, among the few that share its words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from ...core.likeness import Comparison, Evidence, Likely, Matcher, Pattern, ThingRow, judge, match, message
from ...data import words
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Rejection
from ...data.setup import Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base.context import Context

# So many items that share a SKU's rarest words are compared with it in full.
LOOKED_AT = 120
LIKE_FROM, OURS_FROM = 25, 80
# SKUs that share an item's rarest words; a page of items is compared with theirs.
SKUS_LOOKED_AT = 6
# So many SKUs tell which words are rare with us.
LEARNT_FROM = 300
# How many of those with a word are put in order for each that is looked at.
READ_FOR = 25
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


def row_of_sku(sku: Sku) -> ThingRow:
    return ThingRow(str(sku.id), sku.title, sku.brand, sku.gtin, sku.mpn, options=sku.options, number=sku.code)


def row_of_item(item: Item) -> ThingRow:
    return ThingRow(
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


def _score(one: Likely | Comparison) -> int:
    return max(0, min(100, round(one.score)))


def search_items(context: Context, text: str, supplier: int | None = None, limit: int = 50) -> list[Item]:
    """Items whose title, number or barcode hold all the words."""
    query = select(Item).join(Supplier, Supplier.id == Item.supplier_id).where(Supplier.ended_at.is_(None))
    query = query.order_by(Item.stock.desc(), Item.id).limit(limit)
    for word in text.split()[:8]:
        holds = (column.icontains(word, autoescape=True) for column in (Item.title, Item.number))
        query = query.where(or_(*holds, Item.gtin == word, Item.mpn == word))
    if supplier:
        query = query.where(Item.supplier_id == supplier)
    return list(context.session.scalars(query))


def candidates(context: Context, sku: Sku, text: str = "", limit: int = 9, patterns: Sequence[Pattern] = ()) -> list[Candidate]:
    """Items for a SKU, the likest first: those that a search finds, or by its numbers and rarest words.

    Pairs that a person has refused are not offered again, unless they are searched for.
    """
    if text.strip():
        found = search_items(context, text)
    else:
        refused = set(context.session.scalars(select(Rejection.item_id).where(Rejection.sku_id == sku.id)))
        near = by_id(context.session, Item, near_items(context, sku, patterns)).values()
        ended = set(context.session.scalars(select(Supplier.id).where(Supplier.ended_at.is_not(None))))
        found = [one for one in near if one.id not in refused and one.supplier_id not in ended]
    rows = _judged(sku, found, patterns)
    return sorted(rows, key=lambda one: (-one.score, one.item.cost, one.item.id))[:limit]


def near_items(context: Context, sku: Sku, patterns: Sequence[Pattern] = ()) -> list[int]:
    """Items worth comparing with a SKU: with one of its numbers, a number that follows from it, or its rarest words."""
    same = [Item.gtin == sku.gtin] if sku.gtin else []
    same += [Item.mpn == sku.mpn] if sku.mpn else []
    found = list(context.session.scalars(select(Item.id).where(or_(*same)).limit(20))) if same else []
    for one in patterns:
        if number := one.number(sku.code):
            found += context.session.scalars(select(Item.id).where(Item.supplier_id == int(one.supplier), Item.number == number))
    return list(dict.fromkeys([*found, *_by_words(context.session, Item, [f"{sku.title} {sku.options}"], LOOKED_AT)[0]]))


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
    near = {one.theirs: Candidate(items[one.theirs], *message(one.evidence), _score(one), one.decision, one.evidence) for one in found}
    return [near.get(at) or Candidate(one, [], ["nothing of it is alike"], 0, "none") for at, one in enumerate(items)]


def _by_words(s: Session, kind: type[Item] | type[Sku], texts: Sequence[str], most: int) -> list[list[int]]:
    """For each text the items or SKUs that share its rarest words, the nearest first."""
    said = [list(dict.fromkeys(word for word in _WORD.findall(text.lower()) if len(word) > 2))[:16] for text in texts]
    if s.get_bind().dialect.name != "sqlite":
        return [_by_longest(s, kind, one) for one in said]
    link, (index, counted) = s.connection(), words.COUNTED[kind.__tablename__]
    n: dict[str, int] = {}
    for part in in_chunks(sorted({word for one in said for word in one})):
        marks = ",".join("?" * len(part))
        rows = link.exec_driver_sql(f"select term, doc from {counted} where term in ({marks})", tuple(part))
        n |= {row.term: row.doc for row in rows}
    ranked = f"select rowid from {index} where {index} match ? order by rank limit ?"
    out = []
    for one in said:
        query = _rarest({word: n[word] for word in one if word in n}, READ_FOR * most)
        if query or kind is Sku:
            out.append([int(row[0]) for row in link.exec_driver_sql(ranked, (query, most))] if query else [])
        else:
            # Items that have just come are in the index a little later.
            out.append(_by_longest(s, kind, one))
    return out


def _rarest(n: dict[str, int], most: int) -> str:
    """A search for the rarest of some words, by how many things each is in; about so many things are to be found and put in order."""
    rare = sorted(n, key=lambda word: n[word])
    if rare and n[rare[0]] > most:
        # All are in very many things, which are told apart only by having two of them.
        return " AND ".join(f'"{word}"' for word in rare[:2])
    picked: list[str] = []
    for word in rare[:6]:
        # Words that are in everything tell nothing and take long.
        if picked and sum(n[one] for one in picked) + n[word] > most:
            break
        picked.append(word)
    return " OR ".join(f'"{word}"' for word in picked)


def _by_longest(s: Session, kind: type[Item] | type[Sku], said: Sequence[str]) -> list[int]:
    """Where no index counts words: by the longest, which are rare as a rule."""
    near = [kind.title.icontains(word, autoescape=True) for word in sorted(said, key=lambda word: (-len(word), word))[:3]]
    return list(s.scalars(select(kind.id).where(or_(*near)).order_by(kind.id).limit(400))) if near else []


def close(context: Context, items: Sequence[Item], most: int = 1, least: int = OURS_FROM, veto: bool = False) -> dict[int, list[Close]]:
    """SKUs that are like items; by item, the likest first. veto: also those of which something surely differs."""
    near = dict(zip([one.id for one in items], _near_skus(context.session, items), strict=True))
    skus = list(by_id(context.session, Sku, {number for found in near.values() for number in found}).values())
    place = {sku.id: at for at, sku in enumerate(skus)}
    some = context.kept("words of our SKUs", _spread, 30, still=True)
    matcher = Matcher([row_of_sku(sku) for sku in skus], [row_of_item(item) for item in items], some)
    out: dict[int, list[Close]] = {}
    for item, thing in zip(items, matcher.ours, strict=True):
        rows = [(skus[place[i]], judge(matcher.theirs[place[i]], thing, matcher.corpus)) for i in near[item.id] if i in place]
        good = sorted((one for one in rows if one[1].score >= least and (veto or not one[1].veto)), key=lambda one: -one[1].score)
        out[item.id] = [Close(sku.code, sku.title, _score(one), *message(one.evidence)) for sku, one in good[:most]]
    return out


def _spread(context: Context) -> list[ThingRow]:
    """SKUs from all over the house: which words are rare in it is learnt from them."""
    last = context.session.scalar(select(func.max(Sku.id))) or 0
    wanted = range(1, last + 1, max(1, last // LEARNT_FROM))
    return [row_of_sku(sku) for sku in by_id(context.session, Sku, wanted).values()]


def _near_skus(s: Session, items: Sequence[Item]) -> list[list[int]]:
    """For each item the SKUs worth comparing: with its barcode, or its rarest words and its maker's number."""
    same: dict[str, list[int]] = {}
    for part in in_chunks([one.gtin for one in items if one.gtin]):
        for gtin, number in s.execute(select(Sku.gtin, Sku.id).where(Sku.gtin.in_(part)).order_by(Sku.id)).tuples():
            same.setdefault(gtin, []).append(number)
    by_words = _by_words(s, Sku, [f"{one.title} {one.options} {one.mpn}" for one in items], SKUS_LOOKED_AT)
    return [list(dict.fromkeys([*same.get(item.gtin, [])[:5], *found])) for item, found in zip(items, by_words, strict=True)]
