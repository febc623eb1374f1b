"""What the database keeps up by itself beside the tables: the indexes of words, the tallies, and that no listing names a closed lane."""

from __future__ import annotations

from sqlalchemy import Connection

from . import tallies, words


def make(connection: Connection) -> None:
    """Make what is not there; may be repeated, and is needed again where a table was put in another's place."""
    words.make(connection)
    tallies.make(connection)
    # What has no lane is found by that alone, without a look at every lane.
    connection.exec_driver_sql(
        "create trigger if not exists lane_closed after update of until on lane when new.until is not null and old.until is null "
        "begin update listing set lane_id = null where lane_id = new.id; end"
    )
