"""Where a practice world lies: its money, its clocks, its towns. One world runs in a process, and all of it lies in one land."""

from __future__ import annotations

from dataclasses import dataclass

Town = tuple[str, str, str, str]
DIGITS = {"JPY": 0}
# What a pound is, where rates begin.
POUND = {"GBP": "1", "PLN": "5.1020", "EUR": "1.1876", "SEK": "13.62", "USD": "1.2710", "JPY": "190.40"}


@dataclass(frozen=True)
class Land:
    """country, currency, zone; dates, decimal: how they are written. near: two other countries that goods are sent to.

    towns: (city, region, postcode, country) and how often buyers live there. far: where somebody in another country lives. scale:
    minor units for a made-up penny; ending: what its prices end with. own: street, city, region, postcode of the house. phone: with
    room for three figures. hasty: city, region, postcode of somebody who orders twice. warehouses, back: of the sellers at home.
    """

    country: str
    currency: str
    zone: str
    dates: str
    near: tuple[str, str]
    towns: tuple[tuple[Town, int], ...]
    far: dict[str, tuple[str, str, str]]
    scale: tuple[int, int]
    ending: int
    own: tuple[str, str, str, str]
    hasty: tuple[str, str, str]
    phone: str
    warehouses: tuple[tuple[str, str], tuple[str, str]]
    back: tuple[str, str, str]

    def amount(self, pence: int) -> int:
        """A made-up amount in the minor units of the land's money."""
        up, down = self.scale
        return pence * up // down


def _towns(*rows: tuple[str, str, str, str, int]) -> tuple[tuple[Town, int], ...]:
    return tuple(((city, region, postcode, country), weight) for city, region, postcode, country, weight in rows)


LANDS = {
    "GB": Land(
        "GB",
        "GBP",
        "Europe/London",
        "dmy",
        ("IE", "SE"),
        _towns(
            ("Hull", "", "HU3 1AB", "GB", 9),
            ("Ely", "", "CB7 4DL", "GB", 6),
            ("Kirkwall", "", "KW15 1LX", "GB", 2),
            ("Whitby", "", "YO21 3PR", "GB", 8),
            ("Cupar", "", "KY15 5AA", "GB", 4),
            ("Llandeilo", "", "SA19 6HH", "GB", 3),
            ("Cork", "", "T12 X70A", "IE", 3),
            ("Galway", "", "H91 E2K3", "IE", 2),
            ("Malmö", "", "211 20", "SE", 2),
            ("Bristol", "", "BS1 4ST", "GB", 9),
            ("Leek", "", "ST13 5HQ", "GB", 4),
            ("Truro", "", "TR1 2SF", "GB", 4),
        ),
        {"GB": ("Whitby", "", "YO21 3PR"), "NO": ("Bergen", "", "5003"), "FR": ("Lyon", "", "69002"), "US": ("Dorset", "VT", "05251")},
        (1, 1),
        95,
        ("2 Pier Road", "Whitby", "", "YO21 3PT"),
        ("Ely", "", "CB7 4AA"),
        "01632 960{:03d}",
        (("leeds", "Leeds"), ("york", "York")),
        ("Dock 4, Aire Street, Leeds LS1 4HY", "Unit 9, Foss Way, York YO31 7UL", "2 Quarry Road, Derby DE1 2GH"),
    ),
    "US": Land(
        "US",
        "USD",
        "America/Denver",
        "mdy",
        ("CA", "MX"),
        _towns(
            ("Boulder", "CO", "80302", "US", 9),
            ("Salida", "CO", "81201", "US", 6),
            ("Juneau", "AK", "99801", "US", 2),
            ("Moab", "UT", "84532", "US", 8),
            ("Duluth", "MN", "55802", "US", 4),
            ("Taos", "NM", "87571", "US", 3),
            ("Kingston", "ON", "K7L 1A1", "CA", 3),
            ("Nelson", "BC", "V1L 4A1", "CA", 2),
            ("Mérida", "YUC", "97000", "MX", 2),
            ("Portland", "ME", "04101", "US", 9),
            ("Bend", "OR", "97701", "US", 4),
            ("Marfa", "TX", "79843", "US", 4),
        ),
        {"US": ("Moab", "UT", "84532"), "NO": ("Bergen", "", "5003"), "FR": ("Lyon", "", "69002"), "CA": ("Kingston", "ON", "K7L 1A1")},
        (13, 10),
        95,
        ("2 Canyon Road", "Salida", "CO", "81201"),
        ("Moab", "UT", "84532"),
        "303 555 0{:03d}",
        (("denver", "Denver"), ("boise", "Boise")),
        ("Dock 4, Platte Street, Denver CO 80202", "Unit 9, Foss Way, Boise ID 83702", "2 Quarry Road, Ogden UT 84401"),
    ),
    "JP": Land(
        "JP",
        "JPY",
        "Asia/Tokyo",
        "ymd",
        ("KR", "AU"),
        _towns(
            ("Hakodate", "Hokkaido", "040-0063", "JP", 9),
            ("Onomichi", "Hiroshima", "722-0036", "JP", 6),
            ("Ishigaki", "Okinawa", "907-0012", "JP", 2),
            ("Kamakura", "Kanagawa", "248-0006", "JP", 8),
            ("Takayama", "Gifu", "506-0011", "JP", 4),
            ("Tono", "Iwate", "028-0521", "JP", 3),
            ("Gunsan", "", "54000", "KR", 3),
            ("Andong", "", "36600", "KR", 2),
            ("Hobart", "TAS", "7000", "AU", 2),
            ("Matsumoto", "Nagano", "390-0874", "JP", 9),
            ("Uwajima", "Ehime", "798-0060", "JP", 4),
            ("Obihiro", "Hokkaido", "080-0010", "JP", 4),
        ),
        {
            "JP": ("Kamakura", "Kanagawa", "248-0006"),
            "NO": ("Bergen", "", "5003"),
            "FR": ("Lyon", "", "69002"),
            "KR": ("Gunsan", "", "54000"),
        },
        (2, 1),
        80,
        ("2-4 Minatomachi", "Onomichi", "Hiroshima", "722-0036"),
        ("Kamakura", "Kanagawa", "248-0006"),
        "03 5550 0{:03d}",
        (("saitama", "Saitama"), ("nara", "Nara")),
        ("4 Dock Street, Saitama 330-0061", "9 Foss Way, Nara 630-8213", "2 Quarry Road, Gifu 500-8833"),
    ),
}
_here = LANDS["GB"]


def settle(code: str) -> Land:
    """The world of this process lies here; said before anything in it is made."""
    global _here
    _here = LANDS[code]
    return _here


def here() -> Land:
    return _here


def text(minor: int, currency: str = "") -> str:
    """Minor units as the text of an amount. currency: the land's where none is given."""
    digits = DIGITS.get(currency or _here.currency, 2)
    if not digits:
        return str(minor)
    return f"{'-' if minor < 0 else ''}{abs(minor) // 100}.{abs(minor) % 100:02d}"


def minor_of(amount: str) -> int:
    """The text of an amount in the land's money, in minor units; ValueError if it is none."""
    return minor_in(amount, _here.currency)


def minor_in(amount: str, currency: str) -> int:
    """The same in any money."""
    digits = DIGITS.get(currency, 2)
    whole, _, part = amount.partition(".")
    if not whole.lstrip("-").isdigit() or (part and (not part.isdigit() or len(part) > digits)):
        raise ValueError(f"{amount!r} is not an amount")
    value: int = int(whole.lstrip("-")) * 10**digits + int(part.ljust(digits, "0") or 0)
    return -value if whole.startswith("-") else value
