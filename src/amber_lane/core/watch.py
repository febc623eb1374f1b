"""What of a sweep may be believed (computation, section 5: refusal, doubt, held sweeps)."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

import numpy as np

from .money import Bools, Floats, Ints
from .numbers import PPM

COST_MAX = 100_000_000
STOCK_MAX = 100_000_000
# A cost under one fifth of the last good one is absurd.
ABSURD = 5
# How an item usually moves is told by its last changes of cost; fewer than the least say nothing.
CHANGES_MOST, CHANGES_LEAST = 30, 8
# A median absolute deviation as a standard one (for moves that are spread normally), and moves too small to doubt.
ROBUST, SMALL = 1.4826, 0.05


class Verdict(IntEnum):
    """What becomes of one sighting."""

    same = 0
    good = 1
    doubted = 2
    refused = 3


@dataclass(frozen=True)
class Belief:
    """What we hold to be true of items, and what is in doubt. Columns of one length; -1 = never seen."""

    cost: Ints
    stock: Ints
    doubt_cost: Ints
    doubt_stock: Ints
    doubt_seen: Ints


@dataclass(frozen=True)
class JudgedSightings:
    """verdict per item; `doubt_seen` = how often the doubted values were seen again unchanged."""

    verdict: Ints
    doubt_seen: Ints


def usual_moves(item: Ints, old: Ints, new: Ints, deviations: float) -> dict[int, tuple[float, float]]:
    """Between which changes of cost (natural logs) each item moves as it usually does.

    item, old, new: changes of cost, the newest of an item first; costs in minor units above 0. Items with fewer than eight
    changes are left out. Returns item -> (lowest, highest): median -+ deviations x 1.4826 x median absolute deviation, and
    never narrower than 5 % either way. Source: computation, section 5.
    """
    out: dict[int, tuple[float, float]] = {}
    moves: dict[int, list[float]] = {}
    for number, move in zip(item.tolist(), np.log(new / old).tolist(), strict=True):
        mine = moves.setdefault(number, [])
        if len(mine) < CHANGES_MOST:
            mine.append(move)
    for number, mine in moves.items():
        if len(mine) >= CHANGES_LEAST:
            middle = float(np.median(mine))
            reach = deviations * ROBUST * float(np.median(np.abs(np.array(mine) - middle)))
            out[number] = (min(middle - reach, -SMALL), max(middle + reach, SMALL))
    return out


def judge(
    cost: Ints, stock: Ints, known: Bools, belief: Belief, percent: int, again: int, usual: tuple[Floats, Floats] | None = None
) -> JudgedSightings:
    """Accept, doubt or refuse each sighting.

    cost in minor units of the item's own currency, stock in supplier units (-1 = not told, the last
    one stands). `known`: currency is the item's and the row is well formed. percent in ppm: a larger
    move of cost is doubted; `again` sweeps that see the same accept it, unless it is absurd. `usual`: the lowest and highest
    change of cost (natural log) that is usual for each item; what lies outside is doubted as well.
    """
    refused = ~known | (cost <= 0) | (cost > COST_MAX) | (stock < -1) | (stock > STOCK_MAX)
    same = (cost == belief.cost) & ((stock == belief.stock) | (stock == -1))
    seen_before = belief.cost > 0
    far = seen_before & (np.abs(cost - belief.cost) * PPM > belief.cost * percent)
    if usual is not None:
        move = np.log(np.maximum(cost, 1) / np.maximum(belief.cost, 1))
        far |= seen_before & ((move < usual[0]) | (move > usual[1]))
    repeat = far & (cost == belief.doubt_cost)
    seen = np.where(repeat, belief.doubt_seen + 1, 0)
    # A price of next to nothing does not become true by being repeated; only a person can say so.
    absurd = seen_before & (cost * ABSURD < belief.cost)
    doubted = far & ((seen < again) | absurd)
    verdict = np.full(len(cost), int(Verdict.good), dtype=np.int64)
    verdict[same] = Verdict.same
    verdict[doubted] = Verdict.doubted
    verdict[refused] = Verdict.refused
    return JudgedSightings(verdict, np.where(doubted & ~refused, seen, 0))


@dataclass(frozen=True)
class SweepHold:
    """Why a whole sweep is not used. Shares in ppm."""

    fell_to_zero: int
    of: int
    median_move: int
    reason: str


def hold_sweep(
    cost: Ints, stock: Ints, belief: Belief, gone: int, share: int = 300_000, median: int = 150_000, least: int = 20
) -> SweepHold | None:
    """Hold a sweep when too much fell to zero (or vanished) at once, or the median cost moved too far.

    cost, stock: what the sweep saw of the items it had before; `gone`: how many were not there.
    Only items that had stock can fall to zero, but the share is of all items known before.
    """
    known = belief.cost > 0
    of = int(known.sum()) + gone
    if of < least:
        return None
    fell = int((known & (belief.stock > 0) & (stock == 0)).sum()) + gone
    moves = np.abs(cost[known] - belief.cost[known]) * PPM // belief.cost[known]
    moved = int(np.median(moves)) if len(moves) else 0
    if fell * PPM > share * of:
        return SweepHold(fell, of, moved, "zero")
    if moved > median:
        return SweepHold(fell, of, moved, "median")
    return None
