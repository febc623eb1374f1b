"""The indexes of words: parts of SKUs' codes and titles and of listings' titles, and beginnings of the words of items.

They can be made anew from the tables at any time, so they are no tables of ours, and SQLite's own triggers keep them.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, Select, column, literal_column, select, table

NAMES = ("sku_fts", "listing_fts", "item_fts", "item_words")
_PARTS = {"sku": ("code", "title"), "listing": ("title",)}
# A part of a word that is shorter than this stands in no index.
LEAST = 3


def make(connection: Connection) -> None:
    """Make the indexes and the triggers that are not there; an index that is new takes in what the tables hold."""
    run = connection.exec_driver_sql
    run(
        "create virtual table if not exists item_fts using fts5(title, brand, options, category, number, gtin, mpn, "
        "tokenize='unicode61 remove_diacritics 2', prefix='2 3')"
    )
    run("create virtual table if not exists item_words using fts5vocab(item_fts, row)")
    there = {row[0] for row in run("select name from sqlite_master where type = 'table'")}
    for name, columns in _PARTS.items():
        index, said = f"{name}_fts", ", ".join(columns)
        new, old = (", ".join(f"{when}.{one}" for one in columns) for when in ("new", "old"))
        enter = f"insert into {index}(rowid, {said}) values (new.id, {new});"
        leave = f"insert into {index}({index}, rowid, {said}) values ('delete', old.id, {old});"
        run(f"create virtual table if not exists {index} using fts5({said}, content='{name}', content_rowid='id', tokenize='trigram')")
        for when, does in (("insert", enter), ("delete", leave), (f"update of {said}", leave + enter)):
            run(f"create trigger if not exists {index}_{when.split()[0]} after {when} on {name} begin {does} end")
        if index not in there:
            run(f"insert into {index}({index}) values ('rebuild')")


def holding(name: str, word: str, start: bool = False) -> Select[Any]:
    """The ids in an index (sku_fts, listing_fts, item_fts) of what holds a word; start: as the beginning of a word."""
    quoted = '"' + word.replace('"', '""') + '"' + ("*" if start else "")
    return select(column("rowid")).select_from(table(name)).where(literal_column(name).op("match")(quoted))
