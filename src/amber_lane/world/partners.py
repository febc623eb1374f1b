"""Who there is in the practice world: stores that sell and suppliers that send, each with terms of its own."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from .lands import here, minor_in, text

# Where services go to: the house's own country, and the two near it.
HOME, NEAR, NEXT = "home", "near", "next"
# Up to so many grams: the first unit, each next.
BANDS_48 = [(2_000, 160, 55), (10_000, 290, 95), (30_000, 640, 180)]
BANDS_24 = [(2_000, 290, 80), (10_000, 460, 130)]
# Every seventh item of a wholesaler is cheaper by the dozen: from so many, so many percent off.
TIERS = ((10, 6), (40, 12))
# A print that is set up once costs less by the dozen.
PRINT_TIERS = ((12, 6), (48, 11))


@dataclass(frozen=True)
class Shop:
    """A store of the world. first_number: what its order numbers begin with; share: its part of all buyers."""

    code: str
    name: str
    prefix: str
    first_number: int
    share: float
    carriers: tuple[str, ...] = ("Swiftwing Post",)


@dataclass(frozen=True)
class Seller:
    """A supplier of the world. land, money: '' = those of the house. moves: how often its figures change, against others."""

    code: str
    name: str
    land: str
    money: str
    mark: str
    origins_at: tuple[dict[str, Any], ...]
    ways: tuple[dict[str, Any], ...]
    tiers: bool = False
    moves: float = 1.0
    tax: int = 0
    accounts: dict[str, Any] = field(default_factory=dict)

    @property
    def country(self) -> str:
        return self.land or here().country

    @property
    def currency(self) -> str:
        return self.money or here().currency

    @property
    def origins(self) -> list[dict[str, Any]]:
        """Its warehouses; those of a seller at home have the land's towns."""
        out = []
        for n, one in enumerate(self.origins_at):
            own = {"country": self.country, "handling": self._amount(one["handling"])}
            if one["code"] == "home":
                own["code"], own["name"] = here().warehouses[n]
            if not self.land:
                own["return_address"] = f"{one['return_address']}, {here().back[n if one['code'] == 'home' else 2]}"
            out.append(one | own)
        return out

    @property
    def services(self) -> list[dict[str, Any]]:
        places = {HOME: here().country, NEAR: here().near[0], NEXT: here().near[1]}
        names = ("first", "following", "free_over")
        amounts = [{name: None if one[name] is None else self._amount(one[name]) for name in names} for one in self.ways]
        bands = [[(up_to, self._amount(first), self._amount(more)) for up_to, first, more in one["bands"]] for one in self.ways]
        return [
            one | money | {"country": places[one["country"]], "bands": steps}
            for one, money, steps in zip(self.ways, amounts, bands, strict=True)
        ]

    def _amount(self, given: int) -> int:
        return given if self.money else here().amount(given)

    def minor(self, amount: str) -> int:
        """The text of an amount of its money in minor units."""
        return minor_in(amount, self.currency)

    def text(self, minor: int) -> str:
        """An amount of its money as text."""
        return text(minor, self.currency)


def make_origin(
    code: str, name: str, country: str, handling: int, cut_off: str, back: str, holidays: tuple[str, ...] = ()
) -> dict[str, Any]:
    return {
        "code": code,
        "name": name,
        "country": country,
        "handling": handling,
        "cut_off": cut_off,
        "return_address": back,
        "holidays": list(holidays),
    }


def make_way(
    code: str, name: str, country: str, first: int, following: int, free: int | None, low: int, high: int, bands: Any = ()
) -> dict[str, Any]:
    return {
        "code": code,
        "name": name,
        "country": country,
        "first": first,
        "following": following,
        "free_over": free,
        "low": low,
        "high": high,
        "bands": list(bands),
    }


SHOPS = {
    one.code: one
    for one in (
        Shop("shop", "Dusk & Dial shop", "", 4000, 0.55),
        Shop("fair", "Bramble Fair", "F-", 70_000, 0.33, ("Swiftwing", "Greenway")),
        Shop("craft", "Hearthmade Row", "R", 300, 0.12, ("swiftwing post", "other")),
    )
}
SELLERS = {
    one.code: one
    for one in (
        Seller(
            "wholesale",
            "Northlight Trade",
            "",
            "",
            "NT",
            (
                make_origin("home", "", "", 30, "16:00", "Northlight returns", ("2026-04-03",)),
                make_origin("home", "", "", 30, "14:00", "Northlight returns", ("2026-04-03",)),
            ),
            (
                make_way("tracked48", "Tracked 48", HOME, 160, 55, 4000, 2, 3, BANDS_48),
                make_way("tracked48", "Tracked abroad", NEAR, 460, 160, None, 4, 6),
                make_way("tracked48", "Tracked abroad", NEXT, 530, 160, None, 4, 7),
                make_way("tracked24", "Tracked 24", HOME, 290, 80, 6000, 1, 2, BANDS_24),
                make_way("cartons", "Whole cartons", HOME, 1190, 5, None, 3, 5),
            ),
            tiers=True,
        ),
        Seller(
            "folder",
            "Quayside Bulk",
            "PL",
            "PLN",
            "QB",
            (
                make_origin(
                    "gdynia", "Gdynia", "PL", 150, "12:00", "Quayside Bulk, ul. Nabrzeżna 12, 81-339 Gdynia", ("2026-04-06", "2026-05-01")
                ),
            ),
            (
                make_way("road", "Road parcel", HOME, 1290, 300, 40_000, 6, 9),
                make_way("road", "Road parcel", NEAR, 1690, 300, None, 7, 10),
                make_way("road", "Road parcel", NEXT, 1190, 300, 40_000, 4, 6),
            ),
            moves=0.6,
        ),
        Seller(
            "retail",
            "Sable Retail",
            "",
            "",
            "SR",
            (make_origin("online", "online", "", 0, "11:00", "Sable Retail returns"),),
            (make_way("standard", "Standard", HOME, 395, 0, 3500, 3, 5),),
            moves=3.0,
            tax=200_000,
        ),
    )
}
# Buys for others and works by mail; it shows no goods of its own.
OFFICE = Seller(
    "office",
    "Meridian Buying",
    "PT",
    "EUR",
    "MB",
    (make_origin("porto", "Porto", "PT", 80, "10:00", "Meridian Buying, Rua do Cais 40, Porto"),),
    (),
)


# Sellers that live in files of their own.
OTHERS: dict[str, Seller] = {OFFICE.code: OFFICE}


def seller_named(code: str) -> Seller:
    return OTHERS[code] if code in OTHERS else SELLERS[code]
