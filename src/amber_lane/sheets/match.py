"""The matching sheet (`amber-lane calc match`): a store's listings and suppliers' offers in, the likest offers of each out."""

from __future__ import annotations

import re

from ..core.likeness import NONE, ThingRow, match, message
from .table import read_sheet

LISTINGS = ("sku", "title")
OFFERS = ("supplier", "item", "title")
HEADER = ("sku", "rank", "supplier", "item", "likeness", "decision", "agrees", "differs", "units")
MORE = ("brand", "gtin", "mpn", "pack_size", "price", "cost", "currency", "options", "stock")
_POWER = re.compile(r"^\d(\.\d+)?[eE]\+?\d+$")


def match_sheets(listings: bytes, offers: bytes) -> tuple[list[tuple[str, ...]], list[str]]:
    """Rows as `HEADER` says, up to five for each SKU, and notes on what could not be used. ValueError: a sheet cannot be read."""
    notes: list[str] = []
    skus = _rows(listings, LISTINGS, "listings", notes)
    items = _rows(offers, OFFERS, "offers", notes)
    out: list[tuple[str, ...]] = []
    for sku, found in zip(skus, match(skus, items), strict=True):
        if not found:
            out.append((sku.key, "1", "", "", "0", NONE, "", "", ""))
        for rank, one in enumerate(found, 1):
            item = items[one.theirs]
            agrees, differs = message(one.evidence)
            score = str(max(0, min(100, round(one.score))))
            said = (one.decision, "; ".join(agrees), "; ".join(differs), str(one.units))
            out.append((sku.key, str(rank), item.supplier, item.key, score, *said))
    return out, notes


def _rows(data: bytes, needed: tuple[str, ...], name: str, notes: list[str]) -> list[ThingRow]:
    key, price = ("sku", "price") if needed == LISTINGS else ("item", "cost")
    out: list[ThingRow] = []
    seen: set[tuple[str, str]] = set()
    powers = 0
    for number, row in enumerate(read_sheet(data, needed, MORE).rows, 2):
        who = (row.get("supplier", ""), row.get(key, ""))
        if not who[1]:
            notes.append(f"{name}, line {number}: {key} is empty, so the row is left out")
            continue
        if who in seen:
            notes.append(f"{name}, line {number}: {' '.join(who).strip()} stands there twice; the first one is used")
            continue
        seen.add(who)
        gtin = row.get("gtin", "")
        if _POWER.match(gtin):
            powers, gtin = powers + 1, ""
        words = (row.get("title", ""), row.get("brand", ""), gtin, row.get("mpn", ""))
        pack = row.get("pack_size", "")
        reported_pack = int(pack) if pack.isascii() and pack.isdecimal() and 1 <= int(pack) <= 10_000 else 1
        out.append(
            ThingRow(who[1], *words, reported_pack, _number(row.get(price, "")), row.get("currency", ""), who[0], row.get("options", ""))
        )
    if powers:
        notes.append(f"{name}: {powers} barcodes are written like 5.01E+12, so their last digits are lost; save the column as text")
    return out


def _number(text: str) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        return 0.0
    return value if 0 < value < 1e9 else 0.0
