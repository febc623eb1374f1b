"""Open troubles of claims: what its supplier wants to see, refuses, does not answer, or promised and did not pay."""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import quote

from sqlalchemy import select

from ...core.claims import ClaimReason, Way
from ...core.currency import show
from ...core.numbers import half_up
from ...core.states import ClaimState
from ...core.writing import decimals
from ...data.claims import Claim
from ...data.orders import Order, OrderLine
from ...data.returns import GoodsReturn
from ...data.setup import Supplier
from ..base import house_days
from ..base.context import Context
from ..claims import buyer_side, cases, clock, item_rates, return_requests, returns
from ..claims.letters import WORDS
from ..inbound import buyer_letters
from ..pricing.exchange_rates import HomeWorth
from .alert import Alert, AlertKey, AlertStep, Doing, Source, acts

# Of so many claims the cheapest way for the buyer is worked out for Today.
WEIGHED_MOST = 60
_DO = {Way.refund: "Refund the buyer", Way.again: "Send it again", Way.part: "Pay a part back"}


def _about(context: Context, row: Claim) -> tuple[str, str]:
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    return supplier.name, f"order {context.get(Order, row.order_id, 'order').number}, {clock.said(row)}"


def _waiting(context: Context) -> Iterator[Alert]:
    """Claims that wait for us: not asked yet, more is wanted, or refused."""
    worth = HomeWorth(context)
    query = (
        select(Claim)
        .where(Claim.state.in_((ClaimState.open, ClaimState.question, ClaimState.refused)), Claim.closed_at.is_(None))
        .order_by(Claim.id)
    )
    rows = context.session.scalars(query).all()
    best = buyer_side.best_ways(context, [row for row in rows if row.state == ClaimState.open][:WEIGHED_MOST])
    for row in rows:
        who, about = _about(context, row)
        told = {
            "open": (f"Claim for {about}: {who} is not asked yet", "money comes back only to who asks in time"),
            "question": (f"{who} wants to see more for {about}: {row.answer}", "the claim waits for it"),
            "refused": (f"{who} refuses the claim for {about}: {row.answer}", "show more and ask again, or let it go"),
        }[row.state]
        go = f"/transit?show=cases&case={row.id}"
        step = AlertStep(f"Ask {who}", act=True) if row.state == ClaimState.open else AlertStep("See the case", go=go)
        other, way = None, best.get(row.id)
        if way is not None and way.way in _DO:
            currency = context.get(Order, row.order_id, "order").currency
            other, step = step, AlertStep(_DO[way.way], act=True)
            likely = f"{show(way.cost, currency)} in all, with what {who} is likely to pay"
            told = (told[0], f"{told[1]}; this is the cheapest way for the buyer: {likely}")
        since = row.answered_at or row.opened_at
        at_risk = worth.of(row.amount or row.paid, row.currency)
        # Its key names the way, so that no other is done than the one that was seen.
        key = AlertKey("claim", row.id, row.state, *([way.way.value] if way and way.way in _DO else []))
        yield Alert(key, "transit", "Claim", *told, since, step, at_risk, other=other)


@acts("claim")
def _take(do: Doing) -> str | None:
    number, way = int(do.alert.key.about[0]), do.alert.key.about[2:]
    if way and not do.other:
        buyer_side.do(do.context, number, None, Way(way[0]))
        return None
    cases.ask(do.context, number, None)
    return None


def _buyers(context: Context) -> Iterator[Alert]:
    """Buyers who wrote about an order."""
    worth = HomeWorth(context)
    for row, order in buyer_letters.to_read(context):
        paid = sum(context.session.scalars(select(OrderLine.total).where(OrderLine.order_id == order.id)))
        doubt = "" if row.is_buyers else "; it is not the address that they ordered with"
        yield Alert(
            AlertKey("buyer_letter", row.id),
            "transit",
            "Buyer",
            f"{order.buyer} writes about order {order.number}: {row.subject or 'no subject'}",
            f"{row.body[:600]}{doubt}",
            row.at,
            AlertStep("Read it", go=f"/transit?show=cases&mail={row.id}"),
            worth.of(paid, order.currency),
        )


def _asked_back(context: Context) -> Iterator[Alert]:
    """Returns that buyers asked for in their store, and nobody has answered."""
    worth = HomeWorth(context)
    for row, order, line in return_requests.waiting(context):
        until = f"unanswered, the store decides on {house_days.moment_text(context, row.answer_by)}" if row.answer_by else "the store waits"
        go = f"/transit?show=cases&case={row.claim_id}" if row.claim_id else f"/transit?show=cases&asked={row.id}"
        yield Alert(
            AlertKey("return_asked", row.id),
            "transit",
            "Return",
            f"{order.buyer} wants to send back {row.units} × {line.title or line.sku_code} of order {order.number}: "
            f"{WORDS[ClaimReason(row.reason)]}",
            until,
            row.asked_at,
            AlertStep("Answer it", go=go),
            worth.of(half_up(line.total * row.units, line.quantity), order.currency),
        )


def _come_back(context: Context) -> Iterator[Alert]:
    """Returns that have arrived and nobody looked at, and those that should be here."""
    worth = HomeWorth(context)
    for one in returns.waiting(context):
        row = one.row
        claim, order = context.get(Claim, row.claim_id, "claim"), context.get(Order, row.order_id, "order")
        where = context.get(Supplier, row.supplier_id, "supplier").name if row.supplier_id else "us"
        told = (
            f"Return {row.number} of order {order.number} is at {where}: nobody has said how it came"
            if not one.late
            else f"Return {row.number} of order {order.number} was to be at {where} by now"
        )
        yield Alert(
            AlertKey("return_waits", row.id, row.state),
            "transit",
            "Return",
            told,
            "ask the buyer, or end it" if one.late else _after(context, row),
            row.arrived_at or row.sent_at or row.opened_at,
            AlertStep("See the case", go=f"/transit?show=cases&case={claim.id}"),
            worth.of(claim.paid, claim.currency),
        )


def _after(context: Context, row: GoodsReturn) -> str:
    return "into stock again, or written off" if returns.is_ours(context, row) else "ask them how it came, and note it"


def _reminded(row: Claim) -> str:
    times = {1: "once", 2: "twice"}.get(row.reminded, f"{row.reminded} times")
    return f"though reminded {times}" if row.reminded else "though asked"


def _overdue(context: Context) -> Iterator[Alert]:
    """Claims whose supplier was reminded twice and says nothing, and money that was promised and has not come."""
    worth = HomeWorth(context)
    for row in clock.overdue(context):
        who, about = _about(context, row)
        amount = row.offered if row.offered is not None else row.amount
        told = (
            f"{who} promised {show(amount, row.currency)} for {about}, and it has not come"
            if row.state == ClaimState.accepted
            else f"{who} does not answer the claim for {about}, {_reminded(row)}"
        )
        yield Alert(
            AlertKey("claim_silent", row.id),
            "transit",
            "Claim",
            told,
            "call them, or let it go",
            row.asked_at or row.opened_at,
            AlertStep("See the case", go=f"/transit?show=cases&case={row.id}"),
            worth.of(amount or row.paid, row.currency),
        )


def _worse(context: Context) -> Iterator[Alert]:
    """Items of which surely more come broken or wrong than of others of their kind."""
    for one in item_rates.worse(context):
        kind = f"of {one.item.category}" if one.item.category else "of others"
        n = len(one.lanes)
        bare, share = n - one.spared, decimals(100 * one.usual, 1) + " %"
        spares = f"{bare} of their SKUs have no other lane, and show nothing then" if bare else "their spares take over"
        yield Alert(
            AlertKey("worse_item", one.item.id, one.bad, one.count),
            "lanes",
            "Broken",
            f"{one.bad} of {one.count} {one.item.title} ({one.supplier.name}) came broken or wrong; usual {kind} is {share}",
            f"claims of the last {item_rates.WINDOW} days, hardly by chance; where its lanes are shut, {spares}",
            one.since,
            AlertStep(f"Shut {'its lane' if n == 1 else f'its {n} lanes'}", act=True),
            one.a_day,
            True,
            "loss",
            other=AlertStep("See its lanes", go=f"/lanes?view=settled&words={quote(one.item.number)}"),
        )


@acts("worse_item")
def _shut(do: Doing) -> str:
    return item_rates.shut(do.context, int(do.alert.key.about[0]))


SOURCES: dict[str, Source] = {"claim": _waiting, "claim_silent": _overdue, "buyer_letter": _buyers, "worse_item": _worse}
SOURCES |= {"return_asked": _asked_back, "return_waits": _come_back}
