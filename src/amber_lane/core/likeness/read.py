"""Titles as things: what it is, its sizes, how many are in a pack, its numbers; comparable whatever the wording."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from .words import EMPTY, Vocabulary

# unit -> what it measures, how many of the base unit (mm, g, ml and so on).
UNITS = {
    "mm": ("length", 1.0), "cm": ("length", 10.0), "m": ("length", 1000.0), "in": ("length", 25.4), "ft": ("length", 304.8),
    "yd": ("length", 914.4), "g": ("weight", 1.0), "kg": ("weight", 1000.0), "oz": ("weight", 28.3495), "lb": ("weight", 453.592),
    "lbs": ("weight", 453.592), "ml": ("volume", 1.0), "cl": ("volume", 10.0), "l": ("volume", 1000.0), "lm": ("light", 1.0),
    "lumen": ("light", 1.0), "lumens": ("light", 1.0), "w": ("power", 1.0), "watt": ("power", 1.0), "v": ("voltage", 1.0),
    "volt": ("voltage", 1.0), "mah": ("charge", 1.0), "ah": ("charge", 1000.0), "gb": ("memory", 1.0), "tb": ("memory", 1000.0),
}  # fmt: skip
SIZES = {"xxs": "XXS", "xs": "XS", "s": "S", "m": "M", "l": "L", "xl": "XL", "xxl": "XXL", "xxxl": "XXXL",
         "small": "S", "medium": "M", "large": "L"}  # fmt: skip
COUNTS = {"one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10, "twelve": 12}
SETS = frozenset(["pack", "set", "box", "bag", "bundle", "lot", "tub", "sleeve", "carton"])
ALONE = {"pair": 2, "twin": 2, "duo": 2, "trio": 3, "triple": 3, "dozen": 12, "single": 1}
PIECES = frozenset(["pieces", "pack", "er", "units", "count", "ct", "off"])
# Words whose number belongs to them: a mark, a series, a model. Such a number is never a pack.
LABELS = {
    "mk": "mk", "mark": "mk", "no": "no", "nr": "no", "num": "no", "number": "no", "series": "series", "ser": "series", "size": "size",
    "sz": "size", "gen": "gen", "generation": "gen", "model": "model", "type": "type", "version": "ver", "ver": "ver", "class": "class",
    "grade": "grade", "level": "level", "stage": "stage", "phase": "phase", "vol": "vol", "volume": "vol", "part": "part",
    "chapter": "chapter", "fig": "fig", "art": "art", "ref": "ref", "eu": "eu", "uk": "uk", "us": "us",
}  # fmt: skip
ROMAN = {"ii": "2", "iii": "3", "iv": "4", "v": "5", "vi": "6", "vii": "7", "viii": "8", "ix": "9"}
_YEAR = re.compile(r"^(19|20)\d\d$")
_ODD = re.compile(r"[\W_]+")
_PAPER = re.compile(r"^[ab]\d$")
_WHOLE = re.compile(r"^\d{1,4}$")
_NUM = re.compile(r"^\d+(\.\d+)?$")
_GLUED = re.compile(r"^([a-z]+)(\d+)$")


@dataclass
class Thing:
    """One SKU or item as it can be compared. words: whatever is left of the title, with how often; pack: sold together."""

    key: str
    words: Counter[str] = field(default_factory=Counter)
    measures: list[tuple[str, tuple[float, ...], str]] = field(default_factory=list)
    sizes: set[str] = field(default_factory=set)
    pack: int = 1
    gtin: str = ""
    mpn: str = ""
    brand: tuple[str, ...] = ()
    price: float = 0.0


def check_gtin(text: str) -> str:
    """A barcode as 14 digits if its check digit is right; '' otherwise. Lost leading zeros are filled in.

    >>> check_gtin("5000003000019"), check_gtin("5000003000018"), check_gtin("5.01E+12"), check_gtin("12345670")
    ('05000003000019', '', '', '00000012345670')
    """
    digits = text.strip().replace(" ", "").replace("-", "")
    if not (digits.isascii() and digits.isdecimal()) or not 7 <= len(digits) <= 14 or int(digits) == 0:
        return ""
    full = digits.zfill(14)
    total = sum(int(d) * (3 if i % 2 == 0 else 1) for i, d in enumerate(full[:-1]))
    return full if -total % 10 == int(full[-1]) else ""


def read_thing(  # noqa: PLR0913 - what a row says of a thing, by name
    key: str,
    title: Sequence[str],
    vocabulary: Vocabulary,
    brand: Sequence[str] = (),
    gtin: str = "",
    mpn: str = "",
    pack: int = 1,
    price: float = 0.0,
) -> Thing:
    """A thing from its split title and its numbers. pack: what its supplier says; more than one counts before the title."""
    out = Thing(key, gtin=check_gtin(gtin), mpn=_ODD.sub("", mpn).upper() if mpn else "", price=price)
    words = vocabulary.read(title)
    rest = _take_sizes(_take_times(_take_measures(_take_packs(_bind_numbers(words), out), out), out), out)
    out.words = Counter(word for word in rest if word not in EMPTY and not _YEAR.match(word))
    out.brand = tuple(word for word in vocabulary.read(brand) if word not in EMPTY)
    for word in out.brand:
        if word not in out.words:
            out.words[word] += 1
    if pack > 1:
        out.pack = pack
    return out


def _bind_numbers(words: list[str]) -> list[str]:
    """A number that belongs to the word before it becomes one word with it, before anything is taken for a pack or a size.

    >>> _bind_numbers(["strap", "mark", "3", "pack", "of", "2"])
    ['strap', 'mk3', 'pack', 'of', '2']
    """
    out: list[str] = []
    i, n = 0, len(words)
    while i < n:
        word = words[i]
        label = LABELS.get(word)
        number = words[i + 1] if label and i + 1 < n else ""
        number = ROMAN.get(number, number) if label == "mk" else number
        after = words[i + 2 : i + 4]
        # "size 40 mm" and "size 5 x 7 cm" are measures, and "no 2 pack" is as many.
        measured = bool(after) and (after[0] in UNITS or (after[0] in ("x", "by") and len(after) > 1 and _measured(words, i + 3)))
        if label and _NUM.match(number) and not measured:
            out.append(f"{label}{number}")
            i += 2
            continue
        glued = _GLUED.match(word)
        out.append(f"{LABELS[glued[1]]}{glued[2]}" if glued and glued[1] in LABELS else word)
        i += 1
    return out


def _measured(words: list[str], at: int) -> bool:
    """Whether a number at this place has a unit after it, perhaps after more numbers."""
    while at < len(words) and (_NUM.match(words[at]) or words[at] in ("x", "by")):
        at += 1
    return at < len(words) and words[at] in UNITS


def _take_measures(words: list[str], out: Thing) -> list[str]:
    rest: list[str] = []
    i = 0
    while i < len(words):
        j, numbers = i, []
        while j < len(words) and _NUM.match(words[j]):
            numbers.append(float(words[j]))
            if j + 2 < len(words) and words[j + 1] in ("x", "by") and _NUM.match(words[j + 2]):
                j += 2
                continue
            j += 1
            break
        if numbers and j < len(words) and words[j] in UNITS:
            kind, size = UNITS[words[j]]
            text = f"{' x '.join(f'{n:g}' for n in numbers)} {words[j]}"
            out.measures.append((kind, tuple(sorted(n * size for n in numbers)), text))
            i = j + 1
        else:
            rest.append(words[i])
            i += 1
    return rest


def _count(word: str) -> int:
    if word in COUNTS:
        return COUNTS[word]
    return int(word) if _WHOLE.match(word) else 0


def _take_packs(words: list[str], out: Thing) -> list[str]:
    """Counts that stand with a word for a pack; taken before sizes, so that "pack of 3 M" is no 3 metres."""
    rest: list[str] = []
    i, n = 0, len(words)
    while i < n:
        word = words[i]
        if word in SETS:
            # "pack of 5", also where the little word between is mistyped
            step = 2 if i + 2 < n and len(words[i + 1]) <= 2 and not _count(words[i + 1]) and _count(words[i + 2]) else 1
            if i + step < n and (count := _count(words[i + step])):
                _packed(out, count)
                i += step + 1
                continue
        if (count := _count(word)) and i + 1 < n and words[i + 1] in PIECES and not _begins_pack(words, i + 1):
            _packed(out, count)
            i += 2
            continue
        if (count := _count(word)) and i + 1 < n and words[i + 1] == "pair":
            _packed(out, 2 * count)
            i += 2
            continue
        if word in ALONE:
            _packed(out, ALONE[word])
            i += 2 if i + 1 < n and words[i + 1] in SETS else 1
            continue
        rest.append(word)
        i += 1
    return rest


def _begins_pack(words: list[str], at: int) -> bool:
    """Whether "pack" here goes on with a number of its own, so that a number before it is something else."""
    if words[at] not in SETS:
        return False
    after = words[at + 1 : at + 3]
    return bool(after) and (bool(_count(after[0])) or (len(after) > 1 and after[0] == "of" and bool(_count(after[1]))))


def _take_times(words: list[str], out: Thing) -> list[str]:
    """What is left of "x 5" or "5 x" when sizes such as 2 x 3 m have been taken. A number on both sides: "3 x 2" is two of number 3."""
    rest: list[str] = []
    i, n = 0, len(words)
    while i < n:
        pair = words[i : i + 2]
        other = pair[1] if pair[0] == "x" and len(pair) == 2 else pair[0] if pair[-1] == "x" and len(pair) == 2 else ""
        if pair[-1] == "x" and len(pair) == 2 and i + 2 < n and _count(words[i + 2]):
            other = ""
        if other and (count := _count(other)):
            _packed(out, count)
            i += 2
            continue
        if words[i] != "x":
            rest.append(words[i])
        i += 1
    return rest


def _packed(out: Thing, count: int) -> None:
    if count <= 10_000:
        out.pack = count


def _take_sizes(words: list[str], out: Thing) -> list[str]:
    rest: list[str] = []
    extra = False
    for word in words:
        if word == "extra":
            extra = True
            continue
        if word in SIZES:
            size = SIZES[word]
            out.sizes.add(f"X{size}" if extra and size in ("S", "L") else size)
        elif _PAPER.match(word):
            out.sizes.add(word.upper())
        elif len(word) > 1 or word.isdecimal():
            rest.append(word)
        extra = False
    return rest
