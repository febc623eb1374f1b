"""What one open trouble is, whatever it is about."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

# So many of what a row stands for are shown with it; the others are settled with all.
SHOWN = 100


def quoted(name: str) -> str:
    """A name for a text that is filled in later: its braces are its own."""
    return name.replace("{", "{{").replace("}", "}}")


@dataclass(frozen=True)
class Step:
    """The best next step: `act` is done by the server, or `go` opens a view."""

    label: str
    act: bool = False
    go: str = ""


@dataclass(frozen=True)
class Cause:
    """What several troubles come from. told and the labels hold {n}, how many; step: what is done for all of them, as `act` or `go`."""

    key: str
    message: str
    reason: str
    step: Step
    other: Step | None = None


@dataclass(frozen=True)
class Member:
    """One of what a row stands for. Its key does the row's step for it alone; go: where it is seen. at_risk as in Trouble."""

    key: str
    name: str
    message: str
    go: str = ""
    at_risk: int = 0


@dataclass(frozen=True)
class Alert:
    """One thing that waits. at_risk in minor units of the house currency, lost per day or once."""

    key: str
    station: str
    kind: str
    message: str
    reason: str
    since: datetime
    step: Step
    at_risk: int = 0
    per_day: bool = False
    tone: str = "waits"
    count: int = 1
    more: dict[str, Any] = field(default_factory=dict)
    # The other way on, where there is one.
    other: Step | None = None
    # What it stands for, where that can be settled one by one.
    members: tuple[Member, ...] = ()
    # How many there are of them, where only the dearest are told here; 0 = these are all.
    members_of: int = 0
    # What a person chooses from before the step is done: (value, name).
    choices: tuple[tuple[str, str], ...] = ()
    # Troubles of one cause are shown as one row.
    cause: Cause | None = None


# Finds the troubles of some kinds; a source's place in its table names the kinds, as the first parts of their keys.
Source = Callable[[Any], Iterable[Alert]]
