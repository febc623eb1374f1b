"""Numbers with a check digit: tracking numbers of postal carriers (UPU S10) and GS1 barcodes."""

from __future__ import annotations

import re

_S10 = re.compile(r"([A-Z]{2})(\d{8})(\d)([A-Z]{2})")
_S10_WEIGHTS = (8, 6, 4, 2, 3, 5, 9, 7)


def s10_check_digit(serial: str) -> int:
    """The check digit of an eight digit S10 serial.

    >>> s10_check_digit("47312482")
    9
    """
    rest = 11 - sum(int(d) * w for d, w in zip(serial, _S10_WEIGHTS, strict=True)) % 11
    return {10: 0, 11: 5}.get(rest, rest)


def check_s10(number: str) -> str:
    """The number in its plain form; ValueError says what is wrong with it.

    >>> check_s10("rr 4731 2482 9 gb")
    'RR473124829GB'
    """
    text = re.sub(r"[\s-]", "", number).upper()
    match = _S10.fullmatch(text)
    if not match:
        raise ValueError(f"tracking number {number!r} is not two letters, nine digits, two letters")
    _, serial, digit, _ = match.groups()
    if int(digit) != s10_check_digit(serial):
        raise ValueError(f"tracking number {text} has a wrong check digit; a digit was probably mistyped")
    return text


def check_shape(number: str, shape: str) -> str:
    """A tracking number against a carrier's shape (A a letter, 9 a digit, others as they are); '' = UPU S10, '*' = nobody knows, any
    letters and digits. ValueError if not.

    >>> check_shape("gp 12345678", "GP99999999"), check_shape("RR473124829GB", ""), check_shape("pp 999-aa1", "*")
    ('GP12345678', 'RR473124829GB', 'PP999AA1')
    """
    if not shape:
        return check_s10(number)
    text = re.sub(r"[\s-]", "", number).upper()
    if shape == "*":
        if not 5 <= len(text) <= 40 or not text.isascii() or not text.isalnum():
            raise ValueError(f"tracking number {number!r} is not 5 to 40 letters and digits")
        return text
    fits = len(text) == len(shape) and all(
        one.isascii() and (one.isalpha() if mark == "A" else one.isdecimal() if mark == "9" else one == mark)
        for one, mark in zip(text, shape.upper(), strict=True)
    )
    if not fits:
        raise ValueError(f"tracking number {number!r} does not look like {shape}")
    return text


def make_s10(service: str, serial: int, country: str) -> str:
    """An S10 number from its parts.

    >>> make_s10("SW", 1234, "GB")
    'SW000012349GB'
    """
    digits = f"{serial:08d}"
    return f"{service}{digits}{s10_check_digit(digits)}{country}"


def check_gtin(code: str) -> str:
    """A GS1 barcode of 8, 12, 13 or 14 digits with a right check digit; ValueError otherwise.

    >>> check_gtin("5000003000019")
    '5000003000019'
    """
    text = re.sub(r"[\s-]", "", code)
    if re.fullmatch(r"\d(\.\d+)?E\+?\d+", text, re.IGNORECASE):
        raise ValueError(f"barcode {code} was cut short by a spreadsheet; save that column as text")
    if not text.isdecimal() or len(text) not in (8, 12, 13, 14):
        raise ValueError(f"barcode {code!r} does not have 8, 12, 13 or 14 digits")
    total = sum(int(d) * (3 if i % 2 else 1) for i, d in enumerate(reversed(text)))
    if total % 10:
        raise ValueError(f"barcode {code} has a wrong check digit")
    return text


# ISO 3166-1 alpha-2.
_COUNTRIES = frozenset(
    """
AD AE AF AG AI AL AM AO AQ AR AS AT AU AW AX AZ BA BB BD BE BF BG BH BI BJ BL BM BN BO BQ BR BS BT BV BW BY BZ CA CC CD CF CG CH CI CK CL CM
CN CO CR CU CV CW CX CY CZ DE DJ DK DM DO DZ EC EE EG EH ER ES ET FI FJ FK FM FO FR GA GB GD GE GF GG GH GI GL GM GN GP GQ GR GS GT GU GW GY
HK HM HN HR HT HU ID IE IL IM IN IO IQ IR IS IT JE JM JO JP KE KG KH KI KM KN KP KR KW KY KZ LA LB LC LI LK LR LS LT LU LV LY MA MC MD ME MF
MG MH MK ML MM MN MO MP MQ MR MS MT MU MV MW MX MY MZ NA NC NE NF NG NI NL NO NP NR NU NZ OM PA PE PF PG PH PK PL PM PN PR PS PT PW PY QA RE
RO RS RU RW SA SB SC SD SE SG SH SI SJ SK SL SM SN SO SR SS ST SV SX SY SZ TC TD TF TG TH TJ TK TL TM TN TO TR TT TV TW TZ UA UG UM US UY UZ
VA VC VE VG VI VN VU WF WS YE YT ZA ZM ZW
""".split()  # noqa: SIM905
)


def check_country(code: str) -> str:
    """An ISO 3166-1 alpha-2 code in capitals; ValueError otherwise.

    >>> check_country("gb")
    'GB'
    """
    text = code.strip().upper()
    if text not in _COUNTRIES:
        raise ValueError(f"country {code!r} is not an ISO 3166-1 code such as GB or IE")
    return text
