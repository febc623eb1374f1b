"""What one open trouble is, whatever it is about."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any


@dataclass(frozen=True)
class Step:
    """The best next step: `act` is done by the server, or `go` opens a view."""

    label: str
    act: bool = False
    go: str = ""


@dataclass(frozen=True)
class Trouble:
    """One thing that waits. at_risk in minor units of the house currency, lost per day or once."""

    key: str
    station: str
    kind: str
    told: str
    why: str
    since: datetime
    step: Step
    at_risk: int = 0
    per_day: bool = False
    tone: str = "waits"
    count: int = 1
    more: dict[str, Any] = field(default_factory=dict)
    # The other way on, where there is one.
    other: Step | None = None
    # What it stands for, where that can be settled one by one: (key of its own, name, what about it).
    members: tuple[tuple[str, str, str], ...] = ()
    # What a person chooses from before the step is done: (value, name).
    choices: tuple[tuple[str, str], ...] = ()
