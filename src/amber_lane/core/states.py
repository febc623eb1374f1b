"""Every state machine as an ordered list of small rules. The documents draw them from these lists."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum


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

    def target(self, move: str) -> str:
        """Where a move leads to, for changes of many rows at once: their query says that they are in one of its `sources`."""
        (found,) = {rule.target for rule in self.moves if rule.name == move}
        return found

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


class LaneCause(StrEnum):
    """Why a lane is in its state. What a person said or confirmed is not changed by what happens."""

    none = ""
    person = "person"
    confirmed = "confirmed"
    record = "record"
    packs = "packs"
    words = "words"
    cost = "cost"
    sample = "sample"
    proven = "proven"
    supplier_ended = "supplier_ended"
    # What it prints may not be printed, or its files are being made.
    printing = "printing"


class BillFault(StrEnum):
    """Why a supplier's bill is not taken: until somebody has asked, what was planned counts."""

    none = ""
    other_currency = "other_currency"
    far_higher = "far_higher"


LANE = Machine(
    "lane",
    "new",
    (
        _move("prove", "new", "open", "its supplier took an order by it"),
        _move("slow", "open", "slow", "too many of its parcels come late"),
        _move("mend", "slow", "open", "they come in time again"),
        _move("shut", "new open slow", "shut", "its item is another one now, its supplier refuses or has ended"),
        _move("reopen", "shut", "open", "its supplier is connected again"),
        _move("stop_print", "new open slow", "shut", "what it prints may not be printed"),
        _move("print_again", "shut", "new", "what it prints has passed its checks"),
        _move("say_new", "open slow shut", "new", "a person"),
        _move("say_open", "new open slow shut", "open", "a person"),
        _move("say_slow", "new open shut", "slow", "a person"),
        _move("say_shut", "new open slow", "shut", "a person"),
    ),
)

SWEEP = Machine(
    "sweep",
    "running",
    (
        _move("fail", "running", "failed", "no usable answer came, or it was cut off"),
        _move("stand_still", "running", "stale", "the feed is as old as the last one, or always the same"),
        _move("take", "running", "good", "it was believed"),
        _move("hold", "running", "held", "too much moves at once"),
        _move("release", "held", "released", "a person believes it after all"),
        _move("set_aside", "held", "kept", "a person lets the last good values stand"),
    ),
)

DECISION = Machine(
    "decision",
    "waits",
    (
        _move("settle", "waits", "kept", "a person's word, or it would not move any more"),
        _move("send", "waits kept", "sent", "it is in the outbox"),
        _move("unsettle", "kept sent undone", "waits", "that word is undone"),
        _move("undo", "sent", "undone", "a person takes it back"),
    ),
)

JOB = Machine(
    "job",
    "waiting",
    (
        _move("hold", "waiting", "held", "it is written down, and begins when what it belongs to is done"),
        _move("let_go", "held", "waiting", "what it belongs to is done"),
        _move("start", "waiting running", "running", "a worker has it in hand"),
        _move("begin_again", "running", "waiting", "its worker died"),
        _move("finish", "waiting running", "done", "all of it is done"),
        _move("stop", "waiting running", "stopped", "a person stopped it"),
        _move("fail", "waiting running", "failed", "nothing of it could be done"),
    ),
)

LINK = Machine(
    "link",
    "new",
    (
        _move("work", "new good failing broken", "good", "a call was answered"),
        _move("fail", "new good failing broken", "failing", "a call was not answered; it is tried again"),
        _move("break", "new good failing broken", "broken", "its key or address is refused; a person must look"),
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
        _move("again", "on_the_road arrived", "new", "a person sends it again: it came back, is lost, or is not as it should be"),
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

MESSAGE = Machine(
    "mail",
    "kept",
    (
        _move("mail", "kept", "waiting", "a mail server takes it"),
        _move("send", "kept waiting", "sent", "the mail server has it"),
        _move("bounce", "waiting sent", "bounced", "it came back"),
    ),
)

FILE = Machine(
    "file on a server",
    "seen",
    (
        _move("fetch", "seen", "here", "it is whole, and a copy of it is here"),
        _move("pass", "seen here", "passed", "a newer one came, and only the newest counts"),
        _move("take", "here", "taken", "what it says is done"),
        _move("fail", "here", "wrong", "it cannot be taken; shown on Today"),
        _move("again", "wrong taken", "here", "a person has it taken once more"),
        _move("close", "wrong", "closed", "a person saw it, and leaves it so"),
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

APPROVAL = Machine(
    "approval",
    "waiting",
    (
        _move("approve", "waiting", "approved", "somebody whose own limit is higher does what was asked for"),
        _move("refuse", "waiting", "refused", "they do not want it, or whoever asked does not any more"),
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

RETURN_REQUEST = Machine(
    "return that a buyer asks for",
    "asked",
    (
        _move("accept", "asked", "accepted", "a person lets it come back"),
        _move("keep", "asked", "kept", "a person lets the buyer keep it, and pays it back or not"),
        _move("refuse", "asked", "refused", "a person refuses it, with why"),
        _move("lapse", "asked accepted kept", "lapsed", "the store decided it, since nobody answered in time"),
    ),
)

GOODS_RETURN = Machine(
    "return",
    "agreed",
    (
        _move("send", "agreed", "on_the_way", "the carrier has it, or the buyer told its number"),
        _move("arrive", "agreed on_the_way", "arrived", "the carrier gave it to whom it goes to, or a person has it"),
        _move("look_at", "arrived", "looked_at", "a person says how it came: into stock again, or written off"),
        _move("drop", "agreed on_the_way", "dropped", "it does not come any more"),
    ),
)

HELD = Machine(
    "goods of a depot",
    "asked",
    (
        _move("question", "asked", "question", "the depot wants to know something first"),
        _move("answer", "question", "asked", "a person answers it"),
        _move("agree", "asked question refused", "agreed", "the depot takes them"),
        _move("refuse", "asked question", "refused", "the depot does not take them"),
        _move("ask_again", "refused", "asked", "a person asks once more"),
        _move("end", "asked question refused agreed", "ended", "a person holds them there no more"),
        _move("resume", "ended", "agreed", "a person holds them there again"),
    ),
)

LOAD = Machine(
    "load to a depot",
    "planned",
    (
        _move("order", "planned", "ordered", "its purchase order is in the outbox"),
        _move("take_back", "ordered", "planned", "its purchase order was taken back before it went out"),
        _move("refuse", "ordered", "refused", "the supplier will not send it"),
        _move("leave", "planned ordered", "on_the_way", "it has left"),
        _move("reach", "ordered on_the_way", "at_gate", "the depot has it and has not counted it yet"),
        _move("count", "ordered on_the_way at_gate", "counted", "the depot has counted it in"),
        _move("cancel", "planned refused", "cancelled", "a person drops it"),
    ),
)

CLAIM = Machine(
    "claim",
    "open",
    (
        _move("ask", "open question refused", "asked", "the supplier is asked"),
        _move("question", "asked", "question", "the supplier wants to see more first"),
        _move("accept", "asked question", "accepted", "the supplier will pay, or send it again"),
        _move("refuse", "asked question", "refused", "the supplier will not"),
        _move("settle", "accepted asked question refused", "settled", "the money is here, or the new parcel is on its way"),
        _move("drop", "open asked question refused accepted", "dropped", "a person lets it go"),
        _move("reopen", "dropped", "open", "that is undone"),
    ),
)

# Lines that nobody has bought yet; and purchases that stand, whose goods come and are paid.
WAITING_LINES = ("new", "needs_lane", "held", "ready", "refused")
PURCHASE_LIVE = ("waiting", "sent", "accepted", "shipped")
# Loads that are still to come in.
LOAD_COMING = ("ordered", "on_the_way", "at_gate")

MACHINES = (
    LISTING,
    LANE,
    ORDER_LINE,
    PURCHASE,
    PARCEL,
    SWEEP,
    DECISION,
    OUTBOX,
    MESSAGE,
    FILE,
    JOB,
    LINK,
    SAMPLE,
    REQUEST,
    HELD,
    LOAD,
    CLAIM,
    APPROVAL,
    RETURN_REQUEST,
    GOODS_RETURN,
)
