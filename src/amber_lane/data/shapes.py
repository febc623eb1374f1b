"""Which shape the data has and which one this version knows, told without loading what changes it: nearly every start changes nothing."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import Connection, inspect, text

MIGRATIONS = Path(__file__).parent / "migrations"


def newest() -> str:
    """The number of the newest shape: migrations are numbered, each builds on the one before."""
    numbers = sorted(one.name.split("_")[0] for one in (MIGRATIONS / "versions").glob("[0-9]*_*.py"))
    if not numbers:
        raise RuntimeError("there are no migrations")
    return numbers[-1]


def of(connection: Connection) -> str | None:
    """The number of the shape that the data has; None where there is none yet."""
    if not inspect(connection).has_table("alembic_version"):
        return None
    found = connection.execute(text("select version_num from alembic_version")).scalar()
    return None if found is None else str(found)


def change(connection: Connection, to: str) -> None:
    """Bring the tables to a shape, in the transaction of a connection."""
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["connection"] = connection
    command.upgrade(config, to)
