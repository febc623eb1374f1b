"""What follows here when the outside has a change: the listing shows it, the purchase has an answer, the buyer was told."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import update

from ...core.money import parse_money
from ...data.base import to_ms
from ...data.bulk import bulk_update
from ...data.outbox import Outbox
from ...data.shelf import Listing
from ...data.transit import Message, PassedOn
from ..base.context import Context
from ..orders import cancellations
from ..purchasing import purchase_orders
from ..sourcing import samples


def follow(context: Context, done: Sequence[tuple[Outbox, Any]]) -> None:
    """Changes that the outside has confirmed, each with its answer."""
    shown(context, [row.body for row, _ in done if row.kind == "listing"])
    said = [("", None, 0, row.body["listing"]) for row, _ in done if row.kind == "listing" and row.body.get("words")]
    bulk_update(context.session, Listing, ("message", "theirs", "words_due"), said)
    for row, answer in done:
        if row.kind == "purchase":
            purchase_orders.take_answer(context, answer, corrects=True)
        elif row.kind == "recall":
            cancellations.take_recall(context, answer)
        elif row.kind == "sample":
            samples.take_answer(context, answer)
        elif row.kind == "fulfilment":
            context.session.execute(
                update(PassedOn)
                .where(PassedOn.parcel_id == row.body["parcel"], PassedOn.order_id == row.body["order_id"])
                .values(confirmed_at=context.now)
            )
        elif row.kind == "mail" and row.body["message"] is not None:
            context.session.execute(update(Message).where(Message.id == row.body["message"]).values(state="sent"))


def shown(context: Context, bodies: Sequence[dict[str, Any]]) -> None:
    """What stores show now after these changes, of the parts that each of them changed."""
    at = to_ms(context.now)
    prices = [(parse_money(one["price"], one["currency"]), at, one["listing"]) for one in bodies if "price" in one]
    bulk_update(context.session, Listing, ("shown_price", "shown_at"), prices)
    stock = [(one["quantity"], one["state"], at, one["listing"]) for one in bodies if "state" in one]
    bulk_update(context.session, Listing, ("shown_quantity", "shown_state", "shown_at"), stock)


def failed(context: Context, dead: Sequence[tuple[Outbox, str]]) -> None:
    """Changes that the outside refused: a listing that was being published remembers why."""
    said = [(message[:500], row.body["listing"]) for row, message in dead if row.kind == "listing" and row.body.get("words")]
    bulk_update(context.session, Listing, ("message",), said)
    for row, message in dead:
        if row.kind == "recall":
            cancellations.kept(context, row.body["reference"], message)
