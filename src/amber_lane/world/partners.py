"""Who there is in the practice world: stores that sell and suppliers that send, each with terms of its own."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

# Up to so many grams: the first unit, each next.
BANDS_48 = [(2_000, 160, 55), (10_000, 290, 95), (30_000, 640, 180)]
BANDS_24 = [(2_000, 290, 80), (10_000, 460, 130)]
# Every seventh item of a wholesaler is cheaper by the dozen: from so many, so many percent off.
TIERS = ((10, 6), (40, 12))


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
    """A supplier of the world. moves: how often its figures change, against others."""

    code: str
    name: str
    country: str
    currency: str
    mark: str
    origins: tuple[dict[str, Any], ...]
    services: tuple[dict[str, Any], ...]
    tiers: bool = False
    moves: float = 1.0
    tax: int = 0
    accounts: dict[str, Any] = field(default_factory=dict)


def _origin(code: str, name: str, country: str, handling: int, cut_off: str, back: str, holidays: tuple[str, ...] = ()) -> dict[str, Any]:
    return {
        "code": code,
        "name": name,
        "country": country,
        "handling": handling,
        "cut_off": cut_off,
        "return_address": back,
        "holidays": list(holidays),
    }


def _way(
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
            "GB",
            "GBP",
            "NT",
            (
                _origin("leeds", "Leeds", "GB", 30, "16:00", "Northlight returns, Dock 4, Aire Street, Leeds LS1 4HY", ("2026-04-03",)),
                _origin("york", "York", "GB", 30, "14:00", "Northlight returns, Unit 9, Foss Way, York YO31 7UL", ("2026-04-03",)),
            ),
            (
                _way("tracked48", "Tracked 48", "GB", 160, 55, 4000, 2, 3, BANDS_48),
                _way("tracked48", "Tracked Europe", "IE", 460, 160, None, 4, 6),
                _way("tracked48", "Tracked Europe", "SE", 530, 160, None, 4, 7),
                _way("tracked24", "Tracked 24", "GB", 290, 80, 6000, 1, 2, BANDS_24),
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
                _origin(
                    "gdynia", "Gdynia", "PL", 150, "12:00", "Quayside Bulk, ul. Nabrzeżna 12, 81-339 Gdynia", ("2026-04-06", "2026-05-01")
                ),
            ),
            (
                _way("road", "Road parcel", "GB", 1290, 300, 40_000, 6, 9),
                _way("road", "Road parcel", "IE", 1690, 300, None, 7, 10),
                _way("road", "Road parcel", "SE", 1190, 300, 40_000, 4, 6),
            ),
            moves=0.6,
        ),
        Seller(
            "retail",
            "Sable Retail",
            "GB",
            "GBP",
            "SR",
            (_origin("online", "online", "GB", 0, "11:00", "Sable Retail returns, 2 Quarry Road, Derby DE1 2GH"),),
            (_way("standard", "Standard", "GB", 395, 0, 3500, 3, 5),),
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
    (_origin("porto", "Porto", "PT", 80, "10:00", "Meridian Buying, Rua do Cais 40, Porto"),),
    (),
)


def seller_named(code: str) -> Seller:
    return OFFICE if code == OFFICE.code else SELLERS[code]
