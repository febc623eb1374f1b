"""What would have come of past orders under prices and quantities that were not shown then. Columns; money in minor units."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .money import Bools, Ints
from .terms import Terms, proceeds


@dataclass(frozen=True)
class Shown:
    """What each listing would have shown, as a step function: sorted by row and then time (ms). live: it was on sale."""

    row: Ints
    at: Ints
    price: Ints
    quantity: Ints
    live: Bools


@dataclass(frozen=True)
class Truth:
    """What was true of each listing's goods, as a step function sorted by row and then time: landed cost, units to be had."""

    row: Ints
    at: Ints
    landed: Ints
    available: Ints


@dataclass(frozen=True)
class Sales:
    """What came of each order line: 0 sold, 1 sold at a loss, 2 oversold (refunded), 3 not on sale; earned for the whole line."""

    outcome: Ints
    earned: Ints
    price: Ints


SOLD, LOSS, OVERSOLD, MISSED = range(4)


def step_at(row: Ints, at: Ints, rows: Ints, times: Ints) -> Ints:
    """The place of the step that holds for each (row, time), -1 before the first one of its row."""
    span = int(max(at.max(initial=0), times.max(initial=0))) + 1
    place = np.searchsorted(row * span + at, rows * span + times, "right") - 1
    good = (place >= 0) & (row[np.maximum(place, 0)] == rows) if len(row) else np.zeros(len(rows), dtype=np.bool_)
    return np.asarray(np.where(good, place, -1), dtype=np.int64)


def sell(shown: Shown, truth: Truth, terms: Terms, refund: Ints, rows: Ints, at: Ints, quantity: Ints, late: Ints) -> Sales:  # noqa: PLR0913 - columns of one length
    """Past order lines sold at the prices of `shown`.

    terms: one row per listing; its landed cost is not used, the true one is. refund: what a refund costs, per listing.
    rows, at, quantity: the lines. late: by how much (ms) what a supplier had may have been seen too late; what was seen so
    much after a line is taken to have been true at it. Buyers are taken to buy as they did, whatever the price.
    """
    seen, real = step_at(shown.row, shown.at, rows, at), step_at(truth.row, truth.at, rows, at + late)
    there = (seen >= 0) & (real >= 0)
    price = np.where(there, shown.price[seen], 1)
    mine = terms.take(rows)
    landed = np.where(there, truth.landed[real], 0)
    exact = Terms(landed, mine.reserve, mine.fee, mine.fee_least, mine.fee_cap, mine.fee_fixed, mine.payment, mine.payment_fixed, mine.tax)
    profit = proceeds(price, exact).profit
    outcome = np.where(profit < 0, LOSS, SOLD)
    outcome[truth.available[real] < quantity] = OVERSOLD
    outcome[~there | ~shown.live[seen] | (shown.quantity[seen] < 1)] = MISSED
    earned = np.where(outcome <= LOSS, profit * quantity, np.where(outcome == OVERSOLD, -refund[rows], 0))
    return Sales(outcome.astype(np.int64), earned.astype(np.int64), price)
