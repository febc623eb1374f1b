"""Every kind of act that can be taken back, and how. What has no line here cannot be undone."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import func, select, update

from ...core.states import NotAllowed
from ...data.lanes import Lane
from ...data.orders import Order
from ...data.outbox import AuditEntry, AuditEntryPart, Snooze
from ...data.shelf import Listing
from ..base import portions, regional
from ..base.context import Context
from ..base.errors import Conflict
from ..delivery import sheet_export
from ..fulfilment import buyer_notifications, carrier_names, parcel_tracking
from ..imports import goods_sheets, price_sheets
from ..inbound import mailbox
from ..listings import allowance, content_rule_changes, on_sale, preparation, publishing, variant_commands
from ..mapping import audit, bulk_changes, lane_terms, lanes
from ..monitoring import polling_plan
from ..orders import cancellations, order_lines, orders
from ..outbox import listing_changes
from ..partners import life_cycle, partner_terms
from ..pricing import manual_price, rollback, what_if
from ..purchasing import buying_accounts, next_steps, order_settings, payment_batches, purchase_orders
from ..sourcing import samples
from . import retention


def _lane_open(context: Context, act: AuditEntry) -> None:
    lane = context.get(Lane, _after(act)["lane"], "lane")
    lanes.close_lane(context, lane.id, lane.version, "undone")
    rollback.as_before(context, act.id, lanes.without_any(context, [lane.sku_id]))


def _hand_price(context: Context, act: AuditEntry) -> None:
    listing = context.get(Listing, _after(act)["listing"], "listing")
    was = _before(act)
    manual_price.fix_price(context, listing.id, listing.version, was["hand_price"], "undone")
    if was["hand_price"] is None and listing.wanted_price != was["price"] and listing.state in ("live", "paused"):
        listing_changes.want(context, listing, price=was["price"])


def _words(context: Context, act: AuditEntry) -> None:
    was = _before(act)
    publishing.edit(context, was["listing"], None, was["words"])


def _on_sale(context: Context, act: AuditEntry) -> None:
    on_sale.set_on_sale(context, _after(act)["listings"], act.kind == "listing.pause", undoes=act.id)


def _allow(context: Context, act: AuditEntry) -> None:
    order = context.get(Order, _after(act)["order"], "order")
    order.allowed = [one for one in order.allowed if one != _after(act).get("limit", one)]
    context.reroute()


def _wait(context: Context, act: AuditEntry) -> None:
    purchase_orders.wait(context, _after(act)["orders"], not _after(act)["by_hand"])


def _account(context: Context, act: AuditEntry) -> None:
    buying_accounts.restore(context, _after(act).get("account"), act.before)


def _snooze(context: Context, act: AuditEntry) -> None:
    row = context.session.scalar(select(Snooze).where(Snooze.alert == _after(act)["trouble"]))
    if row:
        context.session.delete(row)


def _allowance(context: Context, act: AuditEntry) -> None:
    # What it took off sale comes back at once, not when it was seen steady for a while.
    rollback.as_before(context, act.id)
    allowance.restore(context, _before(act))


def _rename(context: Context, act: AuditEntry) -> None:
    was = _before(act)
    life_cycle.rename(context, was["owner"], was["id"], None, was["name"])


def _pause(context: Context, act: AuditEntry) -> None:
    did = _after(act)
    life_cycle.set_paused(context, did["owner"], did["id"], None, not did["paused"])


def _before(act: AuditEntry) -> dict[str, Any]:
    return act.before or {}


def _after(act: AuditEntry) -> dict[str, Any]:
    return act.after or {}


UNDO: dict[str, Callable[[Context, AuditEntry], Any]] = {
    "partner.rename": _rename,
    "partner.pause": _pause,
    "partner.end": life_cycle.resume_after_end,
    "supplier.end": life_cycle.resume_after_end,
    "carrier.name": lambda context, act: carrier_names.restore(context, _before(act)),
    "watch.respond": lambda context, act: rollback.undo_responses(context, sweep=_after(act)["sweep"]),
    "response.settle": what_if.unsettle,
    "order.wait": _wait,
    "purchase.bill": lambda context, act: cancellations.leave_bill(context, _after(act)["purchase"]),
    "batch.collect": lambda context, act: payment_batches.take_apart(context, _after(act)["batch"]),
    "batch.paid": lambda context, act: payment_batches.unpay(context, _after(act)["purchases"]),
    "letter.read": lambda context, act: mailbox.unsettle(context, _after(act)["letter"]),
    **{f"sheet.{what}": lambda context, act: sheet_export.take_back(context, _after(act)["sheet"]) for what in sheet_export.WHATS},
    "keeping.set": lambda context, act: retention.restore(context, _before(act)),
    "place.set": lambda context, act: regional.restore(context, _before(act)),
    "ordering.change": lambda context, act: order_settings.restore(context, _before(act)),
    "template.change": lambda context, act: buyer_notifications.restore_template(context, _after(act)["template"], act.before),
    "order.settled": lambda context, act: cancellations.unsettle(context, _before(act)),
    "account.keep": _account,
    "account.remove": _account,
    "lane.open": _lane_open,
    "lane.close": lambda context, act: lanes.reopen_lane(context, _before(act)["lane"], _before(act)["use"]),
    "lane.sure": bulk_changes.put_back,
    "lane.many": bulk_changes.put_back,
    "lane.move": bulk_changes.put_back,
    "lane.sheet": bulk_changes.put_back,
    "lane.fault": lambda context, act: audit.bring_back(context, _after(act)),
    "lane.refuse": lambda context, act: bulk_changes.take_back_refusal(context, _after(act)),
    "lane.change": lambda context, act: lane_terms.restore_lane(context, _before(act)),
    "rule.change": what_if.restore,
    "policy.change": what_if.restore,
    "fees.change": what_if.restore,
    "terms.change": what_if.restore,
    "rate.change": what_if.restore,
    "looks.change": lambda context, act: polling_plan.restore(context, _before(act)),
    "origins.change": lambda context, act: partner_terms.restore_origins(context, _before(act)),
    "price.hand": _hand_price,
    "listing.sheet": goods_sheets.take_listings_back,
    "price.sheet": price_sheets.take_back,
    "listing.pause": _on_sale,
    "listing.resume": _on_sale,
    "listing.publish": lambda context, act: publishing.unpublish(context, _after(act)),
    "listing.copy": lambda context, act: preparation.take_back(context, _after(act)),
    "listing.end": lambda context, act: publishing.unend(context, _after(act)),
    "listing.words": _words,
    "phrase.add": lambda context, act: content_rule_changes.undo_rule(context, _before(act)),
    "allowance.apply": _allowance,
    "allowance.set": lambda context, act: allowance.restore_limits(context, _before(act)),
    "family.keep": lambda context, act: variant_commands.take_back(context, act, UNDO),
    "listing.prepare": lambda context, act: preparation.take_back(context, _after(act)),
    "sample.order": lambda context, act: samples.take_back(context, _after(act)),
    "order.allow": _allow,
    "order.allow_many": lambda context, act: orders.disallow_many(context, _after(act)),
    "order.part": lambda context, act: order_lines.restore_part(context, _before(act)),
    "order.pack": lambda context, act: next_steps.unpack(context, _after(act)),
    "transit.dropped": lambda context, act: parcel_tracking.bring_back_wrong(context, _before(act)),
    "order.lane": lambda context, act: orders.choose_lane(context, _before(act)["line"], _before(act)["lane"]),
    "order.send": lambda context, act: purchase_orders.take_back(context, _after(act)["references"]),
    "snooze": _snooze,
}


# These put back whole what stood before, and so would take a newer change of the same thing with them.
PUTS_BACK = {
    "allowance.set",
    "partner.rename",
    "partner.pause",
    "partner.end",
    "supplier.end",
    "carrier.name",
    "lane.change",
    "rule.change",
    "policy.change",
    "fees.change",
    "terms.change",
    "rate.change",
    "price.hand",
    "price.sheet",
    "looks.change",
    "origins.change",
    "listing.words",
    "family.keep",
    "allowance.apply",
}


def undo(context: Context, number: int) -> AuditEntry:
    """Take an act back; one of very many portions in portions too. Conflict says why it cannot be, and then nothing was changed."""
    act = context.get(AuditEntry, number, "act")
    if act.undo != "open":
        raise Conflict("it has been undone already" if act.undo == "done" else "this cannot be undone")
    later = (
        select(AuditEntry.message)
        .where(AuditEntry.kind == act.kind, AuditEntry.on == act.on, AuditEntry.id > act.id, AuditEntry.undo == "open")
        .order_by(AuditEntry.id)
    )
    if act.kind in PUTS_BACK and (message := context.session.scalar(later.limit(1))):
        raise Conflict(f"a newer change stands on top of it ({message}); undo that one first")
    for job in portions.of_act(context, act.id):
        portions.leave(context, job)
    # The newest portion first; the act itself holds the oldest.
    parts = [
        *context.session.scalars(
            select(AuditEntryPart.id).where(AuditEntryPart.audit_entry_id == act.id).order_by(AuditEntryPart.id.desc())
        ),
        0,
    ]
    if act.count <= portions.AT_ONCE or len(parts) == 1:
        for part in parts:
            _take_back(context, act, part)
    else:
        portions.enter(context, "undo", f"Taking back: {act.message}", {"undoes": act.id}, parts, len(parts), stops=False)
    act.undo = "done"
    context.log("undo", act.on, f"undone: {act.message}")
    return act


def _take_back(context: Context, act: AuditEntry, part: int) -> None:
    """One portion of an act; 0 = what the act itself holds."""
    newest = context.session.scalar(select(func.max(AuditEntry.id)))
    mine = act
    if part:
        one = context.get(AuditEntryPart, part, "part of an act")
        mine = AuditEntry(id=act.id, at=act.at, kind=act.kind, on=act.on, message=act.message, before=one.before, after=one.after)
    try:
        UNDO[act.kind](context, mine)
    except NotAllowed as error:
        raise Conflict(f"it cannot be undone any more: {error}") from error
    # What the taking back wrote down is not itself a thing to take back: the next undo goes one further into the past.
    context.session.execute(update(AuditEntry).where(AuditEntry.id > newest).values(undo=""))


@portions.work("undo")
def _undo_portion(context: Context, body: dict[str, Any], part: int) -> int:
    _take_back(context, context.get(AuditEntry, body["undoes"], "act"), part)
    return 1


@portions.finish("undo")
def _undone(context: Context, body: dict[str, Any], done: int, failed: int) -> str:
    act = context.get(AuditEntry, body["undoes"], "act")
    if not failed:
        return f"taken back: {act.message}"
    message = f"{failed} of {done + failed} portions of it could not be taken back, since they were changed meanwhile"
    context.log("undo.partly", act.on, f"{act.message}: {message}")
    return message


def last_undoable(context: Context) -> AuditEntry | None:
    """The newest act of this person that can still be taken back. What the program or others did is undone where it stands."""
    mine = AuditEntry.person_id == context.person if context.person is not None else AuditEntry.who == context.actor
    return context.session.scalar(select(AuditEntry).where(mine, AuditEntry.undo == "open").order_by(AuditEntry.id.desc()).limit(1))
