"""The indexes of words: parts of SKUs' codes and titles and of listings' titles, whole words of SKUs, beginnings of those of items.

They can be made anew from the tables at any time, so they are no tables of ours, and SQLite's own triggers keep them.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import Connection, Select, column, literal_column, select, table

_WHOLE = "unicode61 remove_diacritics 2"
# Index, the table it is of, its columns, and how words are told from one another.
_OF = (
    ("sku_fts", "sku", ("code", "title"), "trigram"),
    ("listing_fts", "listing", ("title",), "trigram"),
    ("sku_whole", "sku", ("title", "options", "brand", "mpn"), _WHOLE),
)
# How many things hold a word stands in the second.
COUNTED = {"item": ("item_fts", "item_words"), "sku": ("sku_whole", "sku_words")}
NAMES = tuple({*(one[0] for one in _OF), *(name for pair in COUNTED.values() for name in pair)})
# A part of a word that is shorter than this stands in no index.
LEAST = 3


def make(connection: Connection) -> None:
    """Make the indexes and the triggers that are not there; an index that is new takes in what the tables hold."""
    run = connection.exec_driver_sql
    run(
        "create virtual table if not exists item_fts using fts5(title, brand, options, category, number, gtin, mpn, "
        f"tokenize='{_WHOLE}', prefix='2 3')"
    )
    there = {row[0] for row in run("select name from sqlite_master where type = 'table'")}
    for index, name, columns, tokenizer in _OF:
        said = ", ".join(columns)
        new, old = (", ".join(f"{when}.{one}" for one in columns) for when in ("new", "old"))
        enter = f"insert into {index}(rowid, {said}) values (new.id, {new});"
        leave = f"insert into {index}({index}, rowid, {said}) values ('delete', old.id, {old});"
        run(f"create virtual table if not exists {index} using fts5({said}, content='{name}', content_rowid='id', tokenize='{tokenizer}')")
        for when, does in (("insert", enter), ("delete", leave), (f"update of {said}", leave + enter)):
            run(f"create trigger if not exists {index}_{when.split()[0]} after {when} on {name} begin {does} end")
        if index not in there:
            run(f"insert into {index}({index}) values ('rebuild')")
    for index, counts in COUNTED.values():
        run(f"create virtual table if not exists {counts} using fts5vocab({index}, row)")


def holding(name: str, word: str, start: bool = False) -> Select[Any]:
    """The ids in an index (sku_fts, listing_fts, item_fts) of what holds a word; start: as the beginning of a word."""
    quoted = '"' + word.replace('"', '""') + '"' + ("*" if start else "")
    return select(column("rowid")).select_from(table(name)).where(literal_column(name).op("match")(quoted))


def with_all(name: str, said: Iterable[str]) -> Select[Any]:
    """The ids of what has all these words, whole, in the index that counts them; name: item or sku."""
    index = COUNTED[name][0]
    quoted = " AND ".join('"' + word.replace('"', '""') + '"' for word in said)
    return select(column("rowid")).select_from(table(index)).where(literal_column(index).op("match")(quoted))
