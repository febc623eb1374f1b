"""Made-up catalogues that say the same things in other words, with the truth of which is which. For tests and benchmarks."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

from amber_lane.core.likeness import ThingRow

THINGS = [
    "watering can",
    "kneeling pad",
    "plant label",
    "seed tray",
    "twine holder",
    "bird feeder",
    "hose nozzle",
    "trellis clip",
    "compost bin liner",
    "pruning saw",
    "garden apron",
    "frost cover",
    "rain gauge",
    "soil scoop",
    "bulb planter",
    "wall bracket",
]
MAKERS = ["", "Brackenhay", "Tolliver", "Oxmoor", "Suttonby", "Greel & Co", "Vintershaw"]
FEATURES = ["galvanised", "collapsible", "telescopic", "insulated", "reversible", "foldaway", "heavy duty", "rotating"]
MATERIALS = ["terracotta", "jute", "steel", "rubber", "coir", "bamboo", "cotton", "zinc"]
COLOURS = ["moss green", "terracotta red", "black", "cream", "slate", "ochre", "white", "plum"]
NOISE = ["bestseller", "eco", "for garden", "2025 range", "handy", "sturdy", "limited", "for home"]
SHORT = {
    "galvanised": ["galv.", "galvanized"], "collapsible": ["coll.", "collaps."], "telescopic": ["tele.", "telesc."], "black": ["blk"],
    "insulated": ["insul.", "insltd"], "reversible": ["rev."], "white": ["wht"], "steel": ["stl"], "cotton": ["cott.", "ctn"],
    "bamboo": ["bmbo"], "rubber": ["rub."],
}  # fmt: skip
SIZES = [
    ["500 ml", "0.5 l", "0,5 l", "500ml"], ["1.5 l", "1500 ml", "1,5 L"], ["12 in", '12"', "30.5 cm", "305 mm"], ["20 cm", "200 mm", "0.2 m"],
    ["1/2 in", "12.7 mm", '0.5"'], ["2 kg", "2000 g", "2kg"], ["5 x 7 cm", "50 x 70 mm", "7 x 5 cm"], ["S", "small"], ["M", "medium"],
    ["L", "large"], ["XL", "extra large"], ["A5"], ["A4"],
]  # fmt: skip
PACKS = (1, 1, 1, 2, 3, 4, 6, 10, 12)
IN_WORDS = {2: "two", 3: "three", 4: "four", 6: "six", 10: "ten", 12: "twelve"}
SUPPLIERS = ("one", "two", "three")


@dataclass
class Made:
    """truth: (place of a SKU, place of an item) of all that are the same thing; other: the same in another pack."""

    skus: list[ThingRow]
    items: list[ThingRow]
    truth: set[tuple[int, int]]
    other: set[tuple[int, int]] = field(default_factory=set)


def barcode(n: int) -> str:
    body = f"2{n:011d}"
    return body + str(-sum(int(d) * (3 if i % 2 else 1) for i, d in enumerate(body)) % 10)


def make(seed: int, skus: int, items: int, more_words: int = 0) -> Made:
    """Families of things in sizes, colours and packs; four in five SKUs have an item, most items have no SKU.

    more_words: so many more things, made of syllables, for catalogues that are large.
    """
    rng = random.Random(seed)
    syllables = ["ba", "ko", "ri", "ten", "lu", "mar", "sil", "dov", "ner", "pal", "gri", "hol", "fen", "tas", "wim", "cor"]
    nouns = THINGS + [" ".join("".join(rng.choice(syllables) for _ in range(n)) for n in (2, 3)) for _ in range(more_words)]
    made: dict[tuple[object, ...], tuple[str, str, float]] = {}
    while len(made) < max(skus * 2.2, items * 1.05):
        head = (rng.choice(MAKERS), rng.choice(FEATURES), rng.choice(MATERIALS), rng.choice(nouns))
        base = rng.uniform(2, 30)
        for _ in range(rng.randint(1, 9)):
            size, pack = rng.randrange(len(SIZES)), rng.choice(PACKS)
            n = len(made) + 1
            cost = base * pack**0.92 * rng.uniform(0.9, 1.2)
            made.setdefault((*head, rng.choice(COLOURS), size, pack), (barcode(n), f"{head[3][:2].upper()}{n:05d}", cost))
    things = list(made.items())
    rng.shuffle(things)
    out = Made([], [], set())

    def row(thing: tuple[tuple[object, ...], tuple[str, str, float]], key: str, supplier: str, price: float) -> ThingRow:
        what, (gtin, mpn, _) = thing
        if supplier and rng.random() < 0.02:
            gtin = rng.choice(things)[1][0]  # a barcode used a second time
        ids = (gtin if rng.random() < 0.5 else "", mpn if rng.random() < 0.35 else "")
        pack = int(str(what[6])) if supplier else 1
        return ThingRow(key, _title(rng, what), str(what[0]) if rng.random() < 0.5 else "", *ids, pack, round(price, 2), "GBP", supplier)

    told: list[tuple[int, ThingRow]] = []
    for place, thing in enumerate(things[:skus]):
        out.skus.append(row(thing, f"G-{place:05d}", "", thing[1][2] * rng.uniform(1.6, 2.3)))
        if rng.random() < 0.8:
            for supplier in rng.sample(SUPPLIERS, rng.choice((1, 1, 1, 2))):
                told.append((place, row(thing, f"{supplier}-{len(told):06d}", supplier, thing[1][2] * rng.uniform(0.9, 1.1))))
    for thing in things[skus : skus + max(0, items - len(told))]:
        supplier = rng.choice(SUPPLIERS)
        told.append((-1, row(thing, f"{supplier}-{len(told):06d}", supplier, thing[1][2] * rng.uniform(0.9, 1.1))))
    rng.shuffle(told)
    out.items = [one for _, one in told]
    out.truth = {(place, i) for i, (place, _) in enumerate(told) if place >= 0}
    return out


def _title(rng: random.Random, what: tuple[object, ...]) -> str:
    maker, feature, material, thing, colour, size, pack = what
    parts = [str(maker) if rng.random() > 0.2 else "", str(feature), str(material), str(thing), str(colour)]
    parts += [rng.choice(SIZES[int(str(size))]), _pack(rng, int(str(pack)))]
    for place in (1, 2, 4, 5):
        if rng.random() < 0.05:
            parts[place] = ""
    parts = [rng.choice(SHORT[part]) if part in SHORT and rng.random() < 0.3 else part for part in parts]
    if rng.random() < 0.4:
        rng.shuffle(parts)
    if rng.random() < 0.25:
        parts.append(rng.choice(NOISE))
    text = " ".join(_mistyped(rng, word) if rng.random() < 0.03 else word for word in " ".join(filter(None, parts)).split(" "))
    luck = rng.random()
    return text.upper() if luck < 0.1 else text.title() if luck < 0.4 else text


def _pack(rng: random.Random, n: int) -> str:
    if n == 1:
        return ""
    ways = [f"pack of {n}", f"set of {IN_WORDS[n]}", f"{n} pack", f"x{n}", f"{n} pcs", f"{n}-pack", f"box of {n}"]
    return rng.choice([*ways, "twin pack"] if n == 2 else ways)


def _mistyped(rng: random.Random, word: str) -> str:
    if len(word) < 4 or not word.isalpha():
        return word
    at, luck = rng.randrange(1, len(word)), rng.random()
    if luck < 0.6 or at == len(word) - 1:
        return word[:at] + word[at + 1 :]
    return word[:at] + word[at + 1] + word[at] + word[at + 2 :]
