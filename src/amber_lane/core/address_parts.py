"""What belongs to an address from country to country: states and their postcodes, the words for its parts, the order of its lines."""

from __future__ import annotations

from collections.abc import Mapping

# Two letters, name, and what its postcodes begin with.
_US = """AL Alabama 3|AK Alaska 9|AZ Arizona 8|AR Arkansas 7|CA California 9|CO Colorado 8|CT Connecticut 0|DE Delaware 1|
DC District of Columbia 2|FL Florida 3|GA Georgia 3|HI Hawaii 9|ID Idaho 8|IL Illinois 6|IN Indiana 4|IA Iowa 5|KS Kansas 6|KY Kentucky 4|
LA Louisiana 7|ME Maine 0|MD Maryland 2|MA Massachusetts 0|MI Michigan 4|MN Minnesota 5|MS Mississippi 3|MO Missouri 6|MT Montana 5|
NE Nebraska 6|NV Nevada 8|NH New Hampshire 0|NJ New Jersey 0|NM New Mexico 8|NY New York 01|NC North Carolina 2|ND North Dakota 5|OH Ohio 4|
OK Oklahoma 7|OR Oregon 9|PA Pennsylvania 1|PR Puerto Rico 0|RI Rhode Island 0|SC South Carolina 2|SD South Dakota 5|TN Tennessee 3|
TX Texas 78|UT Utah 8|VT Vermont 0|VA Virginia 2|VI Virgin Islands 0|WA Washington 9|WV West Virginia 2|WI Wisconsin 5|WY Wyoming 8|
GU Guam 9|AS American Samoa 9|MP Northern Mariana Islands 9|AA Armed Forces Americas 3|AE Armed Forces Europe 0|AP Armed Forces Pacific 9"""
_CA = """AB Alberta T|BC British Columbia V|MB Manitoba R|NB New Brunswick E|NL Newfoundland and Labrador A|NS Nova Scotia B|
NT Northwest Territories X|NU Nunavut X|ON Ontario KLMNP|PE Prince Edward Island C|QC Quebec GHJ|SK Saskatchewan S|YT Yukon Y"""
_AU = """ACT Australian Capital Territory 02|NSW New South Wales 12|NT Northern Territory 08|QLD Queensland 49|SA South Australia 5|
TAS Tasmania 7|VIC Victoria 38|WA Western Australia 6"""


def _table(text: str) -> dict[str, tuple[str, str]]:
    """State -> (its name, the first letters that its postcodes may have)."""
    out = {}
    for one in text.replace("\n", "").split("|"):
        code, _, rest = one.strip().partition(" ")
        name, _, first = rest.rpartition(" ")
        out[code] = (name, first)
    return out


STATES = {"US": _table(_US), "CA": _table(_CA), "AU": _table(_AU)}
_ZIP = ("US", "PR", "PH")
_REGION = {"US": "State", "AU": "State", "IN": "State", "BR": "State", "MX": "State", "CA": "Province", "ES": "Province", "IT": "Province"}
# Countries that write the town before the postcode, on one line or on two.
_TOWN_FIRST = frozenset(("GB", "IE", "US", "CA", "AU", "NZ", "IN", "TH", "ZA", "HK", "SG", "KE", "MY", "PK", "LV", "UA", "JP"))


def state_of(text: str, country: str) -> str | None:
    """A state by its letters or its name; '' where none is given, None where the country has none of that name.

    >>> state_of("illinois", "US"), state_of("Ill.", "US"), state_of("nsw", "AU"), state_of("Yorks", "GB")
    ('IL', None, 'NSW', 'Yorks')
    """
    table = STATES.get(country)
    if table is None or not text.strip():
        return text.strip()
    plain = " ".join(text.replace(".", "").split()).casefold()
    return next((code for code, (name, _) in table.items() if plain in (code.casefold(), name.casefold())), None)


def postcode_fits(postcode: str, state: str, country: str) -> bool:
    """Whether a postcode, in its bare form, lies in a state."""
    name_first = STATES.get(country, {}).get(state)
    return name_first is None or not postcode or postcode[0] in name_first[1]


def words(country: str) -> dict[str, str]:
    """What the parts of an address are called there.

    >>> words("US")["postcode"], words("GB")["postcode"], words("CA")["region"]
    ('ZIP code', 'Postcode', 'Province')
    """
    postcode = "ZIP code" if country in _ZIP else "Postal code" if country == "CA" else "Postcode"
    return {"postcode": postcode, "region": _REGION.get(country, "Region")}


def lines(address: Mapping[str, object]) -> list[str]:
    """An address as it is written in its country, line by line, with all its parts.

    >>> lines({"name": "W", "address_1": "4 Elm", "city": "Springfield", "region": "IL", "postcode": "62701", "country": "US"})
    ['W', '4 Elm', 'Springfield, IL 62701', 'US']
    >>> lines({"name": "W", "address_1": "Ulmenweg 4", "city": "Bonn", "postcode": "53111", "country": "DE"})
    ['W', 'Ulmenweg 4', '53111 Bonn', 'DE']
    """
    given = {name: " ".join(str(value or "").split()) for name, value in address.items()}
    city, region, code, country = (given.get(name, "") for name in ("city", "region", "postcode", "country"))
    if country in ("US", "CA", "AU"):
        town = [" ".join(part for part in (f"{city}," if city and region and country == "US" else city, region, code) if part)]
    elif country in _TOWN_FIRST:
        town = [city, region, code]
    else:
        town = [" ".join(part for part in (code, city) if part), region]
    return [line for line in (given.get("name", ""), given.get("address_1", ""), given.get("address_2", ""), *town, country) if line]
