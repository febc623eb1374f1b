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
from ..base.context import Desk
from ..orders import cancellations
from ..purchasing import purchase_orders
from ..sourcing import samples


def follow(desk: Desk, done: Sequence[tuple[Outbox, Any]]) -> None:
    """Changes that the outside has confirmed, each with its answer."""
    shown(desk, [row.body for row, _ in done if row.kind == "listing"])
    said = [("", None, 0, row.body["listing"]) for row, _ in done if row.kind == "listing" and row.body.get("words")]
    bulk_update(desk.s, Listing, ("told", "theirs", "words_due"), said)
    for row, answer in done:
        if row.kind == "purchase":
            purchase_orders.take_answer(desk, answer, corrects=True)
        elif row.kind == "recall":
            cancellations.take_recall(desk, answer)
        elif row.kind == "sample":
            samples.take_answer(desk, answer)
        elif row.kind == "fulfilment":
            desk.s.execute(
                update(PassedOn)
                .where(PassedOn.parcel_id == row.body["parcel"], PassedOn.order_id == row.body["order_id"])
                .values(confirmed_at=desk.now)
            )
        elif row.kind == "mail" and row.body["message"] is not None:
            desk.s.execute(update(Message).where(Message.id == row.body["message"]).values(state="sent"))


def shown(desk: Desk, bodies: Sequence[dict[str, Any]]) -> None:
    """What stores show now after these changes, of the parts that each of them changed."""
    at = to_ms(desk.now)
    prices = [(parse_money(one["price"], one["currency"]), at, one["listing"]) for one in bodies if "price" in one]
    bulk_update(desk.s, Listing, ("shown_price", "shown_at"), prices)
    stock = [(one["quantity"], one["state"], at, one["listing"]) for one in bodies if "state" in one]
    bulk_update(desk.s, Listing, ("shown_quantity", "shown_state", "shown_at"), stock)


def failed(desk: Desk, dead: Sequence[tuple[Outbox, str]]) -> None:
    """Changes that the outside refused: a listing that was being published remembers why."""
    said = [(told[:500], row.body["listing"]) for row, told in dead if row.kind == "listing" and row.body.get("words")]
    bulk_update(desk.s, Listing, ("told",), said)
    for row, told in dead:
        if row.kind == "recall":
            cancellations.kept(desk, row.body["reference"], told)
