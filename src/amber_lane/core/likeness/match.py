"""SKUs against supplier items: the likest of each, with the evidence, and which are sure (section 6)."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from .corpus import Corpus, tokens
from .judge import Comparison, Evidence, judge, proven
from .patterns import Pattern
from .read import Thing, read_thing
from .words import Vocabulary, split

if TYPE_CHECKING:
    from scipy import sparse

OPEN, REVIEW, NONE = "open", "review", "none"
# What must be alike before anything is sure, and before a person is asked at all.
LIKE_WITH_ID, LIKE_ALONE, ASK_FROM = 0.5, 0.9, 40.0
# Alike enough to be members of one family.
FAMILY_LIKE = 0.7
SHOWN, LOOKED_AT, CHUNK = 5, 9, 256
# A price that stands this many deviations from what is usual for its cost speaks against it.
ODD_PRICE = 2.2
COMMON = 0.25
LEARNT_FROM = 1500


ONE = Fraction(1)


@dataclass(frozen=True, slots=True)
class ThingRow:
    """A SKU or an item as it is told. pack 1 = not told; price: ours, or their cost, in `currency` (0 = not told).

    number: our SKU, or the supplier's number, where patterns between the two are to count.
    """

    key: str
    title: str
    brand: str = ""
    gtin: str = ""
    mpn: str = ""
    pack: int = 1
    price: float = 0.0
    currency: str = ""
    supplier: str = ""
    options: str = ""
    number: str = ""


@dataclass(slots=True)
class Likely:
    """One item for a SKU. ours, theirs: places in the two lists; decision: open, review or none."""

    ours: int
    theirs: int
    score: float
    decision: str
    evidence: list[Evidence]
    # Supplier units for one unit sold, by the packs that both speak of.
    units: Fraction = ONE


class Matcher:
    """Items made ready once; SKUs are matched against them in any number."""

    def __init__(self, items: Sequence[ThingRow], skus: Sequence[ThingRow] = (), known: Sequence[ThingRow] = ()) -> None:
        """known: more SKUs of the house; words are learnt from them, and they are not matched."""
        self.rows = items
        everything = (*skus, *items, *known)
        raw = [split(_title(row)) for row in everything]
        brands = [split(row.brand) for row in everything]
        self.vocabulary = Vocabulary([*raw, *(one for one in brands if one)])
        n = len(skus)
        things = [_thing(row, raw[i], brands[i], self.vocabulary) for i, row in enumerate(everything)]
        self.ours, self.theirs, self.known = things[:n], things[n : n + len(items)], things[n + len(items) :]
        self.corpus = Corpus(things)
        self.by_gtin, self.by_mpn = _places(one.gtin for one in self.theirs), _places(one.mpn for one in self.theirs)
        self.columns: dict[str, int] = {}

    @cached_property
    def near(self) -> tuple[sparse.csr_matrix, np.ndarray[tuple[int], np.dtype[np.float32]]]:
        """The items' words turned about, to find what shares them, and the sum of each item's; made when first asked for."""
        matrix = self._matrix(self.theirs, grow=True)
        return matrix.T.tocsr(), np.asarray(matrix.sum(axis=1)).ravel().astype(np.float32)

    def things(self, rows: Sequence[ThingRow]) -> list[Thing]:
        """Other rows, read by the words that are known here."""
        return [_thing(row, split(_title(row)), split(row.brand), self.vocabulary) for row in rows]

    def learn(self) -> None:
        """Find words that say nothing, from pairs that their numbers prove to be the same and nothing speaks against."""
        everything = [*self.ours, *self.known]
        step = max(1, len(everything) // LEARNT_FROM)
        pairs = []
        for mine in everything[::step]:
            ids = {*self.by_gtin.get(mine.gtin, ())[:4], *self.by_mpn.get(mine.mpn, ())[:4]}
            for i in ids:
                one = judge(mine, self.theirs[i], self.corpus)
                if one.same_id and not one.veto and not one.other_id and not one.other_pack and one.likeness >= LIKE_WITH_ID:
                    pairs.append((mine, self.theirs[i]))
        self.corpus.learn_empty(pairs)

    def _features(self, thing: Thing) -> dict[str, float]:
        out: dict[str, float] = {}
        for word in tokens(thing):
            df = self.corpus.df.get(word, 0)
            if df > COMMON * self.corpus.n and self.corpus.n > 400:
                continue
            out[word] = self.corpus.weight.get(word, 0.5)
            if df <= 3 and word.isalpha() and len(word) >= 5:
                # A word that hardly anybody has may be one that could not be mended; its parts may still be found.
                for at in range(len(word) - 2):
                    out[f"~{word[at : at + 3]}"] = 0.12
        return out

    def _matrix(self, things: Sequence[Thing], grow: bool = False) -> sparse.csr_matrix:
        # Loaded where it is used: it takes as much memory as all that follows prices.
        from scipy import sparse

        data: list[float] = []
        places: list[int] = []
        ends = [0]
        for thing in things:
            for name, weight in self._features(thing).items():
                if grow:
                    place = self.columns.setdefault(name, len(self.columns))
                elif (found := self.columns.get(name)) is None:
                    continue
                else:
                    place = found
                places.append(place)
                data.append(weight)
            ends.append(len(places))
        shape = (len(things), max(len(self.columns), 1))
        return sparse.csr_matrix((np.array(data, np.float32), np.array(places, np.int32), np.array(ends, np.int64)), shape=shape)

    def candidates(self, things: Sequence[Thing], progress: Callable[[int], None] = lambda n: None) -> list[list[int]]:
        """For each thing the places of the items that are worth comparing: the nearest by words, and all with one of its numbers."""
        turned, sums = self.near
        mine = self._matrix(things)
        own = np.asarray(mine.sum(axis=1)).ravel().astype(np.float32)
        out: list[list[int]] = []
        for start in range(0, len(things), CHUNK):
            part = (mine[start : start + CHUNK] @ turned).tocsr()
            for row in range(part.shape[0]):
                at = part.indices[part.indptr[row] : part.indptr[row + 1]]
                shared = part.data[part.indptr[row] : part.indptr[row + 1]]
                like = shared / (own[start + row] + sums[at] - shared + 1e-6)
                if len(at) > LOOKED_AT:
                    some = np.argpartition(-like, LOOKED_AT)[:LOOKED_AT]
                    at, like = at[some], like[some]
                at = at[np.lexsort((at, -like))]
                thing = things[start + row]
                ids = [*self.by_gtin.get(thing.gtin, ())[:50], *self.by_mpn.get(thing.mpn, ())[:50]]
                out.append(list(dict.fromkeys([*ids, *at.tolist()])))
            progress(min(start + CHUNK, len(things)))
        return out


def _title(row: ThingRow) -> str:
    return f"{row.title} {row.options}" if row.options and row.options.casefold() not in row.title.casefold() else row.title


def _thing(row: ThingRow, title: Sequence[str], brand: Sequence[str], vocabulary: Vocabulary) -> Thing:
    return read_thing(row.key, title, vocabulary, brand, row.gtin, row.mpn, row.pack, row.price)


def _places(values: Iterable[str]) -> dict[str, list[int]]:
    out: dict[str, list[int]] = {}
    for place, value in enumerate(values):
        if value:
            out.setdefault(value, []).append(place)
    return out


def match(  # noqa: PLR0913 - its options, by name
    skus: Sequence[ThingRow],
    items: Sequence[ThingRow],
    rejected: Collection[tuple[str, str]] = (),
    progress: Callable[[int], None] = lambda n: None,
    shown: int = SHOWN,
    patterns: Sequence[Pattern] = (),
    known: Sequence[ThingRow] = (),
    other_packs: bool = False,
) -> list[list[Likely]]:
    """The likest items of each SKU, at most `shown`, the likest first, with a decision on each.

    rejected: (SKU, item) keys that a person said are not the same; they are never offered.
    patterns: how suppliers' numbers follow from ours; a number that one of them names counts like a maker's number.
    known: more SKUs of the house, so that what is learnt of its words does not hang on which of them are matched now.
    other_packs: the same thing in another pack may be sure too, where there is none in the same pack.
    """
    matcher = Matcher(items, skus, known)
    named = _named(skus, items, patterns)
    judged: list[list[tuple[int, Comparison]]] = []
    nearest = matcher.candidates(matcher.ours, progress)
    matcher.learn()
    for place, near in enumerate(nearest):
        mine, by_number = matcher.ours[place], named.get(place, {})
        rows = []
        for i in dict.fromkeys([*by_number, *near]):
            if (mine.key, matcher.theirs[i].key) not in rejected:
                one = judge(mine, matcher.theirs[i], matcher.corpus)
                rows.append((i, proven(one, by_number[i]) if i in by_number else one))
        judged.append(sorted(rows, key=lambda one: (-one[1].score, one[0])))
    usual = _usual(skus, items, judged)
    sure = _decide(skus, items, judged, usual, [matcher.corpus.unfinished(one) for one in matcher.ours], other_packs)
    out = []
    for place, rows in enumerate(judged):
        found = [
            Likely(
                place,
                i,
                one.score,
                OPEN if (place, i) in sure else REVIEW if one.score >= ASK_FROM else NONE,
                one.evidence,
                Fraction(matcher.ours[place].pack, matcher.theirs[i].pack),
            )
            for i, one in rows
        ]
        found.sort(key=lambda one: (one.decision != OPEN, -one.score, one.theirs))
        out.append(found[:shown])
    return out


def _named(skus: Sequence[ThingRow], items: Sequence[ThingRow], patterns: Sequence[Pattern]) -> dict[int, dict[int, str]]:
    """Places of items whose number follows from a SKU's by a pattern, with the pattern in words."""
    if not patterns:
        return {}
    places = {(row.supplier, row.number): place for place, row in enumerate(items) if row.number}
    out: dict[int, dict[int, str]] = {}
    for place, sku in enumerate(skus):
        for one in patterns:
            there = places.get((one.supplier, one.number(sku.number)))
            if there is not None:
                out.setdefault(place, {})[there] = f"{one.message}, as in {one.seen} lanes"
    return out


def _usual(
    skus: Sequence[ThingRow], items: Sequence[ThingRow], judged: Sequence[Sequence[tuple[int, Comparison]]]
) -> dict[tuple[str, str], tuple[float, float]]:
    """How prices usually stand to costs, per pair of currencies: mean and deviation of the logarithm, where enough is sure."""
    logs: dict[tuple[str, str], list[float]] = defaultdict(list)
    for place, rows in enumerate(judged):
        for i, one in rows:
            if one.same_id and not one.veto and one.likeness >= LIKE_WITH_ID and skus[place].price > 0 and items[i].price > 0:
                logs[skus[place].currency, items[i].currency].append(math.log(skus[place].price / items[i].price))
    out = {}
    for pair, values in logs.items():
        if len(values) >= 20:
            middle = float(np.median(values))
            out[pair] = (middle, max(1.4826 * float(np.median(np.abs(np.array(values) - middle))), 0.05))
    return out


def _odd(sku: ThingRow, item: ThingRow, usual: dict[tuple[str, str], tuple[float, float]]) -> bool:
    if sku.price <= 0 or item.price <= 0:
        return False
    usual_ratio = usual.get((sku.currency, item.currency))
    if usual_ratio is None:
        return sku.currency == item.currency and not 0.8 <= sku.price / item.price <= 6
    return abs(math.log(sku.price / item.price) - usual_ratio[0]) > ODD_PRICE * usual_ratio[1]


def _open_choice(rows: Sequence[tuple[int, Comparison]]) -> bool:
    """Whether members of the item's family differ in an option that the SKU does not say: two sizes or colours of what else is alike."""
    options = {tuple(one.options) for _, one in rows if one.options and not one.veto and one.likeness >= FAMILY_LIKE}
    return len(options) > 1


def _decide(
    skus: Sequence[ThingRow],
    items: Sequence[ThingRow],
    judged: Sequence[Sequence[tuple[int, Comparison]]],
    usual: dict[tuple[str, str], tuple[float, float]],
    unfinished: Sequence[bool],
    other_packs: bool = False,
) -> set[tuple[int, int]]:
    """Pairs that are sure. An item goes to one SKU, and of one supplier a SKU takes one item: where two fit alike, a person decides."""
    fits: dict[tuple[int, int], Comparison] = {}
    for place, rows in enumerate(judged):
        for i, one in rows:
            whole = not one.silent_ours and not one.silent_theirs
            enough = (
                one.likeness >= LIKE_WITH_ID
                if one.same_id
                else one.likeness >= LIKE_ALONE and whole and not one.other_id and not unfinished[place] and not _open_choice(rows)
            )
            # A barcode in conflict is never sure, whatever else agrees.
            packs = not one.other_pack or other_packs
            if not one.veto and not one.other_code and packs and enough and not _odd(skus[place], items[i], usual):
                fits[place, i] = one
    # Another pack is taken only where nothing in the same pack would do.
    same_pack = {place for (place, _), one in fits.items() if not one.other_pack}
    fits = {pair: one for pair, one in fits.items() if not one.other_pack or pair[0] not in same_pack}
    of_item: dict[int, list[int]] = defaultdict(list)
    for place, i in fits:
        of_item[i].append(place)
    for i, places in of_item.items():
        named = [place for place in places if fits[place, i].same_id]
        for place in places:
            if len(places) > 1 and (len(named) != 1 or place != named[0]):
                fits.pop((place, i))
    of_sku: dict[tuple[int, str], list[int]] = defaultdict(list)
    for place, i in fits:
        of_sku[place, items[i].supplier].append(i)
    sure: set[tuple[int, int]] = set()
    for (place, _), found in of_sku.items():
        named = [i for i in found if fits[place, i].same_id]
        pick = found if len(found) == 1 else named if len(named) == 1 else []
        sure.update((place, i) for i in pick)
    return sure
