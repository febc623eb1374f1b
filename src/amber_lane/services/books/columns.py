"""The journal's profit as columns of numbers in memory, so that any table of it is a matter of milliseconds.

Entries are only ever added, so what was read once stays, and each look reads only what came since. Beside the data a file keeps the
columns, so that a start need not read a million rows; it is made anew where it does not agree with the data.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any
from weakref import WeakKeyDictionary
from zipfile import BadZipFile

import numpy as np
import numpy.typing as npt
from sqlalchemy import Engine, text
from sqlalchemy.orm import Session

from ...core.books import PROFIT_KINDS, Basis
from ..base.regional import home_of

DAY_MS = 86_400_000
KINDS = [kind.value for kind in PROFIT_KINDS]
BASES = [basis.value for basis in Basis]
NUMBERS: dict[str, type[np.signedinteger[Any]]] = {
    "id": np.int64, "order": np.int64, "purchase": np.int64, "store": np.int32, "supplier": np.int32, "sku": np.int32, "item": np.int32,
    "kind": np.int8, "basis": np.int8, "category": np.int32, "country": np.int32, "units": np.int32, "home": np.int64, "day": np.int32,
}  # fmt: skip
_SELECT = text(
    "select id, coalesce(order_id, 0), coalesce(purchase_id, 0), coalesce(store_id, 0), coalesce(supplier_id, 0), coalesce(sku_id, 0),"
    " coalesce(item_id, 0), kind, basis, category, country, units, home, day from journal_entry"
    " where id > :after and account = 'profit' and home_currency = :home and home is not null order by id"
)
# So many rows that are in no file yet are worth writing it anew.
WORTH_A_FILE = 20_000
STEP = 100_000
Whole = npt.NDArray[np.signedinteger[Any]]


@dataclass(frozen=True)
class Columns:
    """One value per entry that changes profit and has a rate. Numbers are 0 where an entry has none; kind and basis as places in KINDS and
    BASES; category and country as places in `words`; home: minor units of the house's currency; day: days since 1970."""

    of: dict[str, Whole]
    words: list[str]
    # SKUs that something is printed on, in order, and the artwork of each.
    printed: tuple[Whole, Whole] = (np.zeros(0, np.int64), np.zeros(0, np.int64))

    def __len__(self) -> int:
        return len(self.of["id"])

    def __getitem__(self, name: str) -> Whole:
        return self._artwork() if name == "artwork" else self.of[name]

    def _artwork(self) -> Whole:
        """The artwork of each entry's SKU, 0 where nothing is printed on it."""
        skus, arts = self.printed
        if not len(skus):
            return np.zeros(len(self), dtype=np.int64)
        at = np.minimum(np.searchsorted(skus, self.of["sku"]), len(skus) - 1)
        return np.where(skus[at] == self.of["sku"], arts[at], 0)


@dataclass
class _Holder:
    """What is known of one database's journal so far."""

    home: str = ""
    words: dict[str, int] = field(default_factory=dict)
    parts: list[dict[str, Whole]] = field(default_factory=list)
    last: int = 0
    in_file: int = 0
    whole: Columns | None = None
    lock: threading.Lock = field(default_factory=threading.Lock)


_HOLDERS: WeakKeyDictionary[Engine, _Holder] = WeakKeyDictionary()
_LOCK = threading.Lock()


def read(s: Session) -> Columns:
    """All entries that this transaction sees. What a transaction has not kept yet is not remembered."""
    return replace(_read(s), printed=_printed(s))


def _printed(s: Session) -> tuple[Whole, Whole]:
    rows = s.execute(text("select sku_id, max(artwork_id) from lane_print group by sku_id order by sku_id")).all()
    return np.array([sku for sku, _ in rows], dtype=np.int64), np.array([art for _, art in rows], dtype=np.int64)


def _read(s: Session) -> Columns:
    engine = s.get_bind().engine
    with _LOCK:
        holder = _HOLDERS.setdefault(engine, _Holder())
    with holder.lock:
        home = home_of(s)
        if holder.home != home:
            holder.home, holder.words, holder.parts, holder.last, holder.in_file, holder.whole = home, {}, [], 0, 0, None
            _open(s, holder, _file(engine))
        words, fresh, last = _since(s, holder)
        if s.info.get("write"):
            return _joined([*holder.parts, *fresh], words)
        if fresh or holder.whole is None:
            holder.parts, holder.words, holder.last = [*holder.parts, *fresh], words, last
            holder.whole = _joined(holder.parts, words)
            holder.parts = [holder.whole.of]
            if len(holder.whole) - holder.in_file >= WORTH_A_FILE:
                _keep(holder, _file(engine))
        return holder.whole


def _since(s: Session, holder: _Holder) -> tuple[dict[str, int], list[dict[str, Whole]], int]:
    """What was added after what is known."""
    words, fresh, last = dict(holder.words), list[dict[str, Whole]](), holder.last
    rows = s.connection().execution_options(stream_results=True).execute(_SELECT, {"after": holder.last, "home": holder.home})
    while chunk := rows.fetchmany(STEP):
        fresh.append(_columns(chunk, words))
        last = chunk[-1][0]
    return words, fresh, last


def _columns(rows: Sequence[Any], words: dict[str, int]) -> dict[str, Whole]:
    columns = dict(zip(NUMBERS, zip(*rows, strict=True), strict=True))
    kinds, bases = {name: n for n, name in enumerate(KINDS)}, {name: n for n, name in enumerate(BASES)}
    coded: dict[str, Any] = {
        "kind": [kinds[one] for one in columns["kind"]],
        "basis": [bases[one] for one in columns["basis"]],
        **{name: [words.setdefault(one, len(words)) for one in columns[name]] for name in ("category", "country")},
    }
    out = {name: np.array(coded.get(name, columns[name]), dtype=np.int64 if name == "day" else kind) for name, kind in NUMBERS.items()}
    out["day"] = (out["day"] // DAY_MS).astype(np.int32)
    return out


def _joined(parts: list[dict[str, Whole]], words: dict[str, int]) -> Columns:
    columns: dict[str, Whole] = {
        name: np.concatenate([part[name] for part in parts]) if parts else np.zeros(0, dtype=kind) for name, kind in NUMBERS.items()
    }
    return Columns(columns, list(words))


def _file(engine: Engine) -> Path | None:
    place = engine.url.database if engine.url.drivername.startswith("sqlite") else None
    return Path(f"{place}.books.npz") if place and place != ":memory:" else None


def _keep(holder: _Holder, place: Path | None) -> None:
    """Write the columns beside the data; whoever is killed meanwhile leaves the old file."""
    if place is None or holder.whole is None:
        return
    # The pages' process and the worker's may both write it.
    fresh = place.with_suffix(f".{os.getpid()}.part")
    try:
        with fresh.open("wb") as out:
            words = np.array(holder.whole.words or [""], dtype=np.str_)
            np.savez(out, house=np.array([holder.home]), words=words, **holder.whole.of)  # type: ignore[arg-type]
        fresh.replace(place)
        holder.in_file = len(holder.whole)
    except OSError:
        # It is there for speed alone; a full disk is told of elsewhere.
        fresh.unlink(missing_ok=True)


def _open(s: Session, holder: _Holder, place: Path | None) -> None:
    """Take what the file has, where it agrees with the data."""
    if place is None or not place.is_file():
        return
    try:
        with np.load(place) as kept:
            columns = {name: kept[name] for name in NUMBERS}
            home, words = str(kept["house"][0]), [str(one) for one in kept["words"]]
    except (OSError, ValueError, KeyError, EOFError, BadZipFile):
        return
    if home != holder.home or not len(columns["id"]) or not _agrees(s, columns):
        return
    holder.words = {word: n for n, word in enumerate(words)}
    holder.parts, holder.last, holder.in_file = [columns], int(columns["id"][-1]), len(columns["id"])


def _agrees(s: Session, columns: dict[str, Whole]) -> bool:
    """Whether so many entries are in the data up to there with that sum of money, and the last one is the same."""
    last = int(columns["id"][-1])
    found = s.execute(text("select home, day from journal_entry where id = :last"), {"last": last}).one_or_none()
    if found is None or found.home != int(columns["home"][-1]) or found.day // DAY_MS != int(columns["day"][-1]):
        return False
    # A few more of them, spread over all.
    for n in np.linspace(0, len(columns["id"]) - 1, 24).astype(int).tolist():
        row = s.execute(
            text("select home, coalesce(sku_id, 0), units from journal_entry where id = :id"), {"id": int(columns["id"][n])}
        ).one_or_none()
        if row is None or tuple(row) != (int(columns["home"][n]), int(columns["sku"][n]), int(columns["units"][n])):
            return False
    return True
