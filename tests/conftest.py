"""Shared by all tests: a world per module, and a business in it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from amber_lane.connectors import outside

from .business import Business, WorldProcess, empty_file
from .small import Small

# How long something takes is measured elsewhere (`make bench`); a busy machine fails nothing here.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")
# The practice world, and every partner that a test makes up, stand on this machine.
outside.allow(("127.0.0.0/8", "::1/128"))


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[WorldProcess]:
    process = WorldProcess(tmp_path_factory.mktemp("world"))
    yield process
    process.stop()


@pytest.fixture
def business(world: WorldProcess, tmp_path: Path) -> Iterator[Business]:
    """A fresh house; the world is calm when it opens and when it closes."""
    world.calm()
    made = Business(world, tmp_path)
    yield made
    world.calm()
    made.close()


@pytest.fixture(scope="session")
def house_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A database file with all tables and the rows of a small house."""
    folder = tmp_path_factory.mktemp("template")
    made = Small(folder, empty_file())
    made.fill()
    with made.db.engine.connect() as connection:
        connection.exec_driver_sql("pragma wal_checkpoint(truncate)")
    made.db.close()
    return folder / "small.db"


@pytest.fixture
def small(house_file: Path, tmp_path: Path) -> Iterator[Small]:
    """A house of a few rows."""
    made = Small(tmp_path, house_file)
    yield made
    made.db.close()
