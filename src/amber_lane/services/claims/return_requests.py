"""Returns that buyers ask for in their store: taken in, on Today with the store's deadline, and answered once."""

from __future__ import annotations

from sqlalchemy import select

from ...connectors.return_payloads import ReturnAnswerPayload
from ...connectors.return_protocol import ACCEPTED, KEPT, PAID_BACK, REFUSED, SENT, ReturnAsked, ReturnPage
from ...core.claims import ClaimReason
from ...core.currency import show
from ...core.states import RETURN_REQUEST, ReturnRequestState
from ...data.claims import Claim
from ...data.orders import Order, OrderLine
from ...data.returns import ReturnRequest
from ...data.setup import Store
from ..base.context import Context
from ..base.errors import Conflict, Invalid, NotFound
from ..fulfilment import delivery_exceptions
from ..outbox import queue
from . import cases
from .letters import WORDS

# What became of a return by its store's word -> the move by which it is that here.
_THERE = {ACCEPTED: "accept", SENT: "accept", KEPT: "keep", REFUSED: "refuse"}


def take_page(context: Context, store: Store, page: ReturnPage) -> list[tuple[ReturnRequest, ReturnAsked]]:
    """What a store tells of returns; each with what is known of it here. The same again changes nothing."""
    known, unknown = [], 0
    for asked in page.asked:
        row = context.session.scalar(
            select(ReturnRequest).where(ReturnRequest.store_id == store.id, ReturnRequest.number == asked.number)
        ) or _first(context, store, asked)
        if row is None:
            unknown += 1
            continue
        if asked.state == PAID_BACK and row.state in RETURN_REQUEST.sources("lapse"):
            _lapsed(context, row, asked)
        elif asked.state in _THERE and row.state == RETURN_REQUEST.first:
            # Somebody answered it in the store itself.
            row.state, row.answered_at = RETURN_REQUEST.step(row.state, _THERE[asked.state]), context.now
            row.version += 1
        known.append((row, asked))
    if unknown or page.unreadable:
        first = page.unreadable[0] if page.unreadable else "of orders that are not here"
        context.log("return.unread", store.name, f"{store.name}: {unknown + len(page.unreadable)} returns not taken, the first: {first}")
    store.returns_cursor = page.cursor
    context.session.flush()
    return known


def _first(context: Context, store: Store, asked: ReturnAsked) -> ReturnRequest | None:
    order = context.session.scalar(select(Order).where(Order.store_id == store.id, Order.number == asked.order))
    if order is None:
        return None
    line = context.session.scalar(select(OrderLine).where(OrderLine.order_id == order.id, OrderLine.line_no == asked.line))
    if line is None:
        return None
    row = ReturnRequest(
        store_id=store.id, number=asked.number, order_id=order.id, order_line_id=line.id, units=min(asked.units, line.quantity),
        reason=asked.reason, words=asked.words, asked_at=min(asked.at, context.now), answer_by=asked.answer_by,
        state=RETURN_REQUEST.first,
    )  # fmt: skip
    context.session.add(row)
    context.session.flush()
    what = f"{row.units} × {line.title or line.sku_code}"
    context.log("return.asked", order.number, f"{order.buyer} asks to send back {what} of order {order.number}", count=0)
    return row


def _lapsed(context: Context, row: ReturnRequest, asked: ReturnAsked) -> None:
    """The store paid the buyer back by itself: that is so, and in the books."""
    # An answer of ours may have been on its way still.
    silence = "nobody answered" if row.state == ReturnRequestState.asked else "our answer did not arrive"
    row.state, row.answered_at, row.paid_back = RETURN_REQUEST.step(row.state, "lapse"), context.now, asked.paid_back
    row.version += 1
    order, line = context.get(Order, row.order_id, "order"), context.get(OrderLine, row.order_line_id, "order line")
    paid = asked.paid_back or 0
    money = show(paid, order.currency)
    why = f"return {row.number}: {silence} in time, the store paid {money} back"
    booked = delivery_exceptions.paid_back_by_store(context, line, paid, why)
    more = "" if booked else "; the line was settled before, so look at it in the store"
    if row.claim_id is not None:
        claim = context.get(Claim, row.claim_id, "claim")
        if claim.buyer not in ("refund", "again"):
            claim.buyer, claim.buyer_at, claim.buyer_amount = "refund", context.now, (claim.buyer_amount or 0) + paid
            claim.version += 1
        cases.note(context, claim, "buyer", f"return {row.number}: {silence} in time, so the store paid {money} back by itself")
    told = f"order {order.number}: the store paid {money} back, since {silence} in time, return {row.number}{more}"
    context.log("return.lapsed", order.number, told)


def waiting(context: Context) -> list[tuple[ReturnRequest, Order, OrderLine]]:
    """Returns that wait for an answer of ours, those of the nearest deadline first."""
    query = (
        select(ReturnRequest, Order, OrderLine)
        .join(Order, Order.id == ReturnRequest.order_id)
        .join(OrderLine, OrderLine.id == ReturnRequest.order_line_id)
        .where(ReturnRequest.state == ReturnRequestState.asked)
        .order_by(ReturnRequest.answer_by, ReturnRequest.id)
    )
    scope = context.scope
    if scope.stores:
        query = query.where(ReturnRequest.store_id.in_(scope.stores))
    rows = context.session.execute(query).tuples().all()
    return [] if scope.suppliers or scope.categories else list(rows)


def own(context: Context, number: int) -> ReturnRequest:
    """A return of whoever acts; NotFound where they do not work for it."""
    row, scope = context.get(ReturnRequest, number, "return"), context.scope
    if scope.suppliers or scope.categories or (scope.stores and row.store_id not in scope.stores):
        raise NotFound(f"there is no return {number} among those that you work for")
    return row


def of_claim(context: Context, claim: int) -> ReturnRequest | None:
    """The return that a claim began with, while it waits for an answer."""
    return context.session.scalar(
        select(ReturnRequest).where(ReturnRequest.claim_id == claim, ReturnRequest.state == ReturnRequestState.asked).limit(1)
    )


def began_with(context: Context, claim: int) -> bool:
    """Whether a claim began with a return that its buyer asked for in the store."""
    return context.session.scalar(select(ReturnRequest.id).where(ReturnRequest.claim_id == claim).limit(1)) is not None


def open_case(context: Context, number: int) -> Claim:
    """Open a case with what the buyer said; the store is answered by what is done in it. Undone with the case."""
    row = own(context, number)
    if row.state != ReturnRequestState.asked or row.claim_id is not None:
        raise Conflict("this return has a case, or is answered already")
    already = cases.open_for(context, row.order_line_id)
    if already is not None:
        claim = context.get(Claim, already, "claim")
    else:
        claim = cases.open_claim(context, cases.Start(row.order_line_id, ClaimReason(row.reason), row.units, words=row.words))
    row.claim_id = claim.id
    row.version += 1
    cases.note(context, claim, "wrote", f"return {row.number} asked for in the store: {WORDS[ClaimReason(row.reason)]}")
    return claim


def accepted(context: Context, row: ReturnRequest, our_number: str, address: str) -> None:
    """It may come back, under a number of ours."""
    _answer(context, row, "accept", ReturnAnswerPayload(
        number=row.number, order=_order(context, row).number, state="accepted", our_number=our_number, address=address,
    ))  # fmt: skip


def keep(context: Context, row: ReturnRequest) -> None:
    """The buyer keeps it: they were paid back, wholly or a part, or get another."""
    _answer(context, row, "keep", ReturnAnswerPayload(number=row.number, order=_order(context, row).number, state="kept"))


def refuse(context: Context, number: int, version: int | None, reason: str) -> ReturnRequest:
    """Refused, with a reason that the buyer reads. Cannot be undone."""
    own(context, number)
    row, reason = context.get_version(ReturnRequest, number, version, "return"), " ".join(reason.split())
    if not reason:
        raise Invalid("say why, the buyer reads it", {"reason": "is empty"})
    payload = ReturnAnswerPayload(number=row.number, order=_order(context, row).number, state="refused", reason=reason[:500])
    _answer(context, row, "refuse", payload, reason)
    return row


def _order(context: Context, row: ReturnRequest) -> Order:
    return context.get(Order, row.order_id, "order")


def _answer(context: Context, row: ReturnRequest, move: str, payload: ReturnAnswerPayload, reason: str = "") -> None:
    if row.state not in RETURN_REQUEST.sources(move):
        raise Conflict(f"return {row.number} is {row.state} already")
    row.state, row.answered_at = RETURN_REQUEST.step(row.state, move), context.now
    row.version += 1
    queue.put(context, f"store:{row.store_id}", f"return-request:{row.id}", f"return-{row.store_id}-{row.number}", payload)
    context.log(f"return.{move}", _order(context, row).number, payload.summary, reason=reason)
    context.session.flush()


def answer_by_way(context: Context, claim: Claim) -> None:
    """What was done for the buyer without anything coming back answers their return as well."""
    row = of_claim(context, claim.id)
    if row is not None and claim.buyer in ("refund", "part", "again"):
        keep(context, row)
