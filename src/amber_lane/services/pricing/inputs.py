"""The small tables that decide prices, read once: what stores take, what suppliers give, rules, policies, rates, services.

A draft is the same facts with some rows changed, so that whatever can be changed can first be looked at.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cache, cached_property
from typing import Any, TypeVar

import numpy as np
from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from ...core import cost
from ...core.currency import minor_digits
from ...core.money import Ints
from ...core.numbers import PPM, half_up
from ...core.plans import Membership, discount_given
from ...data.base import Row
from ...data.prices import Policy, PriceRule, Rate
from ...data.setup import FeeRow, Origin, Service, Store, Supplier
from ...data.statements import all_of, setting
from ..base.regional import home_of

R = TypeVar("R", bound=Row)

# A rate of one, in the billionths that rates are kept in.
NANO = 10**9


@cache
def _rates() -> Select[str, str, int]:
    return select(Rate.base, Rate.quote, Rate.nano).order_by(Rate.day, Rate.id)


def newest_rates(s: Session) -> dict[tuple[str, str], int]:
    """The newest rate of each pair of currencies, units of 1e-9."""
    return {(base, quote): nano for base, quote, nano in s.execute(_rates())}


def house_ppm(rates: Mapping[tuple[str, str], int], currency: str, home: str) -> int | None:
    """ppm of a currency's minor unit in the house's, by its rate (1e-9) or the rate back; None where there is neither."""
    if currency == home:
        return PPM
    nano = rates.get((currency, home))
    if nano is None and (back := rates.get((home, currency))):
        nano = half_up(NANO * NANO, back)
    if nano is None:
        return None
    shift = minor_digits(home) - minor_digits(currency)
    return max(half_up(nano * 10 ** max(shift, 0), 1000 * 10 ** max(-shift, 0)), 1)


class NoRate(ValueError):
    """Nobody has said what one currency is worth in another."""

    def __init__(self, base: str, quote: str) -> None:
        super().__init__(f"there is no exchange rate from {base} to {quote}; enter one under Price, Store fees and rates")


@dataclass(frozen=True)
class Facts:
    """Rows as they stand, or as a draft has them; nothing here is written back."""

    stores: dict[int, Store]
    suppliers: dict[int, Supplier]
    fees: dict[tuple[int, str], FeeRow]
    rules: list[PriceRule]
    policies: list[Policy]
    services: list[Service]
    origins: dict[int, Origin]
    rates: dict[tuple[str, str], int]
    # What really came back, as a share of sales in ppm, by (store, category) and by (store, ''); see services.pricing.return_rates.
    returns: dict[tuple[int, str], int] = field(default_factory=dict)
    # The house's own currency: what all stores earn is added up in it.
    home: str = ""

    @classmethod
    def read(cls, s: Session) -> Facts:
        return cls(
            {row.id: row for row in s.scalars(all_of(Store))},
            {row.id: row for row in s.scalars(all_of(Supplier))},
            fee_rows(s),
            list(s.scalars(all_of(PriceRule))),
            list(s.scalars(all_of(Policy))),
            list(s.scalars(all_of(Service))),
            {row.id: row for row in s.scalars(all_of(Origin))},
            newest_rates(s),
            kept_returns(s),
            home_of(s),
        )

    def worth(self, currencies: Sequence[str]) -> tuple[Ints, list[str]]:
        """Per entry, ppm of its currency's minor unit in the house's, 0 where there is no rate: nothing is added one to one. And which
        currencies that leaves out."""
        kinds = sorted(set(currencies))
        known = {money: house_ppm(self.rates, money, self.home) for money in kinds}
        column = np.array([known[money] or 0 for money in currencies], dtype=np.int64)
        return column, [money for money in kinds if known[money] is None]

    def turned(self, money: str, currencies: Sequence[str]) -> Ints:
        """Per entry, ppm of a minor unit of `money` in the entry's currency; 0 where there is no rate."""
        known = {one: house_ppm(self.rates, money, one) or 0 for one in set(currencies)}
        return np.array([known[one] for one in currencies], dtype=np.int64)

    def in_home(self, amounts: Ints, currencies: Sequence[str]) -> tuple[int, list[str]]:
        """A column of amounts times a pace (ppm), added up in the house's money a day; and which currencies have no rate to it and are left
        out. Each currency is added up before it is turned, so that little is rounded."""
        total, left_out = 0, []
        for money in sorted(set(currencies)):
            minor = half_up(int(amounts[np.array([one == money for one in currencies], dtype=np.bool_)].sum()), PPM)
            ppm = house_ppm(self.rates, money, self.home)
            if ppm is not None:
                total += half_up(minor * ppm, PPM)
            elif minor:
                left_out.append(money)
        return total, left_out

    def rule_money(self, scope: str, key: str) -> str:
        """What amounts of a price rule are in where it does not say: its store's money, else the one that all stores share, else the
        house's (see `regional.rules_of`)."""
        kinds = {store.currency for store in self.stores.values()}
        mine = next((store.currency for store in self.stores.values() if (scope, key) == ("store", store.code)), "")
        return mine or (kinds.pop() if len(kinds) == 1 else self.home)

    @cached_property
    def service_to(self) -> dict[tuple[int, str, str], Service]:
        """The terms of each service by (origin, code, country)."""
        return {(one.origin_id, one.code, one.country): one for one in self.services}

    def conversion(self, supplier: Supplier, currency: str, cushion: int, discount: bool = True, of: str = "") -> cost.Conversion:
        """From a supplier's money (or that of one of its items, `of`) into a store's; NoRate without a rate.

        The cushion (ppm) counts only where currencies differ.
        """
        off, money = discount_of(supplier) if discount else 0, of or supplier.currency
        if money == currency:
            return cost.Conversion(discount=off)
        nano = self.rates.get((money, currency))
        if nano is None:
            raise NoRate(money, currency)
        return cost.Conversion(Decimal(nano).scaleb(-9), cushion, off, minor_digits(money), minor_digits(currency))

    def billing(self, supplier: Supplier, of: str) -> cost.Conversion:
        """From an item's money into its supplier's, which its bills are in. Where there is no rate between the two, by what both are
        worth in a third money, or by the rate back; so whatever a lane's cost is known in can be bought. NoRate else."""
        if of == supplier.currency or (of, supplier.currency) in self.rates:
            return self.conversion(supplier, supplier.currency, 0, of=of)
        for quote in (of, *(quote for base, quote in self.rates if base == of)):
            own = NANO if quote == of else self.rates[of, quote]
            if other := self.rates.get((supplier.currency, quote)):
                rate = Decimal(own) / Decimal(other)
                return cost.Conversion(rate, 0, discount_of(supplier), minor_digits(of), minor_digits(supplier.currency))
        raise NoRate(of, supplier.currency)

    def parcel(self, supplier: Supplier, origin: Origin, service: Service, currency: str, cushion: int) -> cost.ParcelTerms:
        """What sending by a service costs, in a store's money; the supplier's discount is on goods alone."""
        convert = self.conversion(supplier, currency, cushion, discount=False)

        def turned(minor: int) -> int:
            return cost.convert_one(minor, convert)

        bands = tuple((up_to, turned(first), turned(following)) for up_to, first, following in service.weight_bands or [])
        free = None if service.free_over is None else turned(service.free_over)
        return cost.ParcelTerms(turned(origin.handling), turned(service.first), turned(service.following), free, bands)

    def with_fees(self, store: int, terms: Mapping[str, int], fees: Iterable[Mapping[str, Any]]) -> Facts:
        """As if a store took other fees."""
        others = {key: row for key, row in self.fees.items() if key[0] != store}
        mine = {(store, str(fee["category"])): FeeRow(store_id=store, **fee) for fee in fees}
        return replace(self, stores={**self.stores, store: changed(self.stores[store], terms)}, fees=others | mine)

    def with_supplier(self, supplier: int, terms: Mapping[str, int]) -> Facts:
        """As if a supplier gave other terms."""
        return replace(self, suppliers={**self.suppliers, supplier: changed(self.suppliers[supplier], terms)})

    def with_rate(self, base: str, quote: str, nano: int) -> Facts:
        """As if one currency were worth something else in another."""
        return replace(self, rates={**self.rates, (base, quote): nano})

    def with_policy(self, scope: str, key: str, fields: Mapping[str, Any]) -> Facts:
        """As if a policy said something else; None takes a field back to what it inherits."""
        rest = [one for one in self.policies if (one.scope, one.scope_key) != (scope, key)]
        old = next((one.fields for one in self.policies if (one.scope, one.scope_key) == (scope, key)), {})
        return replace(self, policies=[*rest, Policy(scope=scope, scope_key=key, fields=laid_over(old, fields))])


def plans_of(supplier: Supplier) -> list[Membership]:
    """The memberships and volume discounts that a supplier offers."""
    return [Membership(**one) for one in supplier.plans or []]


def discount_of(supplier: Supplier) -> int:
    """The discount on goods that a supplier gives us now, in ppm."""
    return discount_given(supplier.discount, plans_of(supplier)) if supplier.plans else supplier.discount


RETURNS = "returns"


def kept_returns(s: Session) -> dict[tuple[int, str], int]:
    """Shares of sales that came back, as they were last counted."""
    row = s.scalar(setting(RETURNS))
    return {(int(store), category): share for store, category, share, *_ in row.value["rows"]} if row else {}


def laid_over(old: Mapping[str, Any], fields: Mapping[str, Any]) -> dict[str, Any]:
    """A policy's fields after a change; a field set to None is inherited again."""
    return {name: value for name, value in {**old, **fields}.items() if value is not None}


def changed(row: R, values: Mapping[str, Any]) -> R:
    """A copy of a row with other values; it belongs to no session and is never written."""
    return type(row)(**{column.key: getattr(row, column.key) for column in row.__mapper__.column_attrs} | dict(values))


def fee_rows(s: Session) -> dict[tuple[int, str], FeeRow]:
    """What each store takes, by category; the row without a category is for all others."""
    return {(row.store_id, row.category): row for row in s.scalars(all_of(FeeRow))}


def fee_of(fees: Mapping[tuple[int, str], FeeRow], store: int, category: str) -> FeeRow | None:
    return fees.get((store, category)) or fees.get((store, ""))


def all_fees(s: Session) -> Sequence[FeeRow]:
    return s.scalars(select(FeeRow).order_by(FeeRow.category)).all()
