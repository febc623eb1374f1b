"""What one open trouble is, whatever it is about."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from ..base.context import Context


class AlertKey(str):
    """Names one alert: its kind, and what it is about. As text it goes to the pages and comes back; inside it is never taken apart."""

    kind: str
    about: tuple[Any, ...]

    def __new__(cls, kind: str, *about: object) -> AlertKey:
        made = super().__new__(cls, ":".join(str(one) for one in (kind, *about)))
        made.kind, made.about = kind, about
        return made

    @classmethod
    def read(cls, text: str) -> AlertKey:
        """A key that came back from a page; what it is about is text then."""
        kind, *about = text.split(":")
        return cls(kind, *about)


# So many of what a row stands for are shown with it; the others are settled with all.
SHOWN = 100


def quoted(name: str) -> str:
    """A name for a text that is filled in later: its braces are its own."""
    return name.replace("{", "{{").replace("}", "}}")


@dataclass(frozen=True)
class AlertStep:
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
    step: AlertStep
    other: AlertStep | None = None


@dataclass(frozen=True)
class Member:
    """One of what a row stands for. Its key does the row's step for it alone; go: where it is seen. at_risk as in Trouble."""

    key: str
    name: str
    message: str
    go: str = ""
    at_risk: int = 0
    # Of a step that can be done for it alone: its number.
    number: int | None = None


@dataclass(frozen=True)
class Alert:
    """One thing that waits. at_risk in minor units of the house currency, lost per day or once."""

    key: AlertKey
    station: str
    kind: str
    message: str
    reason: str
    since: datetime
    step: AlertStep
    at_risk: int = 0
    per_day: bool = False
    tone: str = "waits"
    count: int = 1
    more: dict[str, Any] = field(default_factory=dict)
    # The other way on, where there is one.
    other: AlertStep | None = None
    # What it stands for, where that can be settled one by one.
    members: tuple[Member, ...] = ()
    # How many there are of them, where only the dearest are told here; 0 = these are all.
    members_of: int = 0
    # What a person chooses from before the step is done: (value, name).
    choices: tuple[tuple[str, str], ...] = ()
    # Troubles of one cause are shown as one row.
    cause: Cause | None = None


@dataclass(frozen=True)
class Doing:
    """A step that a person takes. other: the other way on; choice: what was chosen; only: that member alone."""

    context: Context
    alert: Alert
    other: bool = False
    choice: str = ""
    only: int | None = None


# What the step of an alert does. It returns what to tell, where that is more than the step and the alert.
Act = Callable[[Doing], object]
ACTS: dict[str, Act] = {}


def acts(*kinds: str) -> Callable[[Act], Act]:
    """Enters a function as what the step of these kinds of alerts does."""

    def enter(does: Act) -> Act:
        ACTS.update(dict.fromkeys(kinds, does))
        return does

    return enter


# Finds the troubles of some kinds; a source's place in its table names the kinds, as the first parts of their keys.
Source = Callable[[Any], Iterable[Alert]]
