"""Shared by all tests: a world per module, and a business in it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from .business import Business, WorldProcess


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
