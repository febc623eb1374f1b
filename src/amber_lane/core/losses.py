"""What goods that come broken, wrong or never cost beside their price: learnt from claims, as a part of what the goods cost."""

from __future__ import annotations

from fractions import Fraction

from .numbers import PPM, half_up

# A supplier is taken to be like all suppliers, and an item like its supplier, as if so many units had been seen.
LIKE_HOUSE, LIKE_SUPPLIER = 60, 20


def shrunk(bad: int, sent: int, like: Fraction, weight: int) -> Fraction:
    """A share of units, drawn to another one while few were seen.

    >>> shrunk(0, 0, Fraction(1, 50), 60), shrunk(3, 20, Fraction(1, 50), 20)
    (Fraction(1, 50), Fraction(17, 200))
    """
    return (bad + like * weight) / (sent + weight)


def lost_ppm(share: Fraction, recovered: Fraction) -> int:
    """Of what goods cost, in ppm, so much is lost on claims: their share, less what the supplier gives back of it.

    >>> lost_ppm(Fraction(1, 20), Fraction(3, 5)), lost_ppm(Fraction(0), Fraction(1))
    (20000, 0)
    """
    lost = share * (1 - min(max(recovered, Fraction(0)), Fraction(1)))
    return half_up(lost.numerator * PPM, lost.denominator)


__all__ = ["LIKE_HOUSE", "LIKE_SUPPLIER", "lost_ppm", "shrunk"]
