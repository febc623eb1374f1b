"""Shown quantity, shared stock, pause and resume (computation, section 4)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from .money import Bools, Ints


def serves(stock: Ints, owed: Ints, units_num: Ints, units_den: Ints) -> Ints:
    """Units sold that one item can still serve: floor((stock - owed) / units), never below 0."""
    return np.asarray(np.maximum(stock - owed, 0) * units_den // units_num, dtype=np.int64)


def first_of(rows: Ints, *keys: Ints | Bools) -> Ints:
    """Of each run of equal `rows` the place of the first entry by the keys, the most important key first, then by place.

    rows sorted; each key from 0 to 1,000,000, the keys' ranges and the length together inside int64. Returns one place per run.
    Used to choose a listing's lane: those with stock first, those of its own store first, in the order of use.
    """
    n = len(rows)
    if not n:
        return np.zeros(0, dtype=np.int64)
    mark = np.zeros(n, dtype=np.int64)
    for key in keys:
        wide = int(key.max(initial=0)) + 1
        mark = mark * wide + key
    starts = np.flatnonzero(np.r_[True, rows[1:] != rows[:-1]])
    return np.asarray(np.minimum.reduceat(mark * n + np.arange(n), starts) % n, dtype=np.int64)


def shown(available: Ints, cap: Ints, cushion: Ints) -> Ints:
    """max(0, min(cap, available - cushion))."""
    return np.asarray(np.maximum(0, np.minimum(cap, available - cushion)), dtype=np.int64)


@dataclass(frozen=True)
class Draw:
    """One listing's pull on a shared stock: what it would show, and (item, units) of each part."""

    wanted: int
    parts: tuple[tuple[int, int, int], ...]


def share_out(stock: dict[int, int], draws: Sequence[Draw]) -> list[int]:
    """Shown quantities of listings that share items, one unit at a time in turn.

    stock: item -> units left to promise (after owed and cushion). No item is ever promised beyond
    its stock, counting whole packs per listing. Earlier draws are served first within a round.

    >>> share_out({1: 5}, [Draw(4, ((1, 1, 1),)), Draw(4, ((1, 2, 1),))])
    [3, 1]
    """
    left = dict(stock)
    asked: dict[int, int] = {}
    for draw in draws:
        for item, n, d in draw.parts:
            asked[item] = asked.get(item, 0) + _packs(draw.wanted, n, d)
    scarce = {item for item, packs in asked.items() if packs > left.get(item, 0)}
    # Who draws on nothing scarce gets what it wants, whatever the turns.
    given = [0 if any(item in scarce for item, _, _ in draw.parts) else max(draw.wanted, 0) for draw in draws]
    open_draws = [i for i, draw in enumerate(draws) if 0 < draw.wanted != given[i]]
    while open_draws:
        still = []
        for i in open_draws:
            draw = draws[i]
            need = [(item, _packs(given[i] + 1, n, d) - _packs(given[i], n, d)) for item, n, d in draw.parts]
            total: dict[int, int] = {}
            for item, packs in need:
                total[item] = total.get(item, 0) + packs
            if all(left.get(item, 0) >= packs for item, packs in total.items()):
                for item, packs in total.items():
                    left[item] = left.get(item, 0) - packs
                given[i] += 1
                if given[i] < draw.wanted:
                    still.append(i)
        open_draws = still
    return given


def _packs(quantity: int, num: int, den: int) -> int:
    return -(-quantity * num // den)


@dataclass(frozen=True)
class Presence:
    """Whether listings are on sale after a sweep. `steady` counts good sweeps in a row while paused."""

    pause: Bools
    resume: Bools
    steady: Ints


def presence(quantity: Ints, paused: Bools, steady: Ints, pause_at: Ints, resume_at: Ints, sweeps: Ints) -> Presence:
    """Pause at once at or under `pause_at`; resume when `sweeps` sweeps running saw `resume_at` or more.

    All columns have one entry per listing; `paused` is only what stock paused, never a person's pause.
    """
    enough = quantity >= resume_at
    counted = np.where(paused & enough, steady + 1, 0)
    resume = paused & (counted >= sweeps)
    return Presence(~paused & (quantity <= pause_at), resume, np.where(resume, 0, counted))
