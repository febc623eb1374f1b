"""How numbers are written for people: the mark between thousands, the one before decimals, and where an amount's sign stands.

One process serves one house, so its manner stands here, as the process's own (`use`). Nothing is worked out by it, and no sheet, no
call to a partner and no stored figure is written by it; sentences, mails and papers are.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Writing:
    """group: between thousands; decimal: before decimals; sign_after: 12.50 € instead of €12.50."""

    group: str = ","
    decimal: str = "."
    sign_after: bool = False

    def digits(self, plain: str) -> str:
        """A plain number as people write it, with a real minus.

        >>> Writing(" ", ",").digits("-1234567.50")
        '−1 234 567,50'
        """
        whole, point, part = plain.removeprefix("-").partition(".")
        text = f"{int(whole or 0):,}".replace(",", self.group) + (self.decimal + part if point else "")
        return f"−{text}" if plain.startswith("-") else text

    def money(self, plain: str, sign: str, code: str) -> str:
        """An amount with the sign of its currency, or its code where no sign says it alone.

        >>> Writing().money("-3.18", "€", "EUR"), Writing(".", ",", True).money("1250", "€", "EUR"), Writing().money("0.5", "", "PLN")
        ('−€3.18', '1.250 €', '0.5 PLN')
        """
        minus, text = "−" if plain.startswith("-") else "", self.digits(plain.removeprefix("-"))
        return f"{minus}{sign}{text}" if sign and not self.sign_after else f"{minus}{text} {sign or code}"


_NOW = [Writing()]


def use(writing: Writing) -> None:
    """Write in this manner from now on."""
    _NOW[0] = writing


def digits(plain: str) -> str:
    """A plain number as the house writes it."""
    return _NOW[0].digits(plain)


def grouped(n: int) -> str:
    """A whole number as people write it.

    >>> grouped(12000)
    '12,000'
    """
    return digits(str(n))


def decimals(value: float, places: int) -> str:
    """A rounded number as people write it.

    >>> decimals(1234.56, 1)
    '1,234.6'
    """
    return digits(f"{value:.{places}f}")


def short(value: float) -> str:
    """A number with as few decimals as it needs.

    >>> short(1.5), short(24.0)
    ('1.5', '24')
    """
    return digits(f"{value:.6f}".rstrip("0").rstrip("."))


def money(plain: str, sign: str, code: str) -> str:
    """An amount as the house writes it; see `Writing.money`."""
    return _NOW[0].money(plain, sign, code)
