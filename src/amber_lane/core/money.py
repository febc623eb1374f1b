"""Columns of money: integer minor units, rates as integers in parts per million.

Nothing here (or anywhere in the core) puts money into a binary float.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
# Only for estimates that are checked in whole pennies afterwards, never for money itself.
Floats = npt.NDArray[np.floating[Any]]


def half_up_columns(numerator: Ints, denominator: Ints | int) -> Ints:
    """`half_up` on columns; the caller keeps 2 x numerator inside int64."""
    return np.asarray((2 * numerator + denominator) // (2 * denominator), dtype=np.int64)
