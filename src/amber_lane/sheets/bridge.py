"""The bridge calculator's sheets (`amber-lane calc bridge`): two periods by SKU in, why profit changed out."""

from __future__ import annotations

import re

from ..core import books, currency
from .table import read_sheet

AMOUNTS = ("sales", "tax", "store_fee", "payment_fee", "goods", "shipping", "handling", "other")
HEADER = ("effect", "amount")


def bridge_sheets(before: bytes, after: bytes, money: str) -> list[list[str]]:
    """The two profits and every effect between them. ValueError where a row cannot be read, or a SKU stands twice in one sheet."""
    currency.minor_digits(money)
    found = books.bridge(_read(before, "before", money), _read(after, "after", money))
    rows = [("profit_before", found.before), *found.effects.items(), ("profit_after", found.after)]
    return [[name, currency.plain(amount, money)] for name, amount in rows]


def _read(data: bytes, what: str, money: str) -> dict[str, books.Sums]:
    out: dict[str, books.Sums] = {}
    for number, row in enumerate(read_sheet(data, ("sku", "units"), AMOUNTS).rows, 2):
        try:
            sku = row.get("sku", "")
            if not sku:
                raise ValueError("sku is empty")
            if sku in out:
                raise ValueError(f"{sku} stands in it twice; add its rows up first")
            out[sku] = _sums(row, money)
        except ValueError as error:
            raise ValueError(f"{what}, row {number}: {error}") from error
    return out


def _sums(row: dict[str, str], money: str) -> books.Sums:
    amount = {name: currency.parse_money(row[name], money, name) if row.get(name) else 0 for name in AMOUNTS}
    units = row.get("units") or "0"
    if not re.fullmatch(r"[0-9]{1,9}", units):
        raise ValueError(f"units: {units!r} is not a whole number of pieces")
    return books.Sums(
        int(units),
        amount["sales"] - amount["tax"],
        amount["goods"] + amount["shipping"] + amount["handling"],
        amount["store_fee"] + amount["payment_fee"],
        amount["other"],
    )
