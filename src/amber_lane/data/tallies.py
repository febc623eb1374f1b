"""Counts of rows by what they are, kept by the database's own triggers, so that nobody counts a whole table to say how many.

They can be counted anew from the tables at any time, so they are no tables of ours.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, func, select, text
from sqlalchemy.orm import Session

from ..core.writing import grouped
from .base import Base

TABLE = "tally"
# name: what is counted by which columns.
TALLIES: dict[str, tuple[str, tuple[str, ...]]] = {
    "items": ("item", ("supplier_id", "offer")),
    "item categories": ("item", ("category",)),
    "sku categories": ("sku", ("category",)),
    "listings": ("listing", ("store_id", "state")),
    "decisions by state": ("listing_decision", ("state",)),
    "decisions by kind": ("listing_decision", ("kind",)),
    "changes": ("outbox", ("target", "kind", "state")),
}
# Between the values of several columns.
APART = "|"


def _key(columns: tuple[str, ...], of: str = "") -> str:
    return f" || '{APART}' || ".join(f"{of}{column}" for column in columns)


def make(connection: Connection) -> None:
    """Make the table and the triggers that are not there; a tally that is new is counted."""
    run = connection.exec_driver_sql
    columns_of = "name text not null, key text not null, n integer not null, primary key (name, key)"
    run(f"create table if not exists {TABLE} ({columns_of}) without rowid")
    triggers = {row[0] for row in run("select name from sqlite_master where type = 'trigger'")}
    for name, (table, columns) in TALLIES.items():
        mark = f"tally_{name.replace(' ', '_')}"
        up, down = (
            f"insert into {TABLE} values ('{name}', {_key(columns, when)}, {n}) on conflict (name, key) do update set n = n + ({n});"
            for when, n in (("new.", 1), ("old.", -1))
        )
        moved = " or ".join(f"old.{column} is not new.{column}" for column in columns)
        run(f"create trigger if not exists {mark}_in after insert on {table} begin {up} end")
        run(f"create trigger if not exists {mark}_out after delete on {table} begin {down} end")
        run(f"create trigger if not exists {mark}_to after update of {', '.join(columns)} on {table} when {moved} begin {down} {up} end")
        if f"{mark}_in" not in triggers:
            run(f"delete from {TABLE} where name = '{name}'")
            run(f"insert into {TABLE} select '{name}', {_key(columns)}, count(*) from {table} group by {', '.join(columns)}")


def tally(s: Session, name: str) -> dict[tuple[str, ...], int]:
    """How many rows there are, by the values of the columns that the tally goes by; values of which there are none are left out."""
    table, columns = TALLIES[name]
    if s.get_bind().dialect.name == "sqlite":
        # The table stands in the comment, for whoever keeps what is made of it until that table changes.
        rows = s.execute(text(f"select key, n from {TABLE} where name = :name and n > 0 /* {table} */"), {"name": name})
        return {tuple(key.split(APART, len(columns) - 1)): n for key, n in rows}
    fields = [Base.metadata.tables[table].c[column] for column in columns]
    return {tuple(str(value) for value in row[:-1]): row[-1] for row in s.execute(select(*fields, func.count()).group_by(*fields))}


def wrong(data: Any) -> list[str]:
    """Tallies that are not what counting anew says. data: a connection of sqlite3."""
    out = []
    for name, (table, columns) in TALLIES.items():
        kept = dict(data.execute(f"select key, n from {TABLE} where name = ? and n <> 0", (name,)))
        true = dict(data.execute(f"select {_key(columns)}, count(*) from {table} group by {', '.join(columns)}"))
        if kept != true:
            out.append(f"the tally of {name} says {grouped(sum(kept.values()))} and there are {grouped(sum(true.values()))}")
    return out
