"""Titles as words: typing errors, abbreviations and run-together words mended by what the other titles say."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Sequence
from functools import lru_cache
from itertools import pairwise

import numpy as np
from rapidfuzz import process
from rapidfuzz.distance import OSA

# What the trade shortens, whatever the goods; longer forms that only one catalogue uses are found in its own titles.
SHORT = {
    "blk": "black", "wht": "white", "gry": "grey", "gray": "grey", "grn": "green", "brn": "brown", "slv": "silver", "yel": "yellow",
    "alu": "aluminium", "alum": "aluminium", "aluminum": "aluminium", "ss": "steel", "plas": "plastic", "wproof": "waterproof",
    "wp": "waterproof", "adj": "adjustable", "lam": "laminated", "pk": "pack", "pkt": "pack", "pck": "pack", "pcs": "pieces",
    "pc": "pieces", "pce": "pieces", "pces": "pieces", "piece": "pieces", "qty": "pack", "sml": "small", "sm": "small", "med": "medium",
    "lge": "large", "lrg": "large", "lg": "large", "xlarge": "xl", "xtra": "extra", "colour": "color", "coloured": "color",
    "inch": "in", "inches": "in", "ins": "in", "feet": "ft", "foot": "ft", "metre": "m", "meter": "m", "metres": "m", "meters": "m",
    "mtr": "m", "millimetre": "mm", "millimeter": "mm", "millimetres": "mm", "centimetre": "cm", "centimeter": "cm",
    "centimetres": "cm", "centimeters": "cm", "gram": "g", "grams": "g", "grm": "g", "kilo": "kg", "kilos": "kg", "kgs": "kg",
    "litre": "l", "liter": "l", "litres": "l", "liters": "l", "ltr": "l", "packs": "pack", "sets": "set", "pairs": "pair",
    "w": "with", "und": "and",
}  # fmt: skip
# Words that say nothing of which thing it is.
EMPTY = frozenset(
    [
        "a",
        "an",
        "and",
        "the",
        "of",
        "for",
        "with",
        "in",
        "on",
        "to",
        "by",
        "from",
        "per",
        "each",
        "your",
        "our",
        "new",
        "best",
        "top",
        "hot",
        "quality",
        "premium",
        "original",
        "genuine",
        "official",
        "gift",
        "gifts",
        "idea",
        "sale",
        "offer",
        "deal",
        "free",
        "shipping",
        "delivery",
        "model",
        "edition",
        "version",
        "style",
        "type",
        "item",
        "brand",
        "latest",
        "great",
        "super",
        "ideal",
        "perfect",
        "color",
    ]
)
_NUMBER = r"\d+(?:\.\d+)?"
_TOKEN = re.compile(rf"{_NUMBER}|[^\W\d_]+\d*|\d+")
_VOWEL = frozenset("aeiou")
_DIGIT = re.compile(r"\d")
_HALF = re.compile(r"(?<![\d.])(?:(\d+)[ -])?(\d)/(\d{1,2})(?!\d)")
_SLASH = re.compile(r"(?<=\b[a-z])/(?=[a-z])")
_OWNS = re.compile(r"(?<=[a-z])'(?=s\b)")
_FIGURES = tuple(
    (re.compile(pattern), by)
    for pattern, by in (
        (r"(?<=\d)\s*(?:\"|'')", " in "),
        (r"(?<=\d)\s*'(?!\w)", " ft "),
        (r"(?<=\d),(?=\d{3}(?!\d))", ""),
        (r"(?<=\d),(?=\d)", "."),
        (r"(?<!\d)\.(?=\d)", " 0."),
        (r"(?<=\d)(?=[a-z])", " "),
        (r"\bx(?=\d)", "x "),
    )
)
_SPELT = re.compile(r"iz(?=(e|ed|es|er|ing|ation|able)$)")


@lru_cache(maxsize=200_000)
def _plain(text: str) -> str:
    flat = unicodedata.normalize("NFKC", text).casefold()
    if not flat.isascii():
        flat = "".join(c for c in unicodedata.normalize("NFD", flat) if not unicodedata.combining(c)).replace("ß", "ss").replace("ø", "o")
        flat = flat.replace("\u2044", "/").replace("×", "x").replace("″", '"').replace("”", '"').replace("“", '"').replace("′", "'")
    return flat


def split(text: str) -> list[str]:
    """A title as raw words and numbers, in their order.

    >>> split('W/Proof strap, 1.25" 0,3 m x5 60mm')
    ['wproof', 'strap', '1.25', 'in', '0.3', 'm', 'x', '5', '60', 'mm']
    """
    flat = _plain(text)
    if "/" in flat:
        flat = _HALF.sub(lambda m: _mixed(m.group(1) or "0", m.group(2), m.group(3)), flat)
        flat = _SLASH.sub("", flat)
    if _DIGIT.search(flat):
        for pattern, by in _FIGURES:
            flat = pattern.sub(by, flat)
    if "'" in flat:
        flat = _OWNS.sub("", flat)
    return _TOKEN.findall(flat)


@lru_cache(maxsize=100_000)
def plainly(word: str) -> str:
    """A word in the one of its spellings that is used here.

    >>> [plainly(word) for word in ("gray", "galvanized", "centre", "blk")]
    ['grey', 'galvanised', 'center', 'black']
    """
    word = SHORT.get(word, word)
    if len(word) >= 6:
        word = _SPELT.sub("is", word)
        word = f"{word[:-2]}er" if word.endswith("tre") else word
    return word


def _mixed(whole: str, part: str, of: str) -> str:
    return f"{int(whole) + int(part) / int(of):.4g}" if int(of) else f"{whole} {part} {of}"


def abbreviates(short: str, full: str) -> bool:
    """Whether a word is a shortened form of another: its beginning, or its beginning and later letters without vowels."""
    if len(short) < 2 or len(short) > 0.75 * len(full) or short[0] != full[0]:
        return False
    if full.startswith(short):
        return len(short) >= 3
    at = 0
    for letter in short:
        at = full.find(letter, at) + 1
        if not at:
            return False
    bones = not (_VOWEL & set(short[1:-1]))
    return len(short) >= 3 and (bones or full.startswith(short[:3]))


class Vocabulary:
    """The words of many titles, and what each raw word is taken for."""

    def __init__(self, titles: Iterable[Sequence[str]]) -> None:
        seen: Counter[str] = Counter()
        pairs: Counter[tuple[str, str]] = Counter()
        with_: dict[str, set[int]] = {}
        for n, title in enumerate(titles):
            low = [plainly(word) for word in title]
            seen.update(low)
            pairs.update(pairwise(low))
            for word in low:
                if len(mine := with_.setdefault(word, set())) < 400:
                    mine.add(n)
        self.taken: dict[str, tuple[str, ...]] = {}
        self.known: dict[str, tuple[str, ...]] = {}
        words = [word for word in seen if word.isalpha()]
        common = sorted((word for word in words if seen[word] >= 4 and len(word) >= 3), key=lambda word: -seen[word])
        self._mend_typing(words, common, seen, pairs)
        self._unfold(common, seen, with_)

    def _mend_typing(self, words: list[str], common: list[str], seen: Counter[str], pairs: Counter[tuple[str, str]]) -> None:
        rare = [word for word in words if len(word) >= 2 and word not in EMPTY]
        lengths = np.array([len(word) for word in common])
        counts = np.array([seen[word] for word in common])
        for start in range(0, len(rare), 2000):
            part = rare[start : start + 2000]
            far = process.cdist(part, common, scorer=OSA.distance, score_cutoff=2, dtype=np.uint8, workers=2) if common else None
            for row, word in enumerate(part):
                if far is None:
                    break
                n, size = seen[word], len(word)
                near = (far[row] == 1) & (counts >= max(8 * n, 4))
                if size < 4:
                    # So short a word is only believed to lack a letter, and only of a word that is everywhere.
                    near &= (lengths == size + 1) & (lengths >= 3) & (counts >= 20 * n)
                found = np.flatnonzero(near)
                if not len(found) and size >= 7:
                    found = np.flatnonzero((far[row] == 2) & (counts >= max(20 * n, 10)) & (lengths >= 8))
                if len(found) and (size >= 4 or len(found) == 1):
                    self.taken[word] = (common[int(found[counts[found].argmax()])],)
                elif size >= 6 and (both := _halves(word, seen, pairs, n)):
                    self.taken[word] = both

    def _unfold(self, common: list[str], seen: Counter[str], with_: dict[str, set[int]]) -> None:
        """Shortened forms: of a longer word that never stands beside them in one title."""
        longer = [word for word in common if len(word) >= 4]
        by_first: dict[str, list[str]] = {}
        for word in longer:
            by_first.setdefault(word[0], []).append(word)
        for word in common:
            if word in self.taken or len(word) > 6 or word in EMPTY:
                continue
            fits = [one for one in by_first.get(word[0], []) if abbreviates(word, one) and one not in self.taken]
            fits = [one for one in fits if seen[one] * 12 >= seen[word] and not with_[word] & with_[one]]
            if len(fits) == 1:
                self.taken[word] = (fits[0],)

    def read(self, title: Sequence[str]) -> list[str]:
        """A title's words as they are taken."""
        out: list[str] = []
        for raw in title:
            known = self.known.get(raw)
            if known is None:
                word = plainly(raw)
                taken = [last for one in self.taken.get(word, (word,)) for last in self.taken.get(one, (one,))]
                known = self.known[raw] = tuple(plainly(one) for one in taken)
            out += known
        return out


def _halves(word: str, seen: Counter[str], pairs: Counter[tuple[str, str]], n: int) -> tuple[str, str] | None:
    """Two words that were run together, if they often stand beside each other."""
    best = max(((pairs[word[:i], word[i:]], i) for i in range(2, len(word) - 1)), default=(0, 0))
    return (word[: best[1]], word[best[1] :]) if best[0] >= max(3, 2 * n) else None
