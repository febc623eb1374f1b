"""The data as it was before its shape is changed: a file of its own, kept by number, so that one can go back."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

from . import shapes, tallies
from .session import Database

FOLDER = "backups"
# So many are kept; the oldest goes first.
KEPT = 10
CHANGES = Path(__file__).resolve().parents[1] / "CHANGES.md"


def shape_of(db: Database) -> str | None:
    """The number of the shape that the data has; None where there is none yet."""
    with db.engine.connect() as connection:
        return shapes.of(connection)


def before_change(db: Database, data: Path) -> Path | None:
    """Where the shape is about to change: copy the data as it is, while nobody writes. None where it is not, or there is none yet.

    RuntimeError where the data was made by a newer version than this.
    """
    had, wanted = shape_of(db), shapes.newest()
    if had is None or had == wanted:
        return None
    if had > wanted:
        raise RuntimeError(
            f"this data has shape {had}, made by a newer version of Amber Lane; this one knows {wanted}. Start the newer version, "
            f"or go back to a file in {data / FOLDER} (docs/going-live.md says how)"
        )
    if not db.sqlite:
        return None
    folder = data / FOLDER
    folder.mkdir(parents=True, exist_ok=True)
    numbers = [int(one.name.split("-")[0]) for one in folder.glob("[0-9]*-shape-*.db")]
    target = folder / f"{max(numbers, default=0) + 1:04d}-shape-{had}.db"
    source = db.engine.url.database
    if source is None:
        return None
    copy(Path(source), target)
    for old in sorted(folder.glob("[0-9]*-shape-*.db"))[:-KEPT]:
        old.unlink()
    return target


def copy(source: Path, target: Path) -> None:
    """The data as it is at one moment, while others read and write it, as one file that only its owner can read."""
    # A copy that a kill left half done must not pass for a whole one.
    half = target.with_name(f"{target.name}.part")
    half.unlink(missing_ok=True)
    half.touch(0o600)
    read_only = f"{source.resolve().as_uri()}?mode=ro"
    with closing(sqlite3.connect(read_only, uri=True)) as here, closing(sqlite3.connect(half)) as there:
        # All in one step: it is the data of one moment, and whoever writes meanwhile is not kept waiting.
        here.backup(there, pages=-1)
        # One file, with nothing beside it.
        there.execute("pragma journal_mode=delete")
    half.replace(target)


def restore(saved: Path, place: Path, aside: Path) -> Path | None:
    """Put a saved file in the place of the data. Returns where the data that was there is now, None where there was none.

    ValueError says what is wrong with the saved file; nothing is changed then. Nobody may be at work on the data.
    """
    faults = look_over(saved)
    if faults:
        raise ValueError(f"{saved.name} is not whole: {'; '.join(faults[:3])}")
    kept = None
    place.parent.mkdir(parents=True, exist_ok=True)
    if place.exists():
        aside.mkdir(parents=True, exist_ok=True)
        numbers = [int(one.name.split("-")[0]) for one in aside.glob("[0-9]*-*.db")]
        kept = aside / f"{max(numbers, default=0) + 1:04d}-before-restore.db"
        try:
            copy(place, kept)
            with closing(sqlite3.connect(place)) as here:
                # What stands beside the file goes into it, so that a kill from here on loses nothing of it.
                here.execute("pragma wal_checkpoint(truncate)")
        except sqlite3.DatabaseError:
            # What is broken is kept as it is: that is what restoring is for.
            kept.with_name(f"{kept.name}.part").unlink(missing_ok=True)
            for end in ("", "-wal", "-shm"):
                if (file := place.with_name(place.name + end)).exists():
                    shutil.copy2(file, kept.with_name(kept.name + end))
    fresh = place.with_name(f"{place.name}.part")
    copy(saved, fresh)
    for beside in ("-wal", "-shm"):
        place.with_name(place.name + beside).unlink(missing_ok=True)
    fresh.replace(place)
    return kept


def look_over(file: Path) -> list[str]:
    """What is wrong with a file of data: torn pages, rows that point at nothing, counts that do not add up, purchases sent twice."""
    found: list[str] = []
    try:
        with closing(sqlite3.connect(f"{file.resolve().as_uri()}?mode=ro", uri=True)) as data:
            found += [str(row[0]) for row in data.execute("pragma integrity_check(20)") if row[0] != "ok"]
            if found:
                return found
            for row in data.execute("pragma foreign_key_check"):
                found.append(f"a row of {row[0]} points at a row of {row[2]} that is not there")
            shape = data.execute("select version_num from alembic_version").fetchone()
            if shape is None or shape[0] > shapes.newest():
                found.append(f"it has shape {shape[0] if shape else 'none'}, and this version knows {shapes.newest()}")
            elif shape[0] == shapes.newest():
                found += tallies.wrong(data)
                found += [f"{n} purchase orders {message}" for message, query in _ADD_UP if (n := data.execute(query).fetchone()[0])]
                found += [f"{n} {message}" for message, query in (*_JOURNAL, *_STOCK) if (n := data.execute(query).fetchone()[0])]
    except sqlite3.DatabaseError as error:
        found.append(f"it cannot be read as data of Amber Lane: {error}")
    return found


# What must hold in every house, with the number of rows for which it does not. Of the journal: once orders of before it are in it.
_JOURNALED = "exists (select 1 from setting where name = 'journal_from')"
_JOURNAL = (
    (
        "sold order lines are not in the journal",
        "select count(*) from order_line l where l.state in ('bought','with_supplier','on_the_road','arrived') and not exists"
        f" (select 1 from journal_entry e where e.order_id = l.order_id and e.order_line_id = l.id and e.kind = 'sale') and {_JOURNALED}",
    ),
    (
        "events of the journal have no entries",
        "select count(*) from journal_event v where not exists (select 1 from journal_entry e where e.event_id = v.id)",
    ),
    ("entries of the journal stand between one account and itself", "select count(*) from journal_entry where account = against"),
    (
        "currencies in which what buyers paid for waiting orders is not what the journal has for them",
        "with waits as (select o.currency as money, sum(l.paid + l.shipping_paid - l.discount) as n from order_line l"
        " join \"order\" o on o.id = l.order_id where l.state in ('new','needs_lane','held','ready','refused')"
        " group by o.currency), has as (select currency as money, sum(case when account = 'open_orders' then amount"
        " when against = 'open_orders' then -amount else 0 end) as n from journal_entry"
        " where home_currency = (select home_currency from journal_entry order by id desc limit 1) group by currency)"
        " select count(*) from (select money from waits union select money from has) both"
        " left join waits using (money) left join has using (money)"
        f" where coalesce(waits.n, 0) <> coalesce(has.n, 0) and {_JOURNALED}",
    ),
)
_STOCK = (
    (
        "movements in the stock ledger do not follow from the one before",
        "select count(*) from depot_entry e left join depot_entry b on b.held_id = e.held_id and b.nth = e.nth - 1"
        " where e.there <> coalesce(b.there, 0) + e.units or e.value <> coalesce(b.value, 0) + e.worth or (e.nth > 1 and b.id is null)",
    ),
    (
        "goods of which what came into the depot is not what is there and what is gone",
        "select count(*) from (select held_id, sum(units) as n, max(nth) as last from depot_entry group by held_id) s"
        " join depot_entry e on e.held_id = s.held_id and e.nth = s.last where e.there <> s.n or e.there < 0",
    ),
    (
        "goods of a depot show another stock than the ledger has free",
        "select count(*) from held_goods h join item i on i.id = h.item_id where i.stock > coalesce("
        "(select there from depot_entry e where e.held_id = h.id order by nth desc limit 1), 0)",
    ),
)
_ADD_UP = (
    (
        "wait to be sent although they went out",
        "select count(*) from purchase_order p join outbox o on o.key = p.reference"
        " where p.state = 'waiting' and o.kind = 'purchase' and o.state = 'done'",
    ),
    (
        "stand twice under one reference",
        "select count(*) from (select 1 from purchase_order group by reference having count(*) > 1)",
    ),
    (
        "have lines of an order that is not theirs",
        "select count(*) from purchase_line l join purchase_order p on p.id = l.purchase_id"
        " join order_line o on o.id = l.order_line_id where o.order_id <> p.order_id",
    ),
)


def notes(version: str) -> str:
    """What changed in a version, as the list of changes says it."""
    text = CHANGES.read_text("utf-8") if CHANGES.is_file() else ""
    part = text.partition(f"## {version}")[2].partition("\n## ")[0].strip()
    return f"Amber Lane {version}\n\n{part}" if part else f"Amber Lane {version}"
