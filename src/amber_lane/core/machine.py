"""A state machine as an ordered list of small rules; `core.states` has those of the product."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from typing import Generic, TypeVar


class NotAllowed(ValueError):
    """A state change that no rule permits."""


S = TypeVar("S", bound=StrEnum)


@dataclass(frozen=True)
class Move(Generic[S]):
    """One rule: what happens, from which states, to which."""

    name: str
    source: frozenset[S]
    target: S
    reason: str


@dataclass(frozen=True)
class Machine(Generic[S]):
    """The states of one kind of row, of which `first` is where it begins, and the moves between them."""

    name: str
    first: S
    moves: tuple[Move[S], ...]

    def step(self, state: S, move: str) -> S:
        """The state after `move`; NotAllowed when no rule leads there.

        >>> class Lamp(StrEnum):
        ...     off = "off"
        ...     on = "on"
        >>> machine("lamp", Lamp, ("light", "off", "on", "it is dark")).step(Lamp.off, "light")
        <Lamp.on: 'on'>
        """
        for rule in self.moves:
            if rule.name == move and state in rule.source:
                return rule.target
        raise NotAllowed(f"a {self.name} that is {state} cannot {move}")

    def sources(self, move: str) -> frozenset[S]:
        """All states that a move may start from."""
        return frozenset().union(*(rule.source for rule in self.moves if rule.name == move))

    def target(self, move: str) -> S:
        """Where a move leads to, for changes of many rows at once: their query says that they are in one of its `sources`."""
        (found,) = {rule.target for rule in self.moves if rule.name == move}
        return found

    @property
    def states(self) -> list[S]:
        return list(type(self.first))

    def mermaid(self) -> Iterator[str]:
        """The machine as a diagram for the documents."""
        yield "stateDiagram-v2"
        yield f"  [*] --> {self.first}"
        for rule in self.moves:
            for source in sorted(rule.source):
                yield f"  {source} --> {rule.target}: {rule.name}"


def machine(name: str, states: type[S], *moves: tuple[str, str, str, str]) -> Machine[S]:
    """The first of the states is where it begins; of each move its name, its sources in one text, its target and its reason."""
    return Machine(
        name,
        next(iter(states)),
        tuple(Move(move, frozenset(map(states, source.split())), states(target), reason) for move, source, target, reason in moves),
    )
