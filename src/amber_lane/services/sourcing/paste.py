"""Pasted links and numbers: which supplier's item each line means. Nothing is ever fetched from a pasted address itself."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from sqlalchemy import func, select

from ...core.writing import grouped
from ...data.setup import UNCALLED, Supplier
from ...data.source import Item
from ..base.context import Context
from ..base.errors import Invalid

LINES_MOST = 10_000
_MARK = re.compile(r"^[A-Za-z]+[-_]?")


@dataclass
class PastedLine:
    """A pasted line. supplier, number: what it means, where that is clear; told: why it cannot be used."""

    n: int
    text: str
    supplier: int = 0
    number: str = ""
    item: int = 0
    message: str = ""


def recognise(context: Context, text: str) -> list[PastedLine]:
    """What each line means. A line that stands there twice is marked as the same as the first."""
    lines = [PastedLine(n, line.strip()[:500]) for n, line in enumerate(text.splitlines(), 1) if line.strip()]
    if not lines:
        raise Invalid("paste at least one link or number", {"text": "is empty"})
    if len(lines) > LINES_MOST:
        raise Invalid(f"{grouped(len(lines))} lines at once; {grouped(LINES_MOST)} are the most")
    suppliers = list(context.session.scalars(select(Supplier)))
    marks = _marks(context)
    for line in lines:
        if re.match(r"^[a-z][a-z0-9+.-]*:", line.text, re.IGNORECASE) or line.text.lower().startswith("www."):
            _by_link(line, suppliers)
        else:
            line.number = re.split(r"[\s,;]+", line.text)[0]
    find_items(context, lines)
    first: dict[tuple[int, str], int] = {}
    called = {one.id: one for one in suppliers if one.kind not in UNCALLED}
    for line in lines:
        if line.message:
            continue
        if not line.supplier:
            mark = _MARK.match(line.number)
            line.supplier = marks.get(mark[0].upper(), 0) if mark else 0
        if not line.supplier:
            line.message = "no supplier of yours has this number; paste its link, or join the supplier first"
        elif not line.item and line.supplier not in called:
            line.message = "it is not in the catalogue that you brought in; bring in a newer sheet"
        elif (line.supplier, line.number) in first:
            line.message = f"the same as line {first[line.supplier, line.number]}"
        else:
            first[line.supplier, line.number] = line.n
    return lines


def _by_link(line: PastedLine, suppliers: list[Supplier]) -> None:
    """A link is only taken apart: the number in it, where the page is one of a joined supplier's."""
    given = _parts(line.text)
    for one in suppliers:
        site = _parts(one.site) if one.site else None
        if given and site and given[0] == site[0] and given[1].startswith(site[1]):
            number = unquote(given[1][len(site[1]) :].strip("/").split("/")[0])
            if 1 <= len(number) <= 100 and not re.search(r"[\x00-\x1f\x7f]", number):
                line.supplier, line.number = one.id, number
                return
            line.message = f"there is no number in this link of {one.name}"
            return
    line.message = "this address is not one of a supplier that you have connected; it was not looked at"


def _parts(link: str) -> tuple[str, str] | None:
    """Host with port, and path; None where it is no web address."""
    try:
        split = urlsplit(link if "://" in link else f"https://{link}")
        port = split.port or (443 if split.scheme == "https" else 80)
        host = split.hostname
    except ValueError:
        return None
    if split.scheme not in ("http", "https") or not host or split.username or split.password:
        return None
    return f"{host.lower()}:{port}", split.path


def _marks(context: Context) -> dict[str, int]:
    """The letters that a supplier's numbers begin with, where they are only one supplier's."""
    found: dict[str, Counter[int]] = {}
    query = select(Item.supplier_id, func.min(Item.number)).group_by(Item.supplier_id, func.substr(Item.number, 1, 3))
    for supplier, number in context.session.execute(query):
        mark = _MARK.match(number)
        if mark:
            found.setdefault(mark[0].upper(), Counter())[supplier] += 1
    return {mark: next(iter(counts)) for mark, counts in found.items() if len(counts) == 1}


def find_items(context: Context, lines: list[PastedLine]) -> None:
    """Items that are in our catalogues already."""
    numbers = sorted({line.number for line in lines if line.number})
    known: dict[str, list[tuple[int, int, str]]] = {}
    for start in range(0, len(numbers), 5000):
        some = [number.upper() for number in numbers[start : start + 5000]]
        exact = numbers[start : start + 5000]
        rows = context.session.execute(select(Item.id, Item.supplier_id, Item.number).where(Item.number.in_([*exact, *some])))
        for item, supplier, number in rows:
            known.setdefault(number.upper(), []).append((item, supplier, number))
    for line in lines:
        hits = [hit for hit in known.get(line.number.upper(), []) if line.supplier in (0, hit[1])]
        if len({hit[1] for hit in hits}) > 1:
            line.message = "two of your suppliers have this number; paste the link of the one you mean"
        elif hits:
            line.item, line.supplier, line.number = hits[0]
