"""Catalogues made of traps: what looks the same and is not. With the truth, in words that no other catalogue here has."""

from __future__ import annotations

import random

from amber_lane.core.likeness import ThingRow

from .matching import Made, barcode

GOODS = [
    "camp stove",
    "paddle leash",
    "kettle base",
    "pedal wrench",
    "awning pole",
    "wind vane",
    "bilge pump",
    "lamp hanger",
    "ski strap",
    "tide clock",
    "rope ladder",
    "anchor buoy",
    "deck brush",
    "hatch lock",
    "sail tie",
    "fuel gauge",
]
MAKERS = ["Hollowmere", "Quillstead", "Ardrishaw", "Penwarren", "Tamsel", "Oakrigg", "Lynchmoor", "Brindlecombe", "Sedgeway"]
FINISHES = ["brushed", "hammered", "satin", "matt", "mirror"]
COLOURS = ["red", "teal", "ivory", "navy", "copper"]
SIZES = ["S", "M", "L", "XL", "XXL"]
EXTRAS = ["controller", "carry case", "cover", "refill", "spare part", "bundle", "charger", "replacement screw", "adapter", "service kit"]
LABELS = ["mk {n}", "no. {n}", "series {n}", "size 4{n}", "{n} mm", "A{n}", "model {n}", "gen {n}"]
PACKS = ["pack of {n}", "x{n}", "{n} x", "{n}-pack", "set of {n}", "{n} pcs", "{n} pieces", "box of {n}"]


class _Maker:
    def __init__(self, seed: int) -> None:
        self.rng, self.made, self.n = random.Random(seed), Made([], [], set()), 0

    def sku(self, title: str, gtin: str = "", brand: str = "", price: float = 0.0) -> int:
        self.made.skus.append(ThingRow(f"T-{len(self.made.skus):04d}", title, brand, gtin, "", 1, price, "GBP"))
        return len(self.made.skus) - 1

    def item(self, title: str, gtin: str = "", brand: str = "", pack: int = 1, of: int | None = None, other: int | None = None) -> int:
        place = len(self.made.items)
        self.made.items.append(ThingRow(f"I-{place:05d}", title, brand, gtin, "", pack, 0.0, "GBP", self.rng.choice(("up", "down"))))
        if of is not None:
            self.made.truth.add((of, place))
        if other is not None:
            self.made.other.add((other, place))
        return place

    def code(self) -> str:
        self.n += 1
        return barcode(700_000 + self.n)

    def thing(self) -> tuple[str, str]:
        """A thing that stands once: a maker, and words that no other has together."""
        self.n += 1
        maker = self.rng.choice(MAKERS)
        return maker, f"{self.rng.choice(FINISHES)} {self.rng.choice(GOODS)} {_word(self.n)}"

    def numbered(self) -> None:
        """A number that belongs to the word before it, beside a pack."""
        maker, what = self.thing()
        label, n, count = self.rng.choice(LABELS), self.rng.randint(2, 5), self.rng.randint(2, 6)
        mine = self.sku(f"{maker} {what} {label.format(n=n)} {self.rng.choice(PACKS).format(n=count)}")
        for other in range(1, 7):
            title = f"{what} {label.format(n=other)} {maker} {self.rng.choice(PACKS).format(n=count)}"
            self.item(title, pack=count if self.rng.random() < 0.5 else 1, of=mine if other == n else None)
        self.item(f"{maker} {what} {label.format(n=n)}", other=mine)

    def extra(self) -> None:
        """Accessories, spare parts, cases and bundles of it; the thing itself only sometimes."""
        maker, what = self.thing()
        mine = self.sku(f"{what} {maker}")
        for one in self.rng.sample(EXTRAS, 3):
            self.item(self.rng.choice((f"{maker} {what} {one}", f"{one} for {maker} {what}", f"{what} {maker} with {one}")))
        if self.rng.random() < 0.5:
            self.item(f"{maker} {what}", of=mine)

    def cut(self) -> None:
        """An option is cut off our title; a barcode decides, or nobody can."""
        maker, what = self.thing()
        options = self.rng.choice((SIZES, COLOURS))
        codes = [self.code() for _ in options]
        told = self.rng.randrange(len(options))
        known = self.rng.random() < 0.4
        mine = self.sku(f"{maker} {what}", codes[told] if known else "")
        for place, option in enumerate(options):
            self.item(f"{what} {option} {maker}", codes[place], of=mine if known and place == told else None)

    def conflict(self) -> None:
        """The same words, and a barcode that says otherwise."""
        maker, what = self.thing()
        self.sku(f"{maker} {what}", self.code())
        self.item(f"{what} {maker}", self.code())

    def makers(self, names: list[str] = MAKERS, n: int = 4) -> None:
        """The same goods of several makers; ours is of one that nobody sells here."""
        _, what = self.thing()
        mine, *others = self.rng.sample(names, n) if names is MAKERS else names
        self.sku(f"{mine} {what}", self.code() if self.rng.random() < 0.5 else "", mine if self.rng.random() < 0.5 else "")
        for other in others:
            self.item(f"{other} {what}", self.code(), other if self.rng.random() < 0.5 else "")

    def packs(self) -> None:
        """The same in several packs, ours among them or not."""
        maker, what = self.thing()
        n = self.rng.choice((1, 2, 3, 5))
        mine = self.sku(f"{maker} {what} {self.rng.choice(PACKS).format(n=n)}" if n > 1 else f"{maker} {what}")
        have = self.rng.random() < 0.6
        for count in (1, 2, 3, 5, 12):
            title = f"{what} {maker} {self.rng.choice(PACKS).format(n=count)}" if count > 1 else f"{what} {maker}"
            if count != n:
                self.item(title, pack=count, other=mine)
            elif have:
                self.item(title, pack=count, of=mine)


def _word(n: int) -> str:
    """A word of its own for each thing, so that only the traps are alike."""
    syllables = ("bra", "cet", "dol", "fip", "gur", "hesk", "jal", "kem", "lort", "mab", "nuv", "pel")
    out = ""
    n += 1000
    while n:
        n, at = divmod(n, len(syllables))
        out += syllables[at]
    return out


def traps(seed: int, each: int = 25) -> Made:
    """So many of each kind of trap, in one catalogue; `other` of what it returns: the same thing in another pack."""
    made = _Maker(seed)
    kinds = [made.numbered, made.extra, made.cut, made.conflict, made.makers, made.packs] * each
    made.rng.shuffle(kinds)
    for kind in kinds:
        kind()
    return made.made


def leftovers(seed: int) -> Made:
    """A second, poorer sheet: eighteen SKUs whose items other makers have, too few to learn a language from."""
    made = _Maker(seed)
    for _ in range(18):
        made.makers(["Hollowmere", "Tamsel"])
    return made.made
