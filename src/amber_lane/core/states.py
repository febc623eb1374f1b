"""Every state machine as an ordered list of small rules. The documents draw them from these lists."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass


class NotAllowed(ValueError):
    """A state change that no rule permits."""


@dataclass(frozen=True)
class Move:
    """One rule: what happens, from which states, to which."""

    name: str
    source: frozenset[str]
    target: str
    reason: str


def _move(name: str, source: str, target: str, reason: str) -> Move:
    return Move(name, frozenset(source.split()), target, reason)


@dataclass(frozen=True)
class Machine:
    name: str
    first: str
    moves: tuple[Move, ...]

    def step(self, state: str, move: str) -> str:
        """The state after `move`; NotAllowed when no rule leads there.

        >>> LISTING.step("live", "pause")
        'paused'
        """
        for rule in self.moves:
            if rule.name == move and state in rule.source:
                return rule.target
        raise NotAllowed(f"a {self.name} that is {state} cannot {move}")

    def sources(self, move: str) -> frozenset[str]:
        """All states that a move may start from."""
        return frozenset().union(*(rule.source for rule in self.moves if rule.name == move))

    @property
    def states(self) -> list[str]:
        seen = {self.first: None}
        for rule in self.moves:
            seen |= dict.fromkeys((*sorted(rule.source), rule.target))
        return list(seen)

    def mermaid(self) -> Iterator[str]:
        """The machine as a diagram for the documents."""
        yield "stateDiagram-v2"
        yield f"  [*] --> {self.first}"
        for rule in self.moves:
            for source in sorted(rule.source):
                yield f"  {source} --> {rule.target}: {rule.name}"


LISTING = Machine(
    "listing",
    "preparing",
    (
        _move("publish", "preparing ended", "live", "a person puts it on sale"),
        _move("pause", "live", "paused", "nothing left, a held price, or a person"),
        _move("resume", "paused", "live", "stock is steady again, or a person"),
        _move("end", "preparing live paused", "ended", "a person takes it off for good"),
        _move("take_back", "live paused ended", "preparing", "its publishing is undone"),
    ),
)

ORDER_LINE = Machine(
    "order line",
    "new",
    (
        _move("lack", "new ready held refused", "needs_lane", "its SKU has no lane that is open"),
        _move("hold", "new ready needs_lane refused", "held", "it broke a limit"),
        _move("clear", "new needs_lane held refused", "ready", "a lane fills it inside every limit"),
        _move("buy", "ready", "bought", "its purchase order is in the outbox"),
        _move("take_back", "bought", "new", "its purchase order was taken back before it went out"),
        _move("acknowledge", "bought", "with_supplier", "the supplier took the purchase order"),
        _move("refuse", "bought with_supplier", "refused", "the supplier will not send it"),
        _move("send", "bought with_supplier", "on_the_road", "a parcel has left"),
        _move("arrive", "on_the_road", "arrived", "the carrier gave it to the buyer"),
        _move("again", "on_the_road", "new", "a person sends it again: it came back, or is lost"),
        _move("refund", "on_the_road arrived", "cancelled", "a person refunds it: it came back, or is lost"),
        _move("cancel", "new needs_lane held ready refused", "cancelled", "the buyer or a person, before buying"),
        _move("withdraw", "bought with_supplier", "cancelled", "the buyer cancelled, and the supplier let it go"),
    ),
)

PURCHASE = Machine(
    "purchase order",
    "waiting",
    (
        _move("send", "waiting", "sent", "the supplier has it"),
        _move("accept", "waiting sent", "accepted", "the supplier will send it"),
        _move("refuse", "waiting sent accepted", "refused", "the supplier will not send it"),
        _move("ship", "waiting sent accepted", "shipped", "it has left the supplier"),
        _move("stop", "waiting", "stopped", "it was taken back before it went out"),
        _move("take_back", "sent", "waiting", "its sheet was taken back before the supplier answered"),
        _move("withdraw", "waiting sent accepted", "withdrawn", "the supplier let it go, as we asked"),
    ),
)

PARCEL = Machine(
    "parcel",
    "label",
    (
        _move("move", "label", "moving", "the carrier has it"),
        _move("deliver", "label moving", "delivered", "the carrier gave it to the buyer"),
        _move("return", "label moving", "returned", "it goes back to the supplier"),
        _move("suppose", "moving", "delivered", "nobody said otherwise for so long that the policy takes it as arrived"),
        _move("replace", "label", "returned", "its number was wrong, and the supplier gave another"),
    ),
)

OUTBOX = Machine(
    "outbox row",
    "waiting",
    (
        _move("claim", "waiting unknown", "claimed", "a worker takes it in hand"),
        _move("post", "claimed unknown", "posted", "the store took it in a batch; what became of it is still to be told"),
        _move("confirm", "claimed posted", "done", "the outside has it"),
        _move("delay", "claimed", "waiting", "it surely did not arrive; try again later"),
        _move("lose", "claimed posted", "unknown", "nobody knows; ask by our reference before anything else"),
        _move("drop", "waiting dead", "dropped", "a newer change overtook it"),
        _move("stop", "waiting", "dropped", "a person took it back before it went out"),
        _move("fail", "claimed posted", "dead", "refused, or tried too often; shown on Today"),
        _move("retry", "dead", "waiting", "a person tries it again"),
        _move("take_back", "done", "waiting", "its sheet was taken back"),
        _move("arrived", "dead", "done", "a person knows that it arrived"),
    ),
)

SAMPLE = Machine(
    "sample",
    "asked",
    (
        _move("take", "asked", "ordered", "the supplier took the order"),
        _move("refuse", "asked ordered", "refused", "the supplier will not send it"),
        _move("send", "asked ordered", "sent", "it has left the supplier"),
        _move("judge", "asked ordered sent", "judged", "a person has it in hand and says what it is like"),
    ),
)

REQUEST = Machine(
    "request to a supplier",
    "asked",
    (
        _move("answer", "asked answered", "answered", "the supplier names an item"),
        _move("accept", "answered", "accepted", "a person takes it, and its lane opens"),
        _move("decline", "asked answered", "declined", "it is not what was wanted, or nobody has it"),
    ),
)

MACHINES = (LISTING, ORDER_LINE, PURCHASE, PARCEL, OUTBOX, SAMPLE, REQUEST)
