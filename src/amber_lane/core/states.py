"""Every state machine as an ordered list of small rules. The documents draw them from these lists."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from .machine import Machine, machine


class ListingState(StrEnum):
    preparing = "preparing"
    ended = "ended"
    live = "live"
    paused = "paused"


LISTING = machine(
    "listing",
    ListingState,
    ("publish", "preparing ended", "live", "a person puts it on sale"),
    ("pause", "live", "paused", "nothing left, a held price, or a person"),
    ("resume", "paused", "live", "stock is steady again, or a person"),
    ("end", "preparing live paused", "ended", "a person takes it off for good"),
    ("take_back", "live paused ended", "preparing", "its publishing is undone"),
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


class LaneState(StrEnum):
    new = "new"
    open = "open"
    slow = "slow"
    shut = "shut"


LANE = machine(
    "lane",
    LaneState,
    ("prove", "new", "open", "its supplier took an order by it"),
    ("slow", "open", "slow", "too many of its parcels come late"),
    ("mend", "slow", "open", "they come in time again"),
    ("shut", "new open slow", "shut", "its item is another one now, its supplier refuses or has ended"),
    ("reopen", "shut", "open", "its supplier is connected again"),
    ("stop_print", "new open slow", "shut", "what it prints may not be printed"),
    ("print_again", "shut", "new", "what it prints has passed its checks"),
    ("say_new", "open slow shut", "new", "a person"),
    ("say_open", "new open slow shut", "open", "a person"),
    ("say_slow", "new open shut", "slow", "a person"),
    ("say_shut", "new open slow", "shut", "a person"),
)


class SweepState(StrEnum):
    running = "running"
    failed = "failed"
    stale = "stale"
    good = "good"
    held = "held"
    released = "released"
    kept = "kept"


SWEEP = machine(
    "sweep",
    SweepState,
    ("fail", "running", "failed", "no usable answer came, or it was cut off"),
    ("stand_still", "running", "stale", "the feed is as old as the last one, or always the same"),
    ("take", "running", "good", "it was believed"),
    ("hold", "running", "held", "too much moves at once"),
    ("release", "held", "released", "a person believes it after all"),
    ("set_aside", "held", "kept", "a person lets the last good values stand"),
)


class DecisionState(StrEnum):
    waits = "waits"
    kept = "kept"
    sent = "sent"
    undone = "undone"


DECISION = machine(
    "decision",
    DecisionState,
    ("settle", "waits", "kept", "a person's word, or it would not move any more"),
    ("send", "waits kept", "sent", "it is in the outbox"),
    ("unsettle", "kept sent undone", "waits", "that word is undone"),
    ("undo", "sent", "undone", "a person takes it back"),
)


class JobState(StrEnum):
    waiting = "waiting"
    held = "held"
    running = "running"
    done = "done"
    stopped = "stopped"
    failed = "failed"


JOB = machine(
    "job",
    JobState,
    ("hold", "waiting", "held", "it is written down, and begins when what it belongs to is done"),
    ("let_go", "held", "waiting", "what it belongs to is done"),
    ("start", "waiting running", "running", "a worker has it in hand"),
    ("begin_again", "running", "waiting", "its worker died"),
    ("finish", "waiting running", "done", "all of it is done"),
    ("stop", "waiting running", "stopped", "a person stopped it"),
    ("fail", "waiting running", "failed", "nothing of it could be done"),
)


class LinkState(StrEnum):
    new = "new"
    broken = "broken"
    failing = "failing"
    good = "good"


LINK = machine(
    "link",
    LinkState,
    ("work", "new good failing broken", "good", "a call was answered"),
    ("fail", "new good failing broken", "failing", "a call was not answered; it is tried again"),
    ("break", "new good failing broken", "broken", "its key or address is refused; a person must look"),
)


class OrderLineState(StrEnum):
    new = "new"
    held = "held"
    ready = "ready"
    refused = "refused"
    needs_lane = "needs_lane"
    bought = "bought"
    with_supplier = "with_supplier"
    on_the_road = "on_the_road"
    arrived = "arrived"
    cancelled = "cancelled"


ORDER_LINE = machine(
    "order line",
    OrderLineState,
    ("lack", "new ready held refused", "needs_lane", "its SKU has no lane that is open"),
    ("hold", "new ready needs_lane refused", "held", "it broke a limit"),
    ("clear", "new needs_lane held refused", "ready", "a lane fills it inside every limit"),
    ("buy", "ready", "bought", "its purchase order is in the outbox"),
    ("take_back", "bought", "new", "its purchase order was taken back before it went out"),
    ("acknowledge", "bought", "with_supplier", "the supplier took the purchase order"),
    ("refuse", "bought with_supplier", "refused", "the supplier will not send it"),
    ("send", "bought with_supplier", "on_the_road", "a parcel has left"),
    ("arrive", "on_the_road", "arrived", "the carrier gave it to the buyer"),
    ("again", "on_the_road arrived", "new", "a person sends it again: it came back, is lost, or is not as it should be"),
    ("refund", "on_the_road arrived", "cancelled", "a person refunds it: it came back, or is lost"),
    ("cancel", "new needs_lane held ready refused", "cancelled", "the buyer or a person, before buying"),
    ("withdraw", "bought with_supplier", "cancelled", "the buyer cancelled, and the supplier let it go"),
)


class PurchaseState(StrEnum):
    waiting = "waiting"
    sent = "sent"
    accepted = "accepted"
    refused = "refused"
    shipped = "shipped"
    stopped = "stopped"
    withdrawn = "withdrawn"


PURCHASE = machine(
    "purchase order",
    PurchaseState,
    ("send", "waiting", "sent", "the supplier has it"),
    ("accept", "waiting sent", "accepted", "the supplier will send it"),
    ("refuse", "waiting sent accepted", "refused", "the supplier will not send it"),
    ("ship", "waiting sent accepted", "shipped", "it has left the supplier"),
    ("stop", "waiting", "stopped", "it was taken back before it went out"),
    ("take_back", "sent", "waiting", "its sheet was taken back before the supplier answered"),
    ("withdraw", "waiting sent accepted", "withdrawn", "the supplier let it go, as we asked"),
)


class ParcelState(StrEnum):
    label = "label"
    moving = "moving"
    delivered = "delivered"
    returned = "returned"


PARCEL = machine(
    "parcel",
    ParcelState,
    ("move", "label", "moving", "the carrier has it"),
    ("deliver", "label moving", "delivered", "the carrier gave it to the buyer"),
    ("return", "label moving", "returned", "it goes back to the supplier"),
    ("suppose", "moving", "delivered", "nobody said otherwise for so long that the policy takes it as arrived"),
    ("replace", "label", "returned", "its number was wrong, and the supplier gave another"),
)


class OutboxState(StrEnum):
    waiting = "waiting"
    unknown = "unknown"
    claimed = "claimed"
    posted = "posted"
    done = "done"
    dead = "dead"
    dropped = "dropped"


OUTBOX = machine(
    "outbox row",
    OutboxState,
    ("claim", "waiting unknown", "claimed", "a worker takes it in hand"),
    ("post", "claimed unknown", "posted", "the store took it in a batch; what became of it is still to be told"),
    ("confirm", "claimed posted", "done", "the outside has it"),
    ("delay", "claimed", "waiting", "it surely did not arrive; try again later"),
    ("lose", "claimed posted", "unknown", "nobody knows; ask by our reference before anything else"),
    ("drop", "waiting dead", "dropped", "a newer change overtook it"),
    ("stop", "waiting", "dropped", "a person took it back before it went out"),
    ("fail", "claimed posted unknown", "dead", "refused, or tried too often; shown on Today"),
    ("retry", "dead", "waiting", "a person tries it again"),
    ("take_back", "done", "waiting", "its sheet was taken back"),
    ("arrived", "dead", "done", "a person knows that it arrived"),
)


class MailState(StrEnum):
    kept = "kept"
    waiting = "waiting"
    sent = "sent"
    bounced = "bounced"


MESSAGE = machine(
    "mail",
    MailState,
    ("mail", "kept", "waiting", "a mail server takes it"),
    ("send", "kept waiting", "sent", "the mail server has it"),
    ("bounce", "waiting sent", "bounced", "it came back"),
)


class FileState(StrEnum):
    seen = "seen"
    gone = "gone"
    here = "here"
    passed = "passed"
    taken = "taken"
    wrong = "wrong"
    closed = "closed"


FILE = machine(
    "file on a server",
    FileState,
    ("miss", "seen", "gone", "it is not seen any more; what comes back under its name is another file"),
    ("fetch", "seen", "here", "it is whole, and a copy of it is here"),
    ("pass", "seen here", "passed", "a newer one came, and only the newest counts"),
    ("take", "here", "taken", "what it says is done"),
    ("fail", "here", "wrong", "it cannot be taken; shown on Today"),
    ("again", "wrong taken", "here", "a person has it taken once more"),
    ("close", "wrong", "closed", "a person saw it, and leaves it so"),
)


class SampleState(StrEnum):
    asked = "asked"
    ordered = "ordered"
    refused = "refused"
    sent = "sent"
    judged = "judged"


SAMPLE = machine(
    "sample",
    SampleState,
    ("take", "asked", "ordered", "the supplier took the order"),
    ("refuse", "asked ordered", "refused", "the supplier will not send it"),
    ("send", "asked ordered", "sent", "it has left the supplier"),
    ("judge", "asked ordered sent", "judged", "a person has it in hand and says what it is like"),
)


class ApprovalState(StrEnum):
    waiting = "waiting"
    approved = "approved"
    refused = "refused"


APPROVAL = machine(
    "approval",
    ApprovalState,
    ("approve", "waiting", "approved", "somebody whose own limit is higher does what was asked for"),
    ("refuse", "waiting", "refused", "they do not want it, or whoever asked does not any more"),
)


class RequestState(StrEnum):
    asked = "asked"
    answered = "answered"
    accepted = "accepted"
    declined = "declined"


REQUEST = machine(
    "request to a supplier",
    RequestState,
    ("answer", "asked answered", "answered", "the supplier names an item"),
    ("accept", "answered", "accepted", "a person takes it, and its lane opens"),
    ("decline", "asked answered", "declined", "it is not what was wanted, or nobody has it"),
)


class ReturnRequestState(StrEnum):
    asked = "asked"
    accepted = "accepted"
    kept = "kept"
    refused = "refused"
    lapsed = "lapsed"


RETURN_REQUEST = machine(
    "return that a buyer asks for",
    ReturnRequestState,
    ("accept", "asked", "accepted", "a person lets it come back"),
    ("keep", "asked", "kept", "a person lets the buyer keep it, and pays it back or not"),
    ("refuse", "asked", "refused", "a person refuses it, with why"),
    ("lapse", "asked accepted kept", "lapsed", "the store decided it, since nobody answered in time"),
)


class GoodsReturnState(StrEnum):
    agreed = "agreed"
    on_the_way = "on_the_way"
    arrived = "arrived"
    looked_at = "looked_at"
    dropped = "dropped"


GOODS_RETURN = machine(
    "return",
    GoodsReturnState,
    ("send", "agreed", "on_the_way", "the carrier has it, or the buyer told its number"),
    ("arrive", "agreed on_the_way", "arrived", "the carrier gave it to whom it goes to, or a person has it"),
    ("look_at", "arrived", "looked_at", "a person says how it came: into stock again, or written off"),
    ("drop", "agreed on_the_way", "dropped", "it does not come any more"),
)


class HeldState(StrEnum):
    asked = "asked"
    question = "question"
    refused = "refused"
    agreed = "agreed"
    ended = "ended"


HELD = machine(
    "goods of a depot",
    HeldState,
    ("question", "asked", "question", "the depot wants to know something first"),
    ("answer", "question", "asked", "a person answers it"),
    ("agree", "asked question refused", "agreed", "the depot takes them"),
    ("refuse", "asked question", "refused", "the depot does not take them"),
    ("ask_again", "refused", "asked", "a person asks once more"),
    ("end", "asked question refused agreed", "ended", "a person holds them there no more"),
    ("resume", "ended", "agreed", "a person holds them there again"),
)


class InboundState(StrEnum):
    planned = "planned"
    ordered = "ordered"
    refused = "refused"
    on_the_way = "on_the_way"
    at_gate = "at_gate"
    counted = "counted"
    cancelled = "cancelled"


LOAD = machine(
    "load to a depot",
    InboundState,
    ("order", "planned", "ordered", "its purchase order is in the outbox"),
    ("take_back", "ordered", "planned", "its purchase order was taken back before it went out"),
    ("refuse", "ordered", "refused", "the supplier will not send it"),
    ("leave", "planned ordered", "on_the_way", "it has left"),
    ("reach", "ordered on_the_way", "at_gate", "the depot has it and has not counted it yet"),
    ("count", "ordered on_the_way at_gate", "counted", "the depot has counted it in"),
    ("cancel", "planned refused", "cancelled", "a person drops it"),
)


class ClaimState(StrEnum):
    open = "open"
    question = "question"
    refused = "refused"
    asked = "asked"
    accepted = "accepted"
    settled = "settled"
    dropped = "dropped"


CLAIM = machine(
    "claim",
    ClaimState,
    ("ask", "open question refused", "asked", "the supplier is asked"),
    ("question", "asked", "question", "the supplier wants to see more first"),
    ("accept", "asked question", "accepted", "the supplier will pay, or send it again"),
    ("refuse", "asked question", "refused", "the supplier will not"),
    ("settle", "accepted asked question refused", "settled", "the money is here, or the new parcel is on its way"),
    ("drop", "open asked question refused accepted", "dropped", "a person lets it go"),
    ("reopen", "dropped", "open", "that is undone"),
)

# Lines that nobody has bought yet; and purchases that stand, whose goods come and are paid.
WAITING_LINES = (OrderLineState.new, OrderLineState.needs_lane, OrderLineState.held, OrderLineState.ready, OrderLineState.refused)
PURCHASE_LIVE = (PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted, PurchaseState.shipped)
# Loads that are still to come in.
LOAD_COMING = (InboundState.ordered, InboundState.on_the_way, InboundState.at_gate)

MACHINES: tuple[Machine[Any], ...] = (
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
