"""The one place that writes the state of a lane, with the cause of it as a code and the reason in words."""

from __future__ import annotations

from collections.abc import Mapping

from ...core.states import LANE, LaneCause, LaneState
from ...data.lanes import Lane
from ..base.errors import Conflict

# What its orders prove of a lane, or a person says of it: the state that it shall be in, by the move that leads there.
JUDGED: Mapping[str, str] = {"slow": "slow", "open": "mend", "shut": "shut"}
SAID: Mapping[str, str] = {state: f"say_{state}" for state in ("new", "open", "slow", "shut")}


def held_by_print(lane: Lane) -> bool:
    """Whether a lane is shut since what it prints may not be printed: no word of a person opens it."""
    return lane.state == LaneState.shut and lane.cause == LaneCause.printing.value


def move(lane: Lane, how: str, cause: LaneCause, reason: str) -> None:
    """Bring a lane into the state that a move leads to; NotAllowed where none does. Conflict where only another print opens it."""
    if held_by_print(lane) and how not in ("print_again", "say_shut"):
        raise Conflict(f"it opens by itself once its print passes the checks: {lane.reason}")
    lane.state, lane.cause, lane.reason = LANE.step(lane.state, how), cause.value, reason[:300]
    lane.version += 1


def say(lane: Lane, state: str, who: str, reason: str = "") -> None:
    """A person's word, which nothing that happens by itself changes again."""
    move(lane, SAID[state], LaneCause.person, reason or f"set by {who}")


def put_back(lane: Lane, state: str, reason: str, cause: str) -> None:
    """Undo: exactly as it stood."""
    lane.state, lane.reason, lane.cause = LaneState(state), reason, cause
    lane.version += 1
