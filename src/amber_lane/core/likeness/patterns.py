"""How a supplier's numbers follow from ours, learnt from the lanes that people have opened: such as a prefix before our SKU."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from rapidfuzz.distance import LCSseq

# A pattern counts once so many lanes follow it, and hardly any speaks against it.
SEEN_FROM, RIGHT_FROM, LOOKED_AT, CORE = 5, 0.98, 400, 3


@dataclass(frozen=True, slots=True)
class Pattern:
    """Our SKU = cut[0] + x + cut[1]; the supplier's number = put[0] + x + put[1]. seen: lanes that follow it; of: that could."""

    supplier: str
    cut: tuple[str, str]
    put: tuple[str, str]
    seen: int = 0
    of: int = 0

    def number(self, sku: str) -> str:
        """The number that a SKU would have with this supplier; '' where the pattern does not fit it.

        >>> Pattern("S", ("DD-", ""), ("NT/", "")).number("DD-CHART-A2")
        'NT/CHART-A2'
        """
        before, after = self.cut
        inner = sku[len(before) : len(sku) - len(after)]
        if len(inner) < CORE or not (sku.startswith(before) and sku.endswith(after)):
            return ""
        return f"{self.put[0]}{inner}{self.put[1]}"

    @property
    def message(self) -> str:
        """The pattern in words: what stands before and after the common part."""
        ours, theirs = (f"{a}…{b}" for a, b in (self.cut, self.put))
        return f"{theirs} from {ours}" if ours != "…" else f"{theirs} from your SKU" if theirs != "…" else "the same number"


def learn(pairs: Sequence[tuple[str, str, str]], numbers: Mapping[str, Iterable[str]]) -> list[Pattern]:
    """Patterns in (SKU, supplier, item number) that people have opened. numbers: all item numbers by supplier.

    One pattern counts against another lane only where the number that it names exists and the lane goes elsewhere.
    """
    by_supplier: dict[str, list[tuple[str, str]]] = {}
    for sku, supplier, number in pairs:
        by_supplier.setdefault(supplier, []).append((sku, number))
    out: list[Pattern] = []
    for supplier, mine in sorted(by_supplier.items()):
        if len(mine) < SEEN_FROM:
            continue
        step = max(1, len(mine) // LOOKED_AT)
        shapes = Counter(shape for sku, number in mine[::step] if (shape := _shape(sku, number)))
        there = set(numbers.get(supplier, ()))
        of_sku: dict[str, set[str]] = {}
        for sku, number in mine:
            of_sku.setdefault(sku, set()).add(number)
        for (cut, put), _ in shapes.most_common(6):
            one = Pattern(supplier, cut, put)
            guessed = [(sku, guess) for sku in of_sku if (guess := one.number(sku)) in there]
            right = sum(1 for sku, guess in guessed if guess in of_sku[sku])
            if right >= SEEN_FROM and right >= RIGHT_FROM * len(guessed):
                out.append(Pattern(supplier, cut, put, right, len(guessed)))
    return out


def _shape(sku: str, number: str) -> tuple[tuple[str, str], tuple[str, str]] | None:
    """Cut and put around the longest part that both share; None where they share next to nothing."""
    best = (0, 0, 0)
    for op in LCSseq.opcodes(sku, number):
        if op.tag == "equal" and op.src_end - op.src_start > best[2]:
            best = (op.src_start, op.dest_start, op.src_end - op.src_start)
    at, there, size = best
    if size < CORE:
        return None
    return (sku[:at], sku[at + size :]), (number[:there], number[there + size :])
