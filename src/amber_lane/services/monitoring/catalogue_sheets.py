"""Catalogue sheets of suppliers that tell nothing by themselves: columns named once by a person, looked at first, remembered."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from ...connectors.folder_sheet import items_of, pack_size_of
from ...connectors.protocols import CatalogueItem
from ...core.currency import MINOR_DIGITS
from ...core.states import SweepState
from ...data.session import Database
from ...data.setup import Supplier
from ...data.source import Item
from ...data.watch import Sweep
from ...sheets.mapped import ENCODINGS, FIELDS, NEEDED, Reading, read_rows
from ...sheets.opened import NotASheet
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..catalogue import ingest
from . import large_sweeps, sweeps

BY_SHEETS = ("folder", "sheet")
CHUNK = 1500


@dataclass(frozen=True)
class Tried:
    """What a sheet would give if its columns were named so."""

    items: list[CatalogueItem]
    bad: list[str]
    notices: list[str]
    # The rows that could not be read, as they stood, each with why; and the sheet's own names for its columns.
    bad_rows: list[tuple[list[str], str]]
    header: list[str]
    # Currencies beside the supplier's own that it names, and how often.
    monies: dict[str, int]


def supplier_by_sheets(context: Context, number: int) -> Supplier:
    """A supplier whose goods come by sheets. Conflict for others."""
    supplier = context.get(Supplier, number, "supplier")
    if supplier.kind not in BY_SHEETS:
        raise Conflict(f"{supplier.name} tells its goods by its interface; no sheet is needed")
    return supplier


def check_reading(given: Reading) -> Reading:
    """Invalid in plain words where columns cannot be named so."""
    unknown = sorted(set(given.columns) - set(FIELDS))
    if unknown:
        raise Invalid(f"there is no field called {unknown[0]}")
    missing = [name for name in NEEDED if not given.columns.get(name)]
    if missing:
        raise Invalid(f"say which column is the {', '.join(missing)}", dict.fromkeys(missing, "is needed"))
    if len(set(given.columns.values())) != len(given.columns):
        raise Invalid("one column cannot be two things")
    if given.separator and given.encoding not in ENCODINGS:
        raise Invalid(f"letters are read as one of {', '.join(ENCODINGS)}")
    if given.decimal not in ("", ",", "."):
        raise Invalid("decimals stand after a comma or a point")
    return given


def try_reading(supplier: Supplier, data: bytes, reading: Reading, also: Sequence[str] | None = None) -> Tried:
    """Read a sheet with its columns named so; nothing is kept. NotASheet where it cannot be read at all.

    also: other currencies that its items may cost in; None: those that were agreed to before.
    """
    rows, places, notices = read_rows(data, reading)
    bad: list[str] = []
    bad_rows: list[tuple[list[str], str]] = []
    items = items_of(rows, places, reading, supplier.currency, bad, bad_rows=bad_rows)
    good = {supplier.currency, *(supplier.also or [] if also is None else also)}
    monies = Counter(one.currency for one in items if one.currency != supplier.currency and one.currency in MINOR_DIGITS)
    foreign = [one for one in items if one.currency not in good]
    if foreign:
        bad += [f"{one.number}: its currency is {one.currency}, not {supplier.currency}" for one in foreign[:100]]
        items = [one for one in items if one.currency in good]
    return Tried(items, bad, notices, bad_rows, reading.header, dict(monies))


def keep_reading(context: Context, number: int, reading: Reading, also: Sequence[str] = (), whole: bool | None = None) -> Supplier:
    """Remember how a supplier's sheets are read; a folder is looked at by the clock from now on.

    also: currencies beside its own that its items may cost in; whole: its sheets list all that it sells. Invalid where a currency is
    not known, or a supplier by hand was never asked what its sheets list.
    """
    for money in also:
        if money not in MINOR_DIGITS:
            raise Invalid(f"{money} is not a currency that is known here", {"also": "is not known"})
    supplier = supplier_by_sheets(context, number)
    supplier.reading = check_reading(reading).kept()
    supplier.sheet_whole = supplier.sheet_whole if whole is None else whole
    if supplier.kind == "sheet" and supplier.sheet_whole is None:
        raise Invalid("say whether its sheets list all that it sells, or only some of it", {"whole": "is needed"})
    supplier.also = sorted(set(also) - {supplier.currency})
    supplier.version += 1
    if supplier.kind == "folder":
        supplier.watching, supplier.next_sweep = True, context.now
    named = ", ".join(f"{theirs} = {ours}" for ours, theirs in list(reading.columns.items())[:4])
    context.log("sheet.columns", supplier.name, f"{supplier.name}: columns of its sheet named ({named} …)")
    context.session.flush()
    return supplier


def take_sheet(
    supplier_id: int,
    data: bytes,
    db: Database,
    context_of: Callable[[Any], Context],
    progress: Callable[[int, int], None],
    at: datetime | None = None,
) -> dict[str, Any]:
    """Take a whole catalogue sheet in: new items enter in parts, then known ones follow as by any sweep.

    context_of makes a context of a session; at: when the sheet was made, None = now. Each part is one transaction, so nobody waits long.
    """
    with db.reading() as s:
        supplier = supplier_by_sheets(context_of(s), supplier_id)
        if not supplier.reading:
            raise Conflict(f"name the columns of {supplier.name}'s sheet first")
        reading = Reading.of(supplier.reading)
        known = set(s.scalars(select(Item.number).where(Item.supplier_id == supplier_id)))
    tried = try_reading(supplier, data, reading)
    if not tried.items:
        raise NotASheet(f"no row of the sheet can be read; the first: {tried.bad[0] if tried.bad else 'there is none'}")
    fresh, refused = 0, list(tried.bad)
    # A number that stands twice counts once, as it stands last.
    whole = {one.number: one for one in tried.items}
    if len(whole) < len(tried.items):
        refused.append(f"{len(tried.items) - len(whole)} rows name a number that stands further down again; the last one counts")
    old = [one for one in whole.values() if one.number in known]
    for items, all_new in (([one for one in whole.values() if one.number not in known], True), (old, False)):
        for done, part in _parts(items):
            with db.writing(patient=True) as s:
                context = context_of(s)
                new, wrong = ingest.bring_in(context, context.get(Supplier, supplier_id, "supplier"), part, all_new)
                fresh += new
                refused += [f"{number}: {reason}" for number, reason in wrong]
            progress(done if all_new else len(whole) - len(old) + done, len(whole))
    if old:
        with db.writing() as s:
            context = context_of(s)
            number = sweeps.begin(context, context.get(Supplier, supplier_id, "supplier"), context.actor).id
            message = sweep_data(old, context, bool(supplier.sheet_whole), at=at)
        large_sweeps.carry_out(db.reading, db.writing, context_of, number, message)
        with db.reading() as s:
            sweep = context_of(s).get(Sweep, number, "sweep")
            held = sweep.message if sweep.state == SweepState.held else ""
    else:
        held = ""
        with db.writing() as s:
            # Its first sheet has an age too.
            context = context_of(s)
            context.get(Supplier, supplier_id, "supplier").good_sweep_at = min(at or context.now, context.now)
    return {"fresh": fresh, "known": len(old), "bad": refused[:200], "bad_count": len(refused), "notices": tried.notices, "held": held,
            "bad_sheet": [tried.header, tried.bad_rows]}  # fmt: skip


def keep_bad(path: Path, header: Sequence[str], rows: Iterable[tuple[Sequence[str], str]]) -> None:
    """Beside a sheet, its rows that cannot be taken with why, as they are had back."""
    pairs = [[dict(zip(header, row, strict=False)), reason] for row, reason in rows]
    path.with_suffix(".bad.json").write_text(json.dumps([[[name for name in header if name]], *pairs]))


def sweep_data(
    items: list[CatalogueItem], context: Context, whole: bool = False, packs: bool = True, at: datetime | None = None
) -> sweeps.SweepData:
    """A sheet as a sweep. whole: it lists all that is sold, so what it does not name is gone; else that is left as it is. packs: whether
    it may say what a pack is; at: when it was made, None = now."""
    return sweeps.SweepData(
        [one.number for one in items],
        np.array([one.cost for one in items], dtype=np.int64),
        [one.currency for one in items],
        np.array([one.stock for one in items], dtype=np.int64),
        min(at or context.now, context.now),
        whole=whole,
        packs=[pack_size_of(one) for one in items] if packs else (),
    )


def _parts(items: list[CatalogueItem]) -> Iterator[tuple[int, list[CatalogueItem]]]:
    for start in range(0, len(items), CHUNK):
        yield min(start + CHUNK, len(items)), items[start : start + CHUNK]
