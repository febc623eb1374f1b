"""What follows here when the outside has a change: the listing shows it, the purchase has an answer, the buyer was told."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import update

from ...connectors.claim_protocol import ClaimAnswer
from ...connectors.depot_payloads import LoadPayload
from ...connectors.depot_protocol import HoldAnswer, LoadState
from ...connectors.payloads import (
    Answer,
    FulfilmentPayload,
    ListingPayload,
    MailPayload,
    PurchasePayload,
    RecallPayload,
    SamplePayload,
)
from ...connectors.protocols import PurchaseAnswer
from ...connectors.return_payloads import LabelPayload
from ...connectors.return_protocol import Label
from ...core.states import MESSAGE
from ...data.base import to_ms
from ...data.bulk import bulk_update
from ...data.outbox import Outbox, party_of
from ...data.shelf import Listing
from ...data.transit import Message, PassedOn
from ..base.context import Context
from ..claims import cases, returns
from ..depot import arrivals, goods, loads
from ..orders import cancellations
from ..outbox import queue
from ..purchasing import supplier_answers
from ..sourcing import samples


def follow(context: Context, done: Sequence[tuple[Outbox, Answer]]) -> None:
    """Changes that the outside has confirmed, each with its answer."""
    changes = _listing_changes(row for row, _ in done)
    shown(context, changes)
    said = [("", None, 0, one.listing) for one in changes if one.words]
    bulk_update(context.session, Listing, ("message", "theirs", "words_due"), said)
    for row, answer in done:
        match queue.payload(row) if row.kind != "listing" else None:
            case SamplePayload() if isinstance(answer, PurchaseAnswer):
                samples.take_answer(context, answer)
            case LoadPayload() if isinstance(answer, PurchaseAnswer):
                loads.take_answer(context, answer)
            case PurchasePayload() if isinstance(answer, PurchaseAnswer):
                supplier_answers.take_answer(context, answer, corrects=True)
            case RecallPayload() if isinstance(answer, PurchaseAnswer):
                cancellations.take_recall(context, answer)
            case _ if isinstance(answer, ClaimAnswer):
                cases.take_answer(context, answer)
            case _ if isinstance(answer, Label):
                returns.take_label(context, answer)
            case _ if isinstance(answer, HoldAnswer):
                goods.take_answer(context, party_of(row.target)[1], answer)
            case _ if isinstance(answer, LoadState):
                arrivals.take_state(context, answer)
            case FulfilmentPayload() as passed:
                mine = (PassedOn.parcel_id == passed.parcel, PassedOn.order_id == passed.order_id)
                context.session.execute(update(PassedOn).where(*mine).values(confirmed_at=context.now))
            case MailPayload(message=int(number)):
                context.session.execute(update(Message).where(Message.id == number).values(state=MESSAGE.target("send")))


def arrived(context: Context, rows: Sequence[Outbox]) -> None:
    """A person knows that these arrived although nobody could be asked: they are done, and what follows from it follows."""
    queue.arrived(context, rows)
    answers: list[tuple[Outbox, Answer]] = []
    for row in rows:
        payload = queue.payload(row)
        bought = isinstance(payload, PurchasePayload) and not isinstance(payload, LoadPayload)
        said = f"it arrived, says {context.actor}"
        answers.append((row, PurchaseAnswer(row.key, "", "received", said, None, None) if bought else True))
    follow(context, answers)


def _listing_changes(rows: Iterable[Outbox]) -> list[ListingPayload]:
    return [ListingPayload.model_validate(row.body) for row in rows if row.kind == "listing"]


def shown(context: Context, changes: Sequence[ListingPayload]) -> None:
    """What stores show now after these changes, of the parts that each of them changed."""
    at = to_ms(context.now)
    prices = [(one.minor, at, one.listing) for one in changes if one.price is not None]
    bulk_update(context.session, Listing, ("shown_price", "shown_at"), prices)
    stock = [(one.quantity, one.state, at, one.listing) for one in changes if one.state is not None]
    bulk_update(context.session, Listing, ("shown_quantity", "shown_state", "shown_at"), stock)


def failed(context: Context, dead: Sequence[tuple[Outbox, str]]) -> None:
    """Changes that the outside refused: a listing that was being published remembers why."""
    changes = [(queue.payload(row), message) for row, message in dead]
    said = [(message[:500], one.listing) for one, message in changes if isinstance(one, ListingPayload) and one.words]
    bulk_update(context.session, Listing, ("message",), said)
    for one, message in changes:
        if isinstance(one, RecallPayload):
            cancellations.not_let_go(context, one.reference, message)
        elif isinstance(one, LabelPayload):
            returns.no_label(context, one.reference, message)
