"""A bank's table of exchange rates, made anew once a day."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation

import httpx
from pydantic import Field

from .errors import Malformed
from .http import Caller
from .protocols import Account, Budget, RateTable
from .wire import Short, Time, Wire


class _Account(Wire):
    name: Short
    may: list[Short]
    account: Short = ""


class _Table(Wire):
    as_of: Time
    base: Short
    rates: dict[str, Short] = Field(max_length=400)


class RatesApi:
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.call = Caller("the bank", address, {"Bank-Key": key}, deadline, transport)

    def budget(self) -> Budget | None:
        return self.call.budget

    def account(self) -> Account:
        said = self.call.ask("/account", _Account)
        return Account(said.name, "", "", list(said.may), number=said.account)

    def table(self) -> RateTable:
        """Units of each currency for one of the base's, as told for the day; currencies that cannot be read are left out."""
        said = self.call.ask("/table", _Table)
        rates: dict[str, Decimal] = {said.base: Decimal(1)}
        for money, text in said.rates.items():
            try:
                value = Decimal(text)
            except InvalidOperation:
                continue
            if value.is_finite() and 0 < value < 10**6 and len(money) == 3:
                rates[money] = value
        if len(rates) < 2:
            raise Malformed("the bank's table holds no rate that can be read")
        return RateTable(said.as_of, rates)
