"""Many lanes changed as one act, which is undone as one; items refused for a SKU; a supplier's lanes moved to another."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import Any

from sqlalchemy import select

from ...core.writing import grouped
from ...data.base import to_ms
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, Rejection
from ...data.outbox import AuditEntry
from ...data.shelf import Sku
from ...data.source import Item
from ..base import portions, undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..pricing import rollback
from . import lane_states, lanes
from .lanes import LaneRequest, open_requested, read_ms, usual_costs, without_any

STATES = ("shut", "open", "slow")


def in_one(
    context: Context,
    kind: str,
    skus: Collection[int],
    tell: Callable[[int], str],
    wishes: Sequence[LaneRequest] = (),
    change: Callable[[], None] | None = None,
    reason: str = "",
) -> AuditEntry:
    """Open lanes and change others of some SKUs, log it as one act or a portion of one, and look at listings and orders once.

    tell: the words for so many SKUs.
    """
    before = standing(context, skus)
    if change is not None:
        change()
        context.session.flush()
    for wish in wishes:
        open_requested(context, wish, by_itself=False)
    context.session.flush()
    after = places(context, skus)
    act = context.log_part(kind, "lanes", tell, {"places": after}, max(len(skus), 1), {"lanes": before}, reason)
    context.reprice(skus, act=act.id)
    context.reroute()
    return act


def open_lanes(context: Context, skus: Collection[int]) -> list[Lane]:
    found: list[Lane] = []
    for chunk in in_chunks(skus):
        query = select(Lane).where(Lane.sku_id.in_(chunk), Lane.closed_at.is_(None))
        found += context.session.scalars(query.order_by(Lane.sku_id, Lane.priority, Lane.id)).all()
    return found


def standing(context: Context, skus: Collection[int]) -> dict[str, list[list[Any]]]:
    """How the lanes of SKUs stand, so that it can be put back: by SKU id, use, state, reason, version."""
    out: dict[str, list[list[Any]]] = {str(sku): [] for sku in skus}
    for lane in open_lanes(context, skus):
        out[str(lane.sku_id)].append(
            [lane.id, lane.priority, lane.state, lane.reason, None if lane.closed_at is None else to_ms(lane.closed_at), lane.cause]
        )
    return out


def places(context: Context, skus: Collection[int]) -> dict[str, list[Any]]:
    """Lanes in force with their place and state, by which an undoing sees whether they were changed since.

    Not by their versions: what was done since and undone again leaves these as they were.
    """
    return {str(lane.id): [lane.priority, lane.state] for lane in open_lanes(context, skus)}


def put_back(context: Context, act: AuditEntry) -> None:
    """Undo an act on many lanes. Conflict when one of them was changed since; then nothing is."""
    before: dict[str, list[list[Any]]] = (act.before or {})["lanes"]
    then: dict[str, list[Any]] = (act.after or {})["places"]
    skus = [int(sku) for sku in before]
    stand = {str(lane.id): lane for lane in open_lanes(context, skus)}
    if (now := places(context, skus)) != then:
        changed = {stand[n].sku_id for n in stand if then.get(n) != now[n]}
        code = next((row.code for row in by_id(context.session, Sku, changed or skus[:1]).values()), "")
        raise Conflict(f"lanes of it were changed since, those of {code} first; put them back one by one")
    was = by_id(context.session, Lane, (row[0] for rows in before.values() for row in rows))
    # Out of the way first, since no two lanes may hold one place even for a moment.
    for lane in stand.values():
        lane.priority += 1000
    context.session.flush()
    for lane in stand.values():
        if lane.id not in was:
            lane.closed_at, lane.priority = context.now, lane.priority - 1000
            lane.version += 1
    context.session.flush()
    for rows in before.values():
        # What was written down before causes were known has none.
        for number, use, state, reason, until, *cause in rows:
            lane = was[number]
            lane.priority, lane.closed_at = use, read_ms(until)
            lane_states.put_back(lane, state, reason, *(cause or [""]))
    context.session.flush()
    context.reprice(skus)
    rollback.as_before(context, act.id, without_any(context, skus))
    context.reroute()


def change_many(context: Context, ids: Collection[int], what: str, reason: str = "") -> int:
    """Shut, open or close lanes, or make them the main ones of their SKUs; very many in portions that follow. Returns how many change."""
    if len(ids) <= portions.AT_ONCE:
        return _change_many(context, {"what": what, "reason": reason}, ids)
    parts = by_sku(context, ids)
    n = sum(map(len, parts))
    if what not in (*NAMES,):
        raise Invalid(f"lanes cannot be changed to {what!r}")
    portions.enter(context, "lanes", f"{grouped(n)} lanes {NAMES[what]}", {"what": what, "reason": reason}, parts, n)
    return n


def by_sku(context: Context, ids: Collection[int]) -> list[list[int]]:
    """Lanes in portions; those of one SKU are always together."""
    of: dict[int, list[int]] = {}
    for chunk in in_chunks(ids):
        for number, sku in context.session.execute(
            select(Lane.id, Lane.sku_id).where(Lane.id.in_(chunk), Lane.closed_at.is_(None))
        ).tuples():
            of.setdefault(sku, []).append(number)
    return [[number for sku in part for number in of[sku]] for part in portions.cut(sorted(of))]


NAMES = {"main": "made main", "shut": "shut", "open": "may be used again", "slow": "set to slow", "close": "closed"}


@portions.work("lanes")
def _change_many(context: Context, body: dict[str, Any], ids: Collection[int]) -> int:
    what, reason = body["what"], body["reason"]
    lanes = [lane for lane in by_id(context.session, Lane, ids).values() if lane.closed_at is None]
    if what == "main":
        lanes = _to_the_front(context, lanes)
    elif what in STATES:
        lanes = [lane for lane in lanes if lane.state != what and not lane_states.held_by_print(lane)]
    elif what != "close":
        raise Invalid(f"lanes cannot be changed to {what!r}")
    if not lanes:
        raise Conflict("nothing of what is chosen would change by that")
    n = len(lanes)
    done = int(body.get("done", 0)) + n
    body["done"] = done

    def change() -> None:
        for lane in lanes:
            if what in STATES:
                lane_states.say(lane, what, context.actor, reason)
                continue
            lane.version += 1
            if what == "close":
                lane.closed_at = context.now
        if what == "open":
            usual_costs(context, [lane.id for lane in lanes])
        if what in ("main", "close"):
            put_in_order(context, {lane.sku_id for lane in lanes}, {lane.id for lane in lanes} if what == "main" else set())

    message = f"{grouped(done)} lane{'s' if done != 1 else ''} {NAMES[what]}"
    in_one(context, "lane.many", {lane.sku_id for lane in lanes}, lambda _: message, change=change, reason=reason)
    return n


def _to_the_front(context: Context, chosen: Sequence[Lane]) -> list[Lane]:
    """Spares that become main: those that are chosen, and the first spare of each main lane that is chosen alone."""
    spares = [lane for lane in chosen if lane.priority > 0 and not lane.is_substitute]
    taken = {(lane.sku_id, lane.store_id) for lane in spares}
    mains = {(lane.sku_id, lane.store_id) for lane in chosen if lane.priority == 0} - taken
    first = (
        lane
        for lane in open_lanes(context, {sku for sku, _ in mains})
        if lane.priority == 1 and not lane.is_substitute and (lane.sku_id, lane.store_id) in mains
    )
    return [*spares, *first]


def put_in_order(context: Context, skus: Collection[int], first: Collection[int]) -> None:
    """Number the lanes of SKUs anew, some of them first; replacements stay last."""
    context.session.flush()
    groups: dict[tuple[int, int | None], list[Lane]] = {}
    for lane in open_lanes(context, skus):
        groups.setdefault((lane.sku_id, lane.store_id), []).append(lane)
    for rows in groups.values():
        rows.sort(key=lambda lane: (lane.is_substitute, lane.id not in first, lane.priority))
        moved = [(place, lane) for place, lane in enumerate(rows) if lane.priority != place]
        for place, lane in moved:
            lane.priority = 1000 + place
        context.session.flush()
        for place, lane in moved:
            lane.priority = place
            lane.version += 1
    context.session.flush()


def refuse(context: Context, sku_id: int, items: Collection[int]) -> int:
    """A person says that none of these items fills the SKU: they are not offered for it again."""
    sku = context.get(Sku, sku_id, "SKU")
    known = set(context.session.scalars(select(Rejection.item_id).where(Rejection.sku_id == sku_id)))
    fresh = sorted(set(by_id(context.session, Item, items)) - known)
    if not fresh:
        raise Conflict("these were refused already")
    context.session.add_all(Rejection(sku_id=sku_id, item_id=item, at=context.now, by=context.actor) for item in fresh)
    n = len(fresh)
    message = f"{sku.code}: {n} item{'s are' if n != 1 else ' is'} not it, and not offered again"
    context.log("lane.refuse", sku.code, message, after={"sku": sku_id, "items": fresh}, undo=True)
    return n


def take_back_refusal(context: Context, after: dict[str, Any]) -> None:
    """Undo: offer the items again."""
    rows = select(Rejection).where(Rejection.sku_id == after["sku"], Rejection.item_id.in_(after["items"]))
    for row in context.session.scalars(rows):
        context.session.delete(row)


@undoing.undoes("lane.open")
def undo_lane_open(context: Context, act: AuditEntry) -> None:
    lane = context.get(Lane, undoing.after(act)["lane"], "lane")
    lanes.close_lane(context, lane.id, lane.version, "undone")
    rollback.as_before(context, act.id, lanes.without_any(context, [lane.sku_id]))


@undoing.undoes("lane.sure", "lane.many", "lane.move", "lane.sheet")
def undo_lane_sure(context: Context, act: AuditEntry) -> None:
    put_back(context, act)


@undoing.undoes("lane.refuse")
def undo_lane_refuse(context: Context, act: AuditEntry) -> None:
    take_back_refusal(context, undoing.after(act))
