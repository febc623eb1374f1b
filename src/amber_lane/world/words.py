"""Made-up goods, people and places for the practice world. Nothing here belongs to anybody."""

from __future__ import annotations

import random
from dataclasses import dataclass, replace

from .lands import here

# noun, category, cost range in pence, weight in grams, what it comes in
GOODS: list[tuple[str, str, int, int, int, list[str]]] = [
    ("headlamp", "lights", 420, 1650, 90, ["red, USB", "red, AAA, tilt", "red and white, 120 lm", "dimmable", "slim, 60 lm"]),
    ("clip-on red lamp", "lights", 180, 520, 40, ["single", "pair", "magnetic", "flexible neck", "with pouch"]),
    ("red torch headband", "lights", 210, 640, 60, ["child", "adult", "wide", "reflective", "2 pack"]),
    ("folding star chart", "charts", 160, 560, 120, ["A2, laminated", "A3, laminated", "A1, laminated", "A2, paper", "A3, southern"]),
    ("planisphere", "charts", 240, 690, 110, ["20 cm", "25 cm", "30 cm", "20 cm, N. latitudes", "pocket"]),
    ("moon map", "charts", 190, 480, 80, ["A2", "A3", "A1", "A2, mirrored", "tea-stained"]),
    ("dew heater strap", "optics care", 380, 1180, 140, ["20 cm, USB", "30 cm, USB", "50 cm, USB", "70 cm, USB", "controller"]),
    ("lens cloth", "optics care", 60, 240, 20, ["grey", "blue", "large", "3 pack", "10 pack"]),
    ("lens pen", "optics care", 190, 520, 30, ["single", "3 pack", "carbon tip", "slim", "with case"]),
    ("air blower", "optics care", 150, 420, 70, ["small", "large", "with brush", "rocket shape", "travel"]),
    ("eyepiece", "optics", 1450, 5200, 180, ["32 mm wide", "25 mm", "15 mm", "10 mm wide", "6 mm"]),
    ("filter", "optics", 520, 2900, 40, ["moon", "light pollution", "neutral", "variable", "solar film A4"]),
    ("finder scope bracket", "optics", 480, 1400, 130, ["straight", "right-angle", "dovetail", "low", "tall"]),
    ("focus mask", "optics", 320, 1050, 90, ["80 mm", "102 mm", "130 mm", "150 mm", "200 mm"]),
    ("binocular harness", "straps", 360, 1290, 150, ["elastic", "padded", "leather", "child", "quick clip"]),
    ("tripod clamp", "stands", 420, 1550, 210, ["40 mm", "60 mm", "with ball head", "phone", "heavy"]),
    ("observing chair", "stands", 3900, 7200, 5200, ["folding", "tall", "low", "padded", "with tray"]),
    ("field stool", "stands", 880, 2300, 900, ["42 cm, folding", "38 cm", "three legs", "canvas navy", "with pocket"]),
    ("blackout panel", "shelters", 640, 2100, 700, ["2 x 2 m", "3 x 2 m", "1 x 2 m", "with poles", "window"]),
    ("ground mat", "shelters", 540, 1700, 600, ["2 x 1 m", "insulated", "foil back", "round", "folding"]),
    ("thermal mug", "warmth", 420, 1350, 350, ["350 ml, navy", "500 ml, navy", "350 ml, moss", "500 ml, steel", "with lid"]),
    ("hand warmer", "warmth", 180, 890, 80, ["10 pairs", "40 pairs", "USB", "charcoal", "pocket"]),
    ("night walk vest", "walking", 460, 1490, 160, ["S", "M", "L", "XL", "child"]),
    ("boot light", "walking", 160, 480, 30, ["pair, red", "pair, green", "single", "clip", "rechargeable"]),
    ("route card holder", "walking", 240, 720, 70, ["A5", "A6", "waterproof", "with lanyard", "clear"]),
    ("compass", "walking", 390, 1880, 60, ["baseplate", "glow dial", "mirror", "button", "with clip"]),
    ("bat detector kit", "wildlife", 1290, 4100, 240, ["basic", "with case", "solder yourself", "recorder", "school set"]),
    ("trail camera strap", "wildlife", 210, 680, 110, ["black", "olive", "lockable", "80 cm", "120 cm"]),
    ("moth sheet", "wildlife", 340, 990, 260, ["1 m", "1.5 m", "with frame", "white", "folding"]),
    ("meteor logbook", "paper", 180, 590, 170, ["ruled", "dotted", "waterproof", "pocket", "spiral"]),
]
MAKERS = ["Farrowgate", "Noctilune", "Hollin & Tarn", "Skerry", "Umberlight", "Ravenscar Works", "Pale Fell", "Ostrel"]
FIRST = [
    "Rowan",
    "Tilda",
    "Emeka",
    "Marit",
    "Priya",
    "Callum",
    "Ines",
    "Joss",
    "Wren",
    "Oskar",
    "Nadia",
    "Theo",
    "Aoife",
    "Bram",
    "Selma",
    "Idris",
    "Lotte",
    "Dewi",
    "Farah",
    "Piet",
]
LAST = [
    "Osei-Hartley",
    "Lindqvist",
    "Abara",
    "Prewitt",
    "Marrow",
    "Dunmore",
    "Fennimore",
    "Okello",
    "Thackray",
    "van der Weyden-Castellanos",
    "Sorrel",
    "Beckwith",
    "Nair",
    "Quill",
    "Rasmus",
    "Tolland",
]
STREETS = ["Lantern Row", "Skerry Lane", "Mill Bank", "Orchard Steps", "Old Signal Road", "Gannet Street", "Fell View"]


@dataclass(frozen=True)
class Good:
    """One made-up thing: what a supplier sells, and perhaps what the shop sells too."""

    number: str
    sku: str
    title: str
    shop_title: str
    gtin: str
    mpn: str
    brand: str
    category: str
    options: str
    pack_size: int
    weight_g: int
    cost: int
    popularity: float


def gtin13(serial: int) -> str:
    """A barcode from the range kept for use inside a firm, with its check digit."""
    body = f"2{serial:011d}"
    total = sum(int(d) * (3 if i % 2 else 1) for i, d in enumerate(body))
    return f"{body}{-total % 10}"


def make_goods(seed: int, count: int, sold: int, mark: str = "NT", first: int = 0) -> list[Good]:
    """`count` supplier items from a seed; the first `sold` of them are sold in the shop too.

    mark: what a supplier's numbers begin with; first: where its barcodes begin.
    """
    rng = random.Random(f"goods-{seed}" if mark == "NT" else f"goods-{seed}-{mark}")
    goods: list[Good] = []
    serial = 0
    while len(goods) < count:
        maker = MAKERS[(serial // len(GOODS)) % len(MAKERS)]
        noun, category, low, high, weight, variants = GOODS[serial % len(GOODS)]
        lap = serial // (len(GOODS) * len(MAKERS))
        serial += 1
        base = rng.randint(low, high)
        for place, variant in enumerate(variants):
            if len(goods) >= count:
                break
            n = len(goods)
            edition = f" mk {lap + 1}" if lap else ""
            short = "".join(word[0] for word in noun.split())[:3].upper()
            number = f"{mark}-{short}-{n:04d}"
            title = f"{maker} {noun} {variant}{edition}"
            pack = next((int(w) for w in ("10", "3", "2") if f"{w} pack" in variant), 1)
            goods.append(
                Good(
                    number,
                    f"DD-{noun.split()[0].upper().replace('-', '')[:8]}-{n:03d}",
                    title,
                    f"{noun[0].upper()}{noun[1:]}, {variant}, {maker}{edition}",
                    gtin13(first + n + 1),
                    f"{maker[:2].upper()}{first + n:04d}",
                    maker,
                    category,
                    variant,
                    pack,
                    weight + rng.randint(0, 60),
                    max(40, base * (100 + 12 * place) // 100),
                    rng.paretovariate(1.3),
                )
            )
    order = list(range(count))
    rng.shuffle(order)
    # What the shop sells is spread over the catalogue, with one name long enough to test every column.
    chosen = [goods[i] for i in order[:sold]]
    if not chosen:
        return goods
    rest = [goods[i] for i in order[sold:]]
    long = chosen[3]
    chosen[3] = Good(
        **{
            **long.__dict__,
            "shop_title": long.shop_title + ", with padded carry case, spare strap, "
            "red filter and a printed guide to the northern winter sky for beginners",
        }
    )
    return chosen + rest


def make_others(seed: int, mark: str, count: int, known: list[Good], dearness: int) -> list[Good]:
    """Another supplier's goods: two in five are things that `known` has too, told in its own words; the rest are its own.

    dearness: its costs in percent of what they are elsewhere.
    """
    rng = random.Random(f"others-{seed}-{mark}")
    same = rng.sample(known, min(len(known), count * 2 // 5))
    own = make_goods(seed, count - len(same), 0, mark, 100_000 if mark == "QB" else 200_000)
    out = []
    for n, good in enumerate([*same, *own]):
        noun = next(noun for noun, *_ in sorted(GOODS, key=lambda one: -len(one[0])) if noun in good.title)
        edition = good.title[-5:] if good.title[-5:-1] == " mk " else ""
        if mark == "QB":
            number, title = f"QB-{40_000 + n}", f"{noun[0].upper()}{noun[1:]} {good.options} {good.brand}{edition}"
        else:
            number, title = f"SR-{118_000 + n * 7}", f"{good.brand} {noun} ({good.options}){edition}"
        # Not every supplier names barcodes.
        gtin = good.gtin if rng.random() < 0.8 else ""
        cost = max(30, good.cost * (dearness + rng.randint(-9, 9)) // 100)
        out.append(replace(good, number=number, title=title, gtin=gtin, cost=cost))
    rng.shuffle(out)
    return out


def make_buyer(rng: random.Random) -> dict[str, str]:
    """A buyer with an address that a parcel could be sent to."""
    name = f"{rng.choice(FIRST)} {rng.choice(LAST)}"
    towns = here().towns
    city, region, postcode, country = rng.choices([town for town, _ in towns], [weight for _, weight in towns])[0]
    return {
        "name": name,
        "address_1": f"{rng.randint(1, 180)} {rng.choice(STREETS)}",
        "address_2": "",
        "city": city,
        "region": region,
        "postcode": postcode,
        "country": country,
        "phone": here().phone.format(rng.randint(0, 999)),
        "email": f"{name.split()[0].lower()}.{rng.randint(100, 999)}@post.example",
    }
