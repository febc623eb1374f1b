"""What the database keeps up by itself beside the tables: the indexes of words, the tallies, which SKUs were changed, that no listing
names a closed lane, and that the journal is only added to."""

from __future__ import annotations

from sqlalchemy import Connection

from . import books, depot, moved, tallies, words


def make(connection: Connection) -> None:
    """Make what is not there; may be repeated, and is needed again where a table was put in another's place."""
    words.make(connection)
    tallies.make(connection)
    moved.make(connection)
    books.make(connection)
    depot.make(connection)
    # A lane's words and units are looked at again when they change, and not otherwise.
    said = "title, brand, gtin, mpn, options"
    for name, table, columns, which in (
        ("sku", "sku", f"code, {said}", "sku_id = new.id"),
        ("item", "item", f"{said}, pack_size", "id in (select lane_id from lane_part where item_id = new.id)"),
        ("part", "lane_part", "units_num, units_den", "id = new.lane_id"),
        ("lane", "lane", "match_evidence, state", "id = new.id"),
    ):
        connection.exec_driver_sql(
            f"create trigger if not exists lane_fits_{name} after update of {columns} on {table} begin "
            f"update lane set fits = null where {which} and fits is not null; end"
        )
    # What has no lane is found by that alone, without a look at every lane.
    connection.exec_driver_sql(
        "create trigger if not exists lane_closed after update of closed_at on lane "
        "when new.closed_at is not null and old.closed_at is null "
        "begin update listing set lane_id = null where lane_id = new.id; end"
    )
