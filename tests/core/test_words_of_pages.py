"""Every state and kind that the server can tell has its word on the pages: what has none would stand there as nothing, or as a code."""

from __future__ import annotations

import re
from enum import StrEnum
from pathlib import Path

import pytest

from amber_lane.core.books import Basis, Kind
from amber_lane.core.claims import ClaimReason
from amber_lane.core.events import EventGroup
from amber_lane.core.print_choice import PrintFault
from amber_lane.core.states import (
    ApprovalState,
    ClaimState,
    GoodsReturnState,
    HeldState,
    InboundState,
    OrderLineState,
    SampleState,
)

PAGES = Path(__file__).resolve().parents[2] / "web" / "src"
# Where its words stand, what has them, and which of them no page is ever told.
WORDS: list[tuple[str, str, type[StrEnum], set[str]]] = [
    ("parts/format.ts", "STATE_WORDS", OrderLineState, set()),
    ("stations/orders/Orders.vue", "SAID", OrderLineState, set()),
    ("stations/depot/depot.ts", "LOAD_WORDS", InboundState, set()),
    ("stations/depot/depot.ts", "HELD_WORDS", HeldState, set()),
    ("stations/transit/cases.ts", "STATES", ClaimState, set()),
    ("stations/transit/cases.ts", "REASONS", ClaimReason, set()),
    ("stations/transit/cases.ts", "RETURNS", GoodsReturnState, set()),
    ("stations/books/books.ts", "KINDS", Kind, set()),
    ("stations/books/books.ts", "BASES", Basis, set()),
    ("stations/print/print.ts", "FAULTS", PrintFault, {""}),
    ("stations/source/Samples.vue", "STATES", SampleState, set()),
    ("stations/today/Approvals.vue", "STATES", ApprovalState, set()),
    ("stations/setup/events.ts", "EVENTS", EventGroup, set()),
]


def words(file: str, name: str) -> dict[str, str]:
    """The words of a table in a page's source, by their codes."""
    text = (PAGES / file).read_text("utf-8")
    found = re.search(rf"const {name}\b[^=]*= \{{(.*?)\n?\}}\n", text, re.DOTALL)
    assert found, f"{file} has no {name}"
    # Of what has more than a word, its label, or what is said of one.
    rows = re.sub(r"\{ label: ('.*?'|\".*?\").*?\}", r"\1", found[1])
    rows = re.sub(r"\[('.*?'), '.*?'\]", r"\1", rows)
    return dict(re.findall(r"""'?(\w+)'?: ['"](.*?)['"]""", rows))


@pytest.mark.parametrize(("file", "name", "states", "untold"), WORDS, ids=lambda one: one if isinstance(one, str) else "")
def test_each_has_its_word_and_no_word_is_of_nothing(file: str, name: str, states: type[StrEnum], untold: set[str]) -> None:
    found = words(file, name)
    known = {one.value for one in states}
    assert not known - untold - found.keys(), "these have no word"
    extra = found.keys() - known
    # An order as a whole needs a lane; its lines are new.
    assert extra <= {"needs_lane"}, "nothing is ever called so"
    assert all(word and "_" not in word for word in found.values())
