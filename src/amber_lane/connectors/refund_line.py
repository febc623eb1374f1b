"""What of a store's order is paid back to its buyer."""

from __future__ import annotations

from typing import NamedTuple


class RefundLine(NamedTuple):
    """A line of a store's order to be paid back. quantity: how many of it, 0 = all; amount: minor units of the order's money, None = what
    so many of it were sold for."""

    line: int
    quantity: int = 0
    amount: int | None = None
