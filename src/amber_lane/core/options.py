"""What a thing comes in: options with their values, all their combinations, and values read out of words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product

_COLOUR = re.compile(
    r"\b(amber|beige|black|blue|bronze|brown|clear|copper|cream|gold|green|gr[ae]y|indigo|ivory|khaki|lilac|moss|mustard|navy|"
    r"ochre|olive|orange|pink|plum|purple|red|rose|rust|sand|silver|slate|steel|teal|turquoise|violet|white|yellow)\b"
)
LETTERS = ("xxs", "xs", "s", "m", "l", "xl", "xxl", "xxxl")
PLAIN_SIZES = frozenset(["tiny", "small", "medium", "large", "child", "adult", "pocket", "wide", "slim", "short", "long", "tall", "low"])
_AMOUNT = re.compile(r"^\d+([.,]\d+)?\s*(x\s*\d+([.,]\d+)?\s*)?(mm|cm|m|ml|l|g|kg|in|inch)?\b")
_PACK = re.compile(r"^(single|pair|\d+\s*(pack|pairs|pieces|pcs))$")
_PAPER = re.compile(r"^a\d$")


@dataclass(frozen=True)
class Option:
    """One thing that a buyer chooses, and what there is to choose from."""

    name: str
    values: tuple[str, ...]


def parts_of(text: str) -> tuple[str, ...]:
    """The values in a supplier's words for what an item comes in.

    >>> parts_of("30 cm, USB")
    ('30 cm', 'USB')
    """
    return tuple(part for part in (" ".join(one.split()) for one in re.split(r"[,;/|]", text)) if part)


def name_of(values: Sequence[str]) -> str:
    """What a set of values is most likely a choice of: Colour, Pack, Size, or Kind where none of these.

    >>> name_of(["navy", "moss"]), name_of(["S", "XL", "child"]), name_of(["2 pack", "single"]), name_of(["dovetail"])
    ('Colour', 'Size', 'Pack', 'Kind')
    """
    words = [value.casefold() for value in values]
    if words and all(_COLOUR.search(word) for word in words):
        return "Colour"
    if words and all(_PACK.match(word) for word in words):
        return "Pack"
    if words and all(word in LETTERS or word in PLAIN_SIZES or _AMOUNT.match(word) or _PAPER.match(word) for word in words):
        return "Size"
    return "Kind"


def in_order(values: Sequence[str]) -> tuple[str, ...]:
    """Each value once, sizes from small to large, others as they came.

    >>> in_order(["L", "S", "XL", "M"]), in_order(["30 cm", "20 cm"]), in_order(["navy", "moss", "navy"])
    (('S', 'M', 'L', 'XL'), ('20 cm', '30 cm'), ('navy', 'moss'))
    """
    first: dict[str, str] = {}
    for value in values:
        first.setdefault(value.casefold(), value)
    once = list(first.values())
    low = [value.casefold() for value in once]
    if all(word in LETTERS for word in low):
        return tuple(sorted(once, key=lambda value: LETTERS.index(value.casefold())))
    if all(_AMOUNT.match(word) for word in low):
        return tuple(sorted(once, key=lambda value: float(re.findall(r"\d+(?:[.,]\d+)?", value)[0].replace(",", "."))))
    return tuple(once)


def read_options(texts: Sequence[str]) -> list[Option]:
    """The options that several wordings of the same thing differ in; one option of whole wordings where their parts do not line up.

    >>> [(one.name, one.values) for one in read_options(["350 ml, navy", "500 ml, navy", "350 ml, moss"])]
    [('Size', ('350 ml', '500 ml')), ('Colour', ('navy', 'moss'))]
    """
    split = [parts_of(text) for text in texts if text.strip()]
    if not split:
        return []
    if len({len(one) for one in split}) != 1 or len(split[0]) > 3:
        # Written without commas, which stand between the values of an option.
        split = [(" / ".join(parts_of(text)),) for text in texts if text.strip()]
    columns = [in_order(column) for column in zip(*split, strict=True)]
    out: list[Option] = []
    for values in columns:
        base = name = name_of(values)
        n = 2
        while name in {one.name for one in out}:
            name, n = f"{base} {n}", n + 1
        out.append(Option(name, values))
    return out


def combinations(options: Sequence[Option]) -> list[tuple[str, ...]]:
    """All combinations, the last option moving fastest.

    >>> combinations([Option("Size", ("S", "M")), Option("Colour", ("red",))])
    [('S', 'red'), ('M', 'red')]
    """
    return list(product(*(one.values for one in options))) if options else []


def how_many(options: Sequence[Option]) -> int:
    """How many combinations there are, without making them."""
    out = 1 if options else 0
    for one in options:
        out *= len(one.values)
    return out


def same(values: Sequence[str], words: str) -> bool:
    """Whether words say exactly these values, in any order.

    >>> same(["navy", "350 ml"], "350 ml, Navy"), same(["350 ml / navy"], "350 ml, navy"), same(["S"], "S, navy")
    (True, True, False)
    """
    said = [part.casefold() for value in values for part in parts_of(value)]
    return sorted(said) == sorted(part.casefold() for part in parts_of(words))


def fits(values: Sequence[str], words: str) -> bool:
    """Whether every value stands in some words, as a whole.

    >>> fits(["S"], "S, navy"), fits(["S"], "USB")
    (True, False)
    """
    low = words.casefold()
    return all(re.search(rf"(?<!\w){re.escape(value.casefold())}(?!\w)", low) for value in values)


def bare(title: str, options: str) -> str:
    """A title without what the thing comes in: the same for all sizes and colours of one thing.

    >>> bare("Skerry thermal mug 350 ml, navy", "350 ml, navy"), bare("Skerry mug (navy) mk 2", "navy")
    ('Skerry thermal mug', 'Skerry mug mk 2')
    """
    out = title
    for part in (options.strip(), *parts_of(options)):
        if part:
            out = re.sub(rf"(?<!\w){re.escape(part)}(?!\w)", " ", out, flags=re.IGNORECASE)
    out = re.sub(r"\(\s*[,;]*\s*\)|\[\s*\]", " ", out)
    out = re.sub(r"\s*,[\s,/]*", ", ", out)
    return " ".join(out.split()).strip(" ,-/")


_SIZE_WORDS = re.compile(
    r"(?<!\w)(\d+([.,]\d+)?(\s*x\s*\d+([.,]\d+)?)*\s*(mm|cm|m|ml|l|g|kg|in|inch)|\d+(\s*x\s*\d+)+|[ab]\d|(x{0,3}[sl]|m))(?!\w)",
    re.IGNORECASE,
)


def family(title: str, options: str = "") -> str:
    """What sizes and colours of one thing have in common, in small letters; '' where nothing is left.

    >>> family("Folding star chart, A2, laminated"), family("Dew strap 50 cm (navy)"), family("Dew strap 30 cm moss", "30 cm, moss")
    ('folding star chart, laminated', 'dew strap', 'dew strap')
    >>> family("Blackout panel, 2 x 2 m, Farrowgate mk 2") == family("Blackout panel, 2 x 2 m, Farrowgate mk 3")
    False
    """
    left = _COLOUR.sub(" ", _SIZE_WORDS.sub(" ", bare(title, options).casefold()))
    return bare(left, "")
