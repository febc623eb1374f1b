"""Every kind of act that can be taken back, and how. What has no line here cannot be undone."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import func, select, update

from ...core.states import NotAllowed
from ...data.lanes import Lane
from ...data.orders import Order
from ...data.outbox import Act, ActPart, Snooze
from ...data.shelf import Listing
from ..base import portions, regional
from ..base.context import Desk
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


def _lane_open(desk: Desk, act: Act) -> None:
    lane = desk.get(Lane, _after(act)["lane"], "lane")
    lanes.close_lane(desk, lane.id, lane.version, "undone")
    rollback.as_before(desk, act.id, lanes.without_any(desk, [lane.sku_id]))


def _hand_price(desk: Desk, act: Act) -> None:
    listing = desk.get(Listing, _after(act)["listing"], "listing")
    was = _before(act)
    manual_price.fix_price(desk, listing.id, listing.version, was["hand_price"], "undone")
    if was["hand_price"] is None and listing.wanted_price != was["price"] and listing.state in ("live", "paused"):
        listing_changes.want(desk, listing, price=was["price"])


def _words(desk: Desk, act: Act) -> None:
    was = _before(act)
    publishing.edit(desk, was["listing"], None, was["words"])


def _on_sale(desk: Desk, act: Act) -> None:
    on_sale.set_on_sale(desk, _after(act)["listings"], act.kind == "listing.pause", undoes=act.id)


def _allow(desk: Desk, act: Act) -> None:
    order = desk.get(Order, _after(act)["order"], "order")
    order.allowed = [one for one in order.allowed if one != _after(act).get("limit", one)]
    desk.reroute()


def _wait(desk: Desk, act: Act) -> None:
    purchase_orders.wait(desk, _after(act)["orders"], not _after(act)["by_hand"])


def _account(desk: Desk, act: Act) -> None:
    buying_accounts.restore(desk, _after(act).get("account"), act.before)


def _snooze(desk: Desk, act: Act) -> None:
    row = desk.s.scalar(select(Snooze).where(Snooze.trouble == _after(act)["trouble"]))
    if row:
        desk.s.delete(row)


def _allowance(desk: Desk, act: Act) -> None:
    # What it took off sale comes back at once, not when it was seen steady for a while.
    rollback.as_before(desk, act.id)
    allowance.restore(desk, _before(act))


def _rename(desk: Desk, act: Act) -> None:
    was = _before(act)
    life_cycle.rename(desk, was["owner"], was["id"], None, was["name"])


def _pause(desk: Desk, act: Act) -> None:
    did = _after(act)
    life_cycle.set_paused(desk, did["owner"], did["id"], None, not did["paused"])


def _before(act: Act) -> dict[str, Any]:
    return act.before or {}


def _after(act: Act) -> dict[str, Any]:
    return act.after or {}


UNDO: dict[str, Callable[[Desk, Act], Any]] = {
    "partner.rename": _rename,
    "partner.pause": _pause,
    "partner.end": life_cycle.resume_after_end,
    "supplier.end": life_cycle.resume_after_end,
    "carrier.name": lambda desk, act: carrier_names.restore(desk, _before(act)),
    "watch.respond": lambda desk, act: rollback.undo_responses(desk, sweep=_after(act)["sweep"]),
    "response.settle": what_if.unsettle,
    "order.wait": _wait,
    "purchase.bill": lambda desk, act: cancellations.leave_bill(desk, _after(act)["purchase"]),
    "batch.collect": lambda desk, act: payment_batches.take_apart(desk, _after(act)["batch"]),
    "batch.paid": lambda desk, act: payment_batches.unpay(desk, _after(act)["purchases"]),
    "letter.read": lambda desk, act: mailbox.unsettle(desk, _after(act)["letter"]),
    **{f"sheet.{what}": lambda desk, act: sheet_export.take_back(desk, _after(act)["sheet"]) for what in sheet_export.WHATS},
    "keeping.set": lambda desk, act: retention.restore(desk, _before(act)),
    "place.set": lambda desk, act: regional.restore(desk, _before(act)),
    "ordering.change": lambda desk, act: order_settings.restore(desk, _before(act)),
    "template.change": lambda desk, act: buyer_notifications.restore_template(desk, _after(act)["template"], act.before),
    "order.settled": lambda desk, act: cancellations.unsettle(desk, _before(act)),
    "account.keep": _account,
    "account.remove": _account,
    "lane.open": _lane_open,
    "lane.close": lambda desk, act: lanes.reopen_lane(desk, _before(act)["lane"], _before(act)["use"]),
    "lane.sure": bulk_changes.put_back,
    "lane.many": bulk_changes.put_back,
    "lane.move": bulk_changes.put_back,
    "lane.sheet": bulk_changes.put_back,
    "lane.fault": lambda desk, act: audit.bring_back(desk, _after(act)),
    "lane.refuse": lambda desk, act: bulk_changes.take_back_refusal(desk, _after(act)),
    "lane.change": lambda desk, act: lane_terms.restore_lane(desk, _before(act)),
    "rule.change": what_if.restore,
    "policy.change": what_if.restore,
    "fees.change": what_if.restore,
    "terms.change": what_if.restore,
    "rate.change": what_if.restore,
    "looks.change": lambda desk, act: polling_plan.restore(desk, _before(act)),
    "origins.change": lambda desk, act: partner_terms.restore_origins(desk, _before(act)),
    "price.hand": _hand_price,
    "listing.sheet": goods_sheets.take_listings_back,
    "price.sheet": price_sheets.take_back,
    "listing.pause": _on_sale,
    "listing.resume": _on_sale,
    "listing.publish": lambda desk, act: publishing.unpublish(desk, _after(act)),
    "listing.copy": lambda desk, act: preparation.take_back(desk, _after(act)),
    "listing.end": lambda desk, act: publishing.unend(desk, _after(act)),
    "listing.words": _words,
    "phrase.add": lambda desk, act: content_rule_changes.undo_rule(desk, _before(act)),
    "allowance.apply": _allowance,
    "allowance.set": lambda desk, act: allowance.restore_limits(desk, _before(act)),
    "family.keep": lambda desk, act: variant_commands.take_back(desk, act, UNDO),
    "listing.prepare": lambda desk, act: preparation.take_back(desk, _after(act)),
    "sample.order": lambda desk, act: samples.take_back(desk, _after(act)),
    "order.allow": _allow,
    "order.allow_many": lambda desk, act: orders.disallow_many(desk, _after(act)),
    "order.part": lambda desk, act: order_lines.restore_part(desk, _before(act)),
    "order.pack": lambda desk, act: next_steps.unpack(desk, _after(act)),
    "transit.dropped": lambda desk, act: parcel_tracking.bring_back_wrong(desk, _before(act)),
    "order.lane": lambda desk, act: orders.choose_lane(desk, _before(act)["line"], _before(act)["lane"]),
    "order.send": lambda desk, act: purchase_orders.take_back(desk, _after(act)["references"]),
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


def undo(desk: Desk, number: int) -> Act:
    """Take an act back; one of very many portions in portions too. Conflict says why it cannot be, and then nothing was changed."""
    act = desk.get(Act, number, "act")
    if act.undo != "open":
        raise Conflict("it has been undone already" if act.undo == "done" else "this cannot be undone")
    later = select(Act.told).where(Act.kind == act.kind, Act.on == act.on, Act.id > act.id, Act.undo == "open").order_by(Act.id)
    if act.kind in PUTS_BACK and (told := desk.s.scalar(later.limit(1))):
        raise Conflict(f"a newer change stands on top of it ({told}); undo that one first")
    for job in portions.of_act(desk, act.id):
        portions.leave(desk, job)
    # The newest portion first; the act itself holds the oldest.
    parts = [*desk.s.scalars(select(ActPart.id).where(ActPart.act_id == act.id).order_by(ActPart.id.desc())), 0]
    if act.count <= portions.AT_ONCE or len(parts) == 1:
        for part in parts:
            _take_back(desk, act, part)
    else:
        portions.enter(desk, "undo", f"Taking back: {act.told}", {"undoes": act.id}, parts, len(parts), stops=False)
    act.undo = "done"
    desk.log("undo", act.on, f"undone: {act.told}")
    return act


def _take_back(desk: Desk, act: Act, part: int) -> None:
    """One portion of an act; 0 = what the act itself holds."""
    newest = desk.s.scalar(select(func.max(Act.id)))
    mine = act
    if part:
        one = desk.get(ActPart, part, "part of an act")
        mine = Act(id=act.id, at=act.at, kind=act.kind, on=act.on, told=act.told, before=one.before, after=one.after)
    try:
        UNDO[act.kind](desk, mine)
    except NotAllowed as error:
        raise Conflict(f"it cannot be undone any more: {error}") from error
    # What the taking back wrote down is not itself a thing to take back: the next undo goes one further into the past.
    desk.s.execute(update(Act).where(Act.id > newest).values(undo=""))


@portions.work("undo")
def _undo_portion(desk: Desk, body: dict[str, Any], part: int) -> int:
    _take_back(desk, desk.get(Act, body["undoes"], "act"), part)
    return 1


@portions.finish("undo")
def _undone(desk: Desk, body: dict[str, Any], done: int, failed: int) -> str:
    act = desk.get(Act, body["undoes"], "act")
    if not failed:
        return f"taken back: {act.told}"
    told = f"{failed} of {done + failed} portions of it could not be taken back, since they were changed meanwhile"
    desk.log("undo.partly", act.on, f"{act.told}: {told}")
    return told


def last_undoable(desk: Desk) -> Act | None:
    """The newest act of the person at this desk that can still be taken back. What the program or others did is undone where it stands."""
    mine = Act.person_id == desk.person if desk.person is not None else Act.who == desk.who
    return desk.s.scalar(select(Act).where(mine, Act.undo == "open").order_by(Act.id.desc()).limit(1))
