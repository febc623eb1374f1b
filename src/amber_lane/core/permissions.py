"""What a person may do: permissions, the roles that a house begins with, and what a person is limited to. One table for all of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from .currency import usual_amount


class Permission(StrEnum):
    """SEE_GOODS: SKUs, listings, lanes and items, without any money. SEE_MONEY: what things cost, sell for and leave.

    LIST: find goods, prepare and publish listings. ORDER: buy, cancel, hold, and a depot's loads. CLAIM: parcels and cases.
    """

    SEE_GOODS = "see goods"
    SEE_ORDERS = "see orders"
    SEE_MONEY = "see money"
    SEE_BOOKS = "see books"
    MAP = "map"
    LIST = "list"
    PRICE = "price"
    ORDER = "order"
    CLAIM = "claim"
    KEEP_BOOKS = "keep books"
    SETTINGS = "settings"
    PEOPLE = "people"


P = Permission
SEES = frozenset({P.SEE_GOODS, P.SEE_ORDERS, P.SEE_MONEY, P.SEE_BOOKS})
# Doing something needs to see it.
NEEDS_TO_SEE: Mapping[Permission, frozenset[Permission]] = {
    P.MAP: frozenset({P.SEE_GOODS}),
    P.LIST: frozenset({P.SEE_GOODS, P.SEE_MONEY}),
    P.PRICE: frozenset({P.SEE_GOODS, P.SEE_MONEY}),
    P.ORDER: frozenset({P.SEE_GOODS, P.SEE_ORDERS, P.SEE_MONEY}),
    P.CLAIM: frozenset({P.SEE_ORDERS, P.SEE_MONEY}),
    P.KEEP_BOOKS: frozenset({P.SEE_BOOKS, P.SEE_ORDERS, P.SEE_MONEY}),
    P.SEE_BOOKS: frozenset({P.SEE_MONEY}),
    P.SETTINGS: frozenset({P.SEE_GOODS, P.SEE_MONEY}),
}


class Limit(StrEnum):
    """What a person may do up to an amount a day."""

    SPEND = "spend"
    REFUND = "refund"


@dataclass(frozen=True)
class Role:
    """permissions: what whoever has it may do. spend, refund: so much a day at most, in minor units of the house's money; None = no limit.

    own_page: they see purchase orders of theirs on a page of its own, and nothing else.
    """

    name: str
    permissions: frozenset[Permission] = frozenset()
    spend: int | None = 0
    refund: int | None = 0
    own_page: bool = False
    words: str = ""

    def limit(self, of: Limit) -> int | None:
        return self.spend if of is Limit.SPEND else self.refund


MANAGER, AGENT, ASSISTANT = "manager", "agent", "assistant"


def built_in(currency: str) -> dict[str, Role]:
    """The roles that every house has; limits of money are round amounts of its currency.

    >>> built_in("JPY")["buyer"].spend, sorted(built_in("GBP")["mapper"].permissions)
    (32000, [<Permission.MAP: 'map'>, <Permission.SEE_GOODS: 'see goods'>])
    """
    buys = {P.SEE_GOODS, P.SEE_ORDERS, P.SEE_MONEY, P.MAP, P.LIST, P.ORDER, P.CLAIM}
    rows = (
        Role(MANAGER, frozenset(P), None, None, words="sees and does everything"),
        Role(
            "buyer", frozenset(buys), usual_amount(20_000, currency), usual_amount(5_000, currency), words="finds, maps, orders and claims"
        ),
        Role("mapper", frozenset({P.SEE_GOODS, P.MAP}), words="maps SKUs to items, and sees no money"),
        Role(
            "claims",
            frozenset({P.SEE_ORDERS, P.SEE_MONEY, P.CLAIM}),
            usual_amount(5_000, currency),
            usual_amount(5_000, currency),
            words="follows parcels, opens and settles cases",
        ),
        Role("bookkeeper", SEES, words="reads orders and books, and changes nothing"),
        Role(AGENT, own_page=True, words="sees the purchase orders of their suppliers alone"),
        Role(ASSISTANT, own_page=True, words="sees the purchase orders of their stores alone"),
    )
    return {one.name: one for one in rows}


def whole(permissions: Iterable[Permission]) -> frozenset[Permission]:
    """Permissions with all that they need to see."""
    given = set(permissions)
    while more := {seen for one in given for seen in NEEDS_TO_SEE.get(one, ())} - given:
        given |= more
    return frozenset(given)


@dataclass(frozen=True)
class Scope:
    """What a person is limited to; where nothing is named, to nothing. Ids of stores and suppliers, names of categories."""

    stores: frozenset[int] = frozenset()
    suppliers: frozenset[int] = frozenset()
    categories: frozenset[str] = frozenset()

    @property
    def limited(self) -> bool:
        return bool(self.stores or self.suppliers or self.categories)

    @classmethod
    def of(cls, kept: Mapping[str, Iterable[object]]) -> Scope:
        """As a person's row keeps it."""
        numbers = {name: frozenset(int(str(one)) for one in kept.get(name, ())) for name in ("stores", "suppliers")}
        return cls(**numbers, categories=frozenset(str(one) for one in kept.get("categories", ())))

    def kept(self) -> dict[str, list[int] | list[str]]:
        named: dict[str, list[int] | list[str]] = {
            "stores": sorted(self.stores),
            "suppliers": sorted(self.suppliers),
            "categories": sorted(self.categories),
        }
        return {name: some for name, some in named.items() if some}


@dataclass(frozen=True)
class Allowed:
    """What one person may do now."""

    role: Role
    scope: Scope = field(default_factory=Scope)

    def may(self, *asked: Permission) -> bool:
        return all(one in self.role.permissions for one in asked)


# Of what acts by itself.
EVERYTHING = Allowed(Role(MANAGER, frozenset(Permission), None, None))
