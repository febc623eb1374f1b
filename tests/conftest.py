"""Shared by all tests: a world per module, and a business in it."""

from __future__ import annotations

import gc
import os
from collections.abc import Iterator
from pathlib import Path

import pytest
import structlog
from argon2 import PasswordHasher
from hypothesis import settings

from amber_lane.connectors import outside
from amber_lane.core.writing import Writing, use
from amber_lane.services.base import credentials

from .business import Business, WorldProcess, Worlds, empty_file
from .compiled_once import share
from .small import Small

# How long something takes is measured elsewhere (`make bench`); a busy machine fails nothing here.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")
# The practice world, and every partner that a test makes up, stand on this machine.
outside.allow(("127.0.0.0/8", "::1/128"))
share()
# A fault is told by its lines, and not by all that stood in its variables, which takes long.
structlog.configure(
    processors=[structlog.processors.add_log_level, structlog.processors.format_exc_info, structlog.processors.LogfmtRenderer()]
)
# The work of a password is its strength, and is asked by hardly a test.
credentials._hasher = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes longest comes first, so that no process is left with it at the end; and what waits for processes that die stands beside
    what works in a browser, so that one works while the other waits."""
    places: dict[str, dict[str, int]] = {"jobs": {}, "browser": {}}

    def place(item: pytest.Item) -> int:
        modules = places.get(item.path.parent.name)
        return 1_000_000 if modules is None else modules.setdefault(item.path.name, len(modules))

    items.sort(key=place)


def pytest_collection_finish() -> None:
    """All is loaded now, and stays; of what comes, most goes by itself."""
    gc.freeze()
    gc.set_threshold(10_000, 10, 100)
    gc.enable()


def pytest_unconfigure() -> None:
    """What is left at the end goes with the process; nobody needs to look through it."""
    gc.freeze()


@pytest.fixture(autouse=True)
def _as_before() -> Iterator[None]:
    """A house that writes otherwise leaves nothing of its manner to the next test, nor a command what it sets for its whole process."""
    rights = os.umask(0o022)
    os.umask(rights)
    yield
    use(Writing())
    os.umask(rights)


@pytest.fixture(scope="session")
def worlds(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Worlds]:
    made = Worlds(tmp_path_factory.mktemp("worlds"))
    yield made
    made.stop()


@pytest.fixture(scope="module")
def world(worlds: Worlds) -> Iterator[WorldProcess]:
    with worlds.one() as world:
        yield world


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
