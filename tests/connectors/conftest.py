"""A practice world without faults, before and after."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest


@pytest.fixture
def calm(world) -> Iterator[Any]:
    world.calm()
    for name in ("fair_calls", "retail_calls"):
        world.post("facts", name=name, value=10_000)
    yield world
    world.calm()
