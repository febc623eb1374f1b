"""How like a SKU and an item are: evidence for and against as data, and a score from 0 to 100."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import NamedTuple

from rapidfuzz.distance import OSA

from .corpus import COLOURS, EXTRAS, MATERIALS, Corpus
from .read import Thing
from .words import abbreviates

NEAR = 0.016
IDS = {"barcode": 0.80, "maker's number": 0.70}
BY_PATTERN = 0.70
# What the same thing in another pack scores against the same pack; and where something else is unsure beside the pack.
PACK_BELOW, PACK_AND_MORE = 0.9, 0.55


class Evidence(NamedTuple):
    """One thing that agrees (weight above nothing) or differs (below); ours or theirs '' = that side does not say."""

    field: str
    ours: str
    theirs: str
    weight: float


@dataclass(slots=True)
class Comparison:
    """score 0 to 100. veto: something differs that cannot be in the same thing.

    silent_ours, silent_theirs: what that side leaves out and the other says.
    """

    score: float
    likeness: float
    evidence: list[Evidence] = field(default_factory=list)
    veto: bool = False
    same_id: bool = False
    other_id: bool = False
    # The barcodes differ; the same thing in another pack; an option that one side says and the other does not (sizes, colours, …).
    other_code: bool = False
    other_pack: bool = False
    silent_ours: list[str] = field(default_factory=list)
    silent_theirs: list[str] = field(default_factory=list)
    options: list[str] = field(default_factory=list)


def judge(ours: Thing, theirs: Thing, corpus: Corpus) -> Comparison:
    """Compare two things; nothing but what they and the corpus say counts."""
    out = Comparison(0.0, 0.0)
    good, lack, bad = 0.0, 0.0, 0.0
    weight = corpus.weight
    common = ours.words & theirs.words
    left = list((ours.words - common).elements())
    right = list((theirs.words - common).elements())
    for word in common:
        w = weight.get(word, 1.0) * common[word]
        good += w
        out.evidence.append(Evidence("word", word, word, w))
    for word in list(left):
        near = next((one for one in right if _near(word, one)), None)
        if near:
            left.remove(word)
            right.remove(near)
            good += 0.9 * weight.get(near, 1.0)
            out.evidence.append(Evidence("word", word, near, 0.9 * weight.get(near, 1.0)))
    bad += _rivals(left, right, out, corpus)
    for words, against, silent, mine in ((left, right, out.silent_theirs, True), (right, left, out.silent_ours, False)):
        more_lack, more_bad = _unsaid(words, against, silent, mine, out, corpus)
        lack, bad = lack + more_lack, bad + more_bad
    out.options += [word for word in out.silent_ours if word in COLOURS or word in MATERIALS]
    good, lack, bad = _sizes(ours, theirs, out, good, lack, bad)
    good = _pack(ours, theirs, out, good)
    out.likeness = good / max(good + 0.5 * lack + 1.5 * bad, 1e-9)
    rest = _ids(ours, theirs, out)
    score = 100 * (1 - rest)
    if out.other_pack:
        # Just below the same in the same pack: it can fill the SKU, in other units.
        score *= PACK_BELOW if not (out.silent_ours or out.silent_theirs) or out.same_id else PACK_AND_MORE
    out.score = 0.5 * score if out.veto else score
    return out


def _rivals(left: list[str], right: list[str], out: Comparison, corpus: Corpus) -> float:
    """Words that stand against each other, as two colours do: they are another thing. Takes them out of both; returns their weight."""
    bad = 0.0
    for word in list(left):
        for one in list(right):
            if word in corpus.empty or one in corpus.empty or not (kind := corpus.rivals(word, one)):
                continue
            w = max(corpus.weight.get(word, 1.0), corpus.weight.get(one, 1.0), 0.3)
            bad += w
            out.evidence.append(Evidence(kind, word, one, -w))
            out.veto = True
            left.remove(word)
            right.remove(one)
            break
    return bad


def _unsaid(words: list[str], against: list[str], silent: list[str], mine: bool, out: Comparison, corpus: Corpus) -> tuple[float, float]:
    """What one says and the other is silent of: lacking, or an extra that makes it another thing. Returns both weights."""
    lack = bad = 0.0
    said = [word for word in words if word not in corpus.empty]
    extra = any(word in EXTRAS for word in said) and sum(word not in EXTRAS for word in said) <= 1
    for word in said:
        w = corpus.weight.get(word, 1.0)
        silent.append(word)
        if extra and word in EXTRAS and not any(OSA.distance(word, one, score_cutoff=1) <= 1 for one in against):
            # All that the other says, and a case, a refill, a spare part or a bundle of it: that is not the thing.
            bad += max(w, 0.5)
            out.veto = True
            out.evidence.append(Evidence("part", word if mine else "", "" if mine else word, -max(w, 0.5)))
            continue
        lack += w
        out.evidence.append(Evidence("word", word if mine else "", "" if mine else word, -0.4 * w))
    return lack, bad


def _ids(ours: Thing, theirs: Thing, out: Comparison) -> float:
    """How unlikely it is that they are the same, after what barcodes and maker's numbers say."""
    rest = 1 - out.likeness
    for name, number, other in (("barcode", ours.gtin, theirs.gtin), ("maker's number", ours.mpn, theirs.mpn)):
        if number and other:
            same = number == other
            out.evidence.append(Evidence(name, number.lstrip("0"), other.lstrip("0"), IDS[name] * 2 if same else -IDS[name]))
            out.same_id, out.other_id = out.same_id or same, out.other_id or not same
            out.other_code = out.other_code or (not same and name == "barcode")
            rest = rest * (1 - IDS[name]) if same else rest + 0.25 * (1 - rest)
    return rest


def proven(one: Comparison, pattern: str) -> Comparison:
    """The same, with the supplier's number following from ours by a pattern that was learnt (in words)."""
    one.evidence.append(Evidence("number", pattern, pattern, 2 * BY_PATTERN))
    one.same_id = True
    whole = one.score / 0.5 if one.veto else one.score
    whole = 100 - (100 - whole) * (1 - BY_PATTERN)
    one.score = 0.5 * whole if one.veto else whole
    return one


@lru_cache(maxsize=200_000)
def _near(one: str, other: str) -> bool:
    """Whether two words are one word mistyped or shortened. Another figure is another thing, never a slip."""
    if not (one.isalpha() and other.isalpha()):
        return False
    if min(len(one), len(other)) >= 5 and OSA.distance(one, other, score_cutoff=1) <= 1:
        return True
    return abbreviates(one, other) or abbreviates(other, one)


def _sizes(ours: Thing, theirs: Thing, out: Comparison, good: float, lack: float, bad: float) -> tuple[float, float, float]:
    left, right = list(ours.measures), list(theirs.measures)
    for one in list(left):
        match = next((other for other in right if _same_measure(one, other)), None)
        if match:
            left.remove(one)
            right.remove(match)
            good += 0.5
            out.evidence.append(Evidence(one[0], one[2], match[2], 0.5))
    for one in list(left):
        rival = next((other for other in right if other[0] == one[0]), None)
        if rival:
            left.remove(one)
            right.remove(rival)
            bad += 0.8
            out.veto = True
            out.evidence.append(Evidence(one[0], one[2], rival[2], -0.8))
    only_ours, only_theirs = ours.sizes - theirs.sizes, theirs.sizes - ours.sizes
    for size in ours.sizes & theirs.sizes:
        good += 0.5
        out.evidence.append(Evidence("size", size, size, 0.5))
    if only_ours and only_theirs:
        bad += 0.8
        out.veto = True
        out.evidence.append(Evidence("size", " ".join(sorted(only_ours)), " ".join(sorted(only_theirs)), -0.8))
        only_ours = only_theirs = set()
    if (left and only_theirs) or (right and only_ours):
        # One is measured in figures and the other in letters.
        bad += 0.5
        out.veto = True
        said_ours, said_theirs = [one[2] for one in left] + sorted(only_ours), [one[2] for one in right] + sorted(only_theirs)
        out.evidence.append(Evidence("size", " ".join(said_ours), " ".join(said_theirs), -0.5))
        return good, lack, bad
    for named, silent, mine in (
        ([one[2] for one in left] + sorted(only_ours), out.silent_theirs, True),
        ([one[2] for one in right] + sorted(only_theirs), out.silent_ours, False),
    ):
        for text in named:
            lack += 0.5
            silent.append(text)
            if not mine:
                out.options.append(text)
            out.evidence.append(Evidence("size", text if mine else "", "" if mine else text, -0.2))
    return good, lack, bad


def _same_measure(one: tuple[str, tuple[float, ...], str], other: tuple[str, tuple[float, ...], str]) -> bool:
    if one[0] != other[0] or len(one[1]) != len(other[1]):
        return False
    return all(abs(a - b) <= NEAR * max(a, b) for a, b in zip(one[1], other[1], strict=True))


def _pack(ours: Thing, theirs: Thing, out: Comparison, good: float) -> float:
    if ours.pack == theirs.pack:
        if ours.pack > 1:
            out.evidence.append(Evidence("pack", str(ours.pack), str(theirs.pack), 0.5))
            good += 0.5
        return good
    out.evidence.append(
        Evidence(
            "pack", f"pack of {ours.pack}" if ours.pack > 1 else "single", f"pack of {theirs.pack}" if theirs.pack > 1 else "single", -0.8
        )
    )
    out.other_pack = True
    return good


def message(evidence: Sequence[Evidence]) -> tuple[list[str], list[str]]:
    """What agrees and what differs, in short words, the weightiest first; words that both or only one side has stand together."""
    agrees: list[str] = []
    differs: list[str] = []
    for one in sorted(evidence, key=lambda one: -abs(one.weight)):
        name = "" if one.field in ("word", "length", "size", "kind") else f"{one.field} "
        if one.weight > 0 and one.field != "word":
            agrees.append(f"{name}{one.ours}" if one.ours == one.theirs else f"{name}{one.ours} = {one.theirs}")
        elif one.weight < 0 and one.ours and one.theirs:
            differs.append(f"{name}{one.ours} / {one.theirs}")
    both = [
        one.ours if one.ours == one.theirs else f"{one.ours} = {one.theirs}" for one in evidence if one.weight > 0 and one.field == "word"
    ]
    agrees += [" ".join(both)] if both else []
    for whose in ("ours", "theirs"):
        only = [getattr(one, whose) for one in evidence if one.weight < 0 and not (one.ours and one.theirs) and getattr(one, whose)]
        differs += [f"only {whose}: {' '.join(only)}"] if only else []
    return agrees, differs
