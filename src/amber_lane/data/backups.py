"""The data as it was before its shape is changed: a file of its own, kept by number, so that one can go back."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from . import shapes
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
    # A copy that a kill left half done must not pass for a whole one.
    half = target.with_suffix(".part")
    half.unlink(missing_ok=True)
    read_only = f"{Path(source).resolve().as_uri()}?mode=ro"
    with closing(sqlite3.connect(read_only, uri=True)) as here, closing(sqlite3.connect(half)) as there:
        here.backup(there)
    half.replace(target)
    for old in sorted(folder.glob("[0-9]*-shape-*.db"))[:-KEPT]:
        old.unlink()
    return target


def notes(version: str) -> str:
    """What changed in a version, as the list of changes says it."""
    text = CHANGES.read_text("utf-8") if CHANGES.is_file() else ""
    part = text.partition(f"## {version}")[2].partition("\n## ")[0].strip()
    return f"Amber Lane {version}\n\n{part}" if part else f"Amber Lane {version}"
