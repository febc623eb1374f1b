"""What a carrier would stumble over in an address, and how it may be mended. Faults are by field, in plain words."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from itertools import pairwise

from anyascii import anyascii

from .address_parts import STATES, postcode_fits, state_of, words
from .ids import check_country

# A line of a label; longer ones are cut off by the machine that prints it.
LABEL_WIDTH = 35
PARTS = ("name", "address_1", "address_2", "city", "region", "postcode", "country", "phone")
NEEDED = ("name", "address_1", "city")
ON_LABEL = ("name", "address_1", "address_2", "city", "region")
# Shapes of postcodes, in capitals and without spaces; other countries are taken as they are.
_POSTCODES = {
    "GB": r"[A-Z]{1,2}\d[A-Z\d]?\d[A-Z]{2}",
    "IE": r"[A-Z]\d[\dW][A-Z\d]{4}",
    "DE": r"\d{5}",
    "FR": r"\d{5}",
    "ES": r"\d{5}",
    "IT": r"\d{5}",
    "FI": r"\d{5}",
    "SE": r"\d{5}",
    "CZ": r"\d{5}",
    "PL": r"\d{2}-?\d{3}",
    "PT": r"\d{4}-?\d{3}",
    "NL": r"\d{4}[A-Z]{2}",
    "AT": r"\d{4}",
    "BE": r"\d{4}",
    "CH": r"\d{4}",
    "DK": r"\d{4}",
    "NO": r"\d{4}",
    "LU": r"\d{4}",
    "HU": r"\d{4}",
    "AU": r"\d{4}",
    "NZ": r"\d{4}",
    "US": r"\d{5}(-?\d{4})?",
    "CA": r"[A-Z]\d[A-Z]\d[A-Z]\d",
    "JP": r"\d{3}-?\d{4}",
}
# How many characters stand behind the space, where there is one.
_SPACED = {"GB": 3, "IE": 4, "SE": 2, "CZ": 2, "NL": 2, "CA": 3}
_NO_POSTCODE = frozenset({"AE", "AG", "AO", "BS", "BZ", "GH", "GY", "HK", "JM", "MO", "QA", "TT", "UG", "ZW"})
_MARKS = frozenset(" .,'’-/&()#+:;\"ªº°")


def bare(postcode: str) -> str:
    return re.sub(r"\s+", "", postcode).upper()


def postcode_in(text: str, country: str) -> str:
    """A postcode of the country's shape in a text, in its bare form; '' where there is none.

    >>> postcode_in("left with a neighbour, YO21 3PR Whitby", "GB"), postcode_in("at the door", "GB")
    ('YO213PR', '')
    """
    shape = _POSTCODES.get(country)
    words = text.upper().replace(",", " ").split()
    # A postcode may be written in one word or in two.
    pieces = [*words, *(a + b for a, b in pairwise(words))]
    return next((piece for piece in pieces if shape and re.fullmatch(shape, piece)), "")


def faults(address: Mapping[str, object], any_letters: bool = False) -> dict[str, str]:
    """What is wrong with each part of an address; empty when a carrier will take it. any_letters: it prints all that there are.

    >>> faults({"name": "Wren", "address_1": "High Street", "city": "Whitby", "postcode": "YO21", "country": "GB"})
    {'postcode': "'YO21' is not a postcode of GB", 'address_1': 'has no house number'}
    """
    return {name: message for name, (message, _) in _faults(address, any_letters).items()}


def certain_faults(address: Mapping[str, object], any_letters: bool = False) -> dict[str, str]:
    """The same without what is only likely to be wrong, which a person may let stand.

    >>> certain_faults({"name": "Wren", "address_1": "High Street", "city": "", "postcode": "YO21", "country": "GB"})
    {'city': 'is missing'}
    """
    return {name: message for name, (message, sure) in _faults(address, any_letters).items() if sure}


def _faults(address: Mapping[str, object], any_letters: bool) -> dict[str, tuple[str, bool]]:
    """Per part what is wrong, and whether that is certain."""
    given = {name: str(address.get(name) or "").strip() for name in PARTS}
    found = {name: ("is missing", True) for name in NEEDED if not given[name]}
    try:
        country = check_country(given["country"])
    except ValueError as error:
        return {**found, "country": (str(error), True)}
    shape, code, called = _POSTCODES.get(country), bare(given["postcode"]), words(country)["postcode"]
    if not given["postcode"]:
        if country not in _NO_POSTCODE:
            found["postcode"] = ("is missing", True)
    elif shape and not re.fullmatch(shape, code):
        found["postcode"] = (f"{given['postcode']!r} is not a {called.lower().replace('zip', 'ZIP')} of {country}", False)
    if country in STATES:
        state = state_of(given["region"], country)
        if state is None:
            found["region"] = (f"{given['region']!r} is no {words(country)['region'].lower()} of {country}", False)
        elif not state:
            found["region"] = ("is missing", False)
        elif "postcode" not in found and not postcode_fits(code, state, country):
            found["postcode"] = (f"{given['postcode']!r} is not in {STATES[country][state][0]}", False)
    if given["address_1"] and not any(letter.isdecimal() for letter in given["address_1"] + given["address_2"]):
        found["address_1"] = ("has no house number", False)
    for name in ON_LABEL:
        if odd := sorted({letter for letter in given[name] if not _carried(letter) and not (any_letters and letter.isalpha())}):
            found[name] = ("has characters that a carrier refuses: " + " ".join(odd[:6]), True)
        elif len(given[name]) > LABEL_WIDTH:
            found[name] = (f"is {len(given[name])} characters long, a label takes {LABEL_WIDTH}", True)
    return found


def _carried(letter: str) -> bool:
    """Latin letters with any accent, digits and the usual marks."""
    if letter in _MARKS or (letter.isascii() and letter.isalnum()):
        return True
    return letter.isalpha() and unicodedata.name(letter, "").startswith("LATIN")


def _latin(letter: str) -> str:
    """A letter in Latin ones; a space where it has none, such as for a drawing."""
    said = anyascii(letter) if letter.isalpha() else ""
    return said if said and all(_carried(one) for one in said) else " "


def in_latin(address: Mapping[str, object]) -> dict[str, object]:
    """An address with every letter in Latin ones, for carriers that take no others; the rest of it as it is.

    >>> in_latin({"name": "Ελένη", "city": "Αθήνα", "phone": "+30 1"})
    {'name': 'Eleni', 'city': 'Athina', 'phone': '+30 1'}
    """
    out = dict(address)
    for name in ON_LABEL:
        text = str(out.get(name) or "")
        if any(letter.isalpha() and not _carried(letter) for letter in text):
            out[name] = " ".join("".join(one if _carried(one) or not one.isalpha() else _latin(one) for one in text).split())
    return out


def mended(address: Mapping[str, object]) -> dict[str, str]:
    """The address as it could be mended by itself, for a person to look over; what cannot be known stays as it is.

    >>> one = mended({"name": "Wren ☂", "address_1": "4 Row", "city": "Whitby", "postcode": "yo213pr", "country": "gb"})
    >>> one["name"], one["postcode"], one["country"]
    ('Wren', 'YO21 3PR', 'GB')
    """
    out = {name: " ".join(str(address.get(name) or "").split()) for name in PARTS}
    for name in ON_LABEL:
        # Letters that a label does not take are written in those that it does; the buyer's own are kept beside.
        out[name] = " ".join("".join(letter if _carried(letter) else _latin(letter) for letter in out[name]).split())
    country = out["country"] = out["country"].upper()
    if state := state_of(out["region"], country):
        out["region"] = state
    code = bare(out["postcode"])
    if country in _SPACED and re.fullmatch(_POSTCODES[country], code):
        behind = _SPACED[country]
        out["postcode"] = f"{code[:-behind]} {code[-behind:]}"
    if len(out["address_1"]) > LABEL_WIDTH and not out["address_2"]:
        cut = out["address_1"].rfind(" ", 0, LABEL_WIDTH + 1)
        if cut > 0 and len(rest := out["address_1"][cut + 1 :].lstrip(", ")) <= LABEL_WIDTH:
            out["address_1"], out["address_2"] = out["address_1"][:cut].rstrip(", "), rest
    return out
