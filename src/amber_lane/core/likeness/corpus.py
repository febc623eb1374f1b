"""What many titles together say of their words: how telling each is, which stand in each other's place, which say nothing."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterable, Sequence
from hashlib import blake2b
from itertools import combinations

import numpy as np

from .read import Thing

COLOURS = frozenset(
    [
        "black",
        "white",
        "grey",
        "red",
        "blue",
        "green",
        "navy",
        "olive",
        "sand",
        "brown",
        "beige",
        "pink",
        "purple",
        "yellow",
        "orange",
        "teal",
        "gold",
        "silver",
        "bronze",
        "copper",
        "cream",
        "ivory",
        "khaki",
        "moss",
        "mustard",
        "maroon",
        "turquoise",
        "violet",
        "lilac",
        "tan",
        "charcoal",
        "burgundy",
        "coral",
        "mint",
        "rose",
        "amber",
        "indigo",
    ]
)
MATERIALS = frozenset(
    [
        "canvas",
        "aluminium",
        "steel",
        "silicone",
        "leather",
        "cotton",
        "wool",
        "plastic",
        "wood",
        "wooden",
        "brass",
        "rubber",
        "nylon",
        "polyester",
        "bamboo",
        "glass",
        "ceramic",
        "felt",
        "titanium",
        "carbon",
        "laminated",
        "paper",
        "foam",
        "fleece",
        "linen",
        "acrylic",
        "iron",
    ]
)
# Words of what belongs to a thing and is not the thing: where only one side says one, it is something else.
EXTRAS = frozenset(
    [
        "accessory", "accessories", "spare", "spares", "replacement", "refill", "refills", "case", "cases", "controller", "controllers",
        "cover", "covers", "bundle", "bundles", "charger", "chargers", "adapter", "adaptor", "adapters", "pouch", "pouches", "kit", "kits",
        "lid", "lids", "cable", "cables", "remote", "cartridge", "cartridges", "sleeve", "holder", "holders", "mount", "mounts", "stand",
        "bracket", "brackets", "strap", "straps", "bag", "bags", "filter", "filters", "battery", "batteries", "screw", "screws", "part",
        "parts", "plug", "hose", "lead", "dock", "cradle", "sticker", "stickers", "manual", "hinge", "knob", "nozzle", "tip", "tips",
        "blade", "blades", "bulb", "bulbs", "fitting", "fittings", "attachment", "attachments", "insert", "inserts", "only",
    ]
)  # fmt: skip
KINDS = (("colour", COLOURS), ("material", MATERIALS))
PAIR_MOST = 60
# A word must be wanting on one side of so many proven pairs before it is taken to say nothing.
PROVEN_LEAST = 4
_LABELLED = re.compile(r"^([a-z]+)(\d+(?:\.\d+)?)$")
MASK = (1 << 64) - 1


class Corpus:
    """Facts of the words in all titles of both sides."""

    def __init__(self, things: Sequence[Thing]) -> None:
        df: Counter[str] = Counter()
        for thing in things:
            df.update(thing.words.keys())
        self.n = max(len(things), 1)
        top = math.log(1 + self.n)
        self.weight = {word: max(0.12, math.log(1 + self.n / count) / top) for word, count in df.items()}
        self.df = df
        self.places = Places(things)
        self.instead = self.places.instead()
        self.empty: set[str] = set()
        self.makers = {word for thing in things for word in thing.brand}

    def learn_empty(self, pairs: Iterable[tuple[Thing, Thing]]) -> None:
        """Words that one side has and the other lacks, time and again, in pairs that numbers prove to be the same thing.

        Only such pairs can teach that: between two that merely look alike, the word may be all the difference. Never an option's, a
        maker's or an extra's word.
        """
        both: Counter[str] = Counter()
        either: Counter[str] = Counter()
        for one, other in pairs:
            both.update((one.words & other.words).keys())
            either.update((one.words | other.words).keys())
        self.empty = {word for word, n in either.items() if n >= PROVEN_LEAST and both[word] <= 0.34 * n and self.may_be_empty(word)}

    def may_be_empty(self, word: str) -> bool:
        """Whether a word could be one that says nothing of which thing it is."""
        known = COLOURS | MATERIALS | EXTRAS
        return word not in known and word not in self.makers and not any(letter.isdecimal() for letter in word)

    def rivals(self, one: str, other: str) -> str:
        """What kind of choice two words are between; '' where they may both be true of a thing."""
        for name, words in KINDS:
            if one in words and other in words:
                return name
        if one.isdecimal() and other.isdecimal():
            return "number"
        if one in self.makers and other in self.makers:
            return "maker"
        mine, theirs = _LABELLED.match(one), _LABELLED.match(other)
        if mine and theirs and mine[1] == theirs[1] and mine[2] != theirs[2]:
            return "number"
        n = self.instead.get((one, other) if one < other else (other, one), 0)
        return "kind" if n >= 2 else ""

    def unfinished(self, thing: Thing) -> bool:
        """Whether there are things that say the same and one thing more, so that this wording may be any of them."""
        # Who says nothing of a pack sells one.
        return any(word not in self.empty and not word.startswith("pack=") for word in self.places.more(thing))


def tokens(thing: Thing) -> list[str]:
    """All that is said of a thing as words, however it was written."""
    out = list(thing.words.elements())
    out += [f"{kind}={' '.join(f'{value:.2g}' for value in values)}" for kind, values, _ in thing.measures]
    return out + [f"size={one}" for one in thing.sizes] + ([f"pack={thing.pack}"] if thing.pack > 1 else [])


def _mark(word: str) -> int:
    """A word as a number; sums of them stand for titles whatever the order. The same in every run."""
    return int.from_bytes(blake2b(word.encode(), digest_size=8).digest(), "big")


class Places:
    """Every title less one of its words, so that titles which differ in one word, or have one more, are found."""

    def __init__(self, things: Sequence[Thing]) -> None:
        marks: dict[str, int] = {}
        numbers: dict[str, int] = {}
        self.names: list[str] = []
        keys: list[int] = []
        which: list[int] = []
        for thing in things:
            said = tokens(thing)
            total = 0
            for word in said:
                if word not in marks:
                    marks[word], numbers[word] = _mark(word), len(self.names)
                    self.names.append(word)
                total += marks[word]
            for word in set(said):
                keys.append((total - marks[word]) & MASK)
                which.append(numbers[word])
        table = np.array(keys, np.uint64), np.array(which, np.int64)
        order = np.lexsort((table[1], table[0]))
        key, number = table[0][order], table[1][order]
        first = np.ones(len(key), np.bool_)
        first[1:] = (key[1:] != key[:-1]) | (number[1:] != number[:-1])
        self.key, self.number = key[first], number[first]

    def instead(self) -> dict[tuple[str, str], int]:
        """How often each pair of words stands in the same place of titles that are otherwise the same."""
        starts = np.flatnonzero(np.concatenate([[True], self.key[1:] != self.key[:-1]])) if len(self.key) else np.zeros(0, np.int64)
        sizes = np.diff(np.append(starts, len(self.key)))
        out: Counter[tuple[str, str]] = Counter()
        for start, size in zip(starts[sizes > 1].tolist(), sizes[sizes > 1].tolist(), strict=True):
            if size <= PAIR_MOST:
                out.update(combinations(sorted(self.names[i] for i in self.number[start : start + size].tolist()), 2))
        return out

    def more(self, thing: Thing) -> list[str]:
        """Words that other titles have beside all that a thing says."""
        total = np.uint64(sum(_mark(word) for word in tokens(thing)) & MASK)
        lo, hi = np.searchsorted(self.key, total, "left"), np.searchsorted(self.key, total, "right")
        return [self.names[i] for i in self.number[lo:hi].tolist()]
