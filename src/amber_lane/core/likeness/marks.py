"""What agrees and what differs, found again in a title as it stands, so that it can be drawn there."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from .judge import Evidence
from .read import SIZES

_WORD = re.compile(r"\w+(?:[.,/]\d+)*", re.UNICODE)
STEM = 4


class Mark(NamedTuple):
    """Letters start to end of a title; kind: same (both say it), differs (the other says otherwise), only (the other is silent)."""

    start: int
    end: int
    kind: str


def marks(title: str, evidence: Sequence[Evidence], theirs: bool = True) -> list[Mark]:
    """Where a title says what the evidence speaks of, in order; what differs goes before what is the same.

    >>> marks("Star chart A2 paper", [Evidence("kind", "laminated", "paper", -1.0), Evidence("size", "A2", "A2", 0.5)])
    [Mark(start=11, end=13, kind='same'), Mark(start=14, end=19, kind='differs')]
    """
    kinds: dict[str, str] = {}
    for rank in ("same", "only", "differs"):
        for one in evidence:
            mine, other = (one.theirs, one.ours) if theirs else (one.ours, one.theirs)
            kind = "same" if one.weight > 0 else "differs" if mine and other else "only"
            if kind == rank and one.field not in ("barcode", "maker's number", "number"):
                for word in _WORD.findall(mine.lower()):
                    kinds[word] = kind
    out: list[Mark] = []
    for found in _WORD.finditer(title):
        word = found.group().lower()
        kind = kinds.get(word) or kinds.get(SIZES.get(word, "").lower()) or next((k for w, k in kinds.items() if _akin(word, w)), "")
        if kind:
            out.append(Mark(found.start(), found.end(), kind))
    return out


def _akin(word: str, other: str) -> bool:
    """Whether a word of a title is what was read as another: cut short, in the plural, or with its unit run on."""
    if word.isdecimal() or other.isdecimal():
        return False
    short, long = sorted((word, other), key=len)
    if long.rstrip("s") == short.rstrip("s"):
        return True
    return len(short) >= STEM and long.startswith(short) and len(long) - len(short) <= 5
