"""Lanes that cannot be right: found over all of them, each with the step that mends it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from sqlalchemy import func, select

from ...core.currency import show
from ...core.likeness import LIKE_WITH_ID, Matcher, judge, message
from ...core.numbers import show_units
from ...core.states import LaneState, ListingState
from ...data.base import by_index
from ...data.bulk import bulk_update, by_id, in_chunks, quiet
from ...data.lanes import IS_TO_LOOK_AT, FaultSeen, Lane, LanePart, by_items, service_of
from ...data.outbox import AuditEntry
from ...data.printing import LanePrint
from ...data.setup import Origin, Service, Setting, Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, NotFound
from . import lane_terms, lanes
from .landed_cost import parts_of
from .similarity import row_of_item, row_of_sku
from .validity import COST_ODD

KEPT, MOST, AT_A_TIME = "lane_faults", 500, 5000


@dataclass(frozen=True)
class Fault:
    """One thing that is wrong. act: what mends it, done by `mend` (units, service, close, confirm); '' = a person looks at the SKU."""

    key: str
    kind: str
    message: str
    reason: str
    sku: int
    code: str
    step: str
    act: str = ""
    lane: int = 0
    more: dict[str, Any] = field(default_factory=dict)


def faults(context: Context, fine: list[int] | None = None) -> list[Fault]:
    """All faults that nobody has set aside, in the order of their kinds.

    Of lanes whose words and units were looked at before only those are looked at that were changed since, so many at a time; `fine` is
    told those that nothing speaks against.
    """
    seen = set(context.session.scalars(select(FaultSeen.key)))
    with quiet():
        units = list(_units(context))
        wrong = list(_wrong(context, [] if fine is None else fine, {one.lane for one in units}))
        found = [*wrong, *units, *(one for source in (_kits, _circles, _unsent, _costs) for one in source(context))]
    return [one for one in found if one.key not in seen][:MOST]


def refresh(context: Context) -> list[Fault]:
    """Look for faults and keep what was found, for those who only count them."""
    fine: list[int] = []
    found = faults(context, fine)
    save_faults(context, found)
    keep_fine(context, fine)
    return found


def keep_fine(context: Context, lanes: Sequence[int]) -> None:
    """Lanes that were looked at and are fine."""
    bulk_update(context.session, Lane, ("fits",), [(True, number) for number in lanes])


def save_faults(context: Context, found: Sequence[Fault]) -> None:
    """Remember how many there were, and the first ones."""
    row = context.session.scalar(select(Setting).where(Setting.name == KEPT))
    value = {"count": len(found), "first": [[one.kind, one.message] for one in found[:3]]}
    if row is None:
        context.session.add(Setting(name=KEPT, value=value))
    elif row.value != value:
        row.value = value
    context.session.flush()


def last_faults(context: Context) -> dict[str, Any]:
    row = context.session.scalar(select(Setting).where(Setting.name == KEPT))
    return dict(row.value) if row else {"count": 0, "first": []}


def set_aside(context: Context, key: str) -> None:
    """A person says that it is no fault."""
    one = _find(context, key)
    context.session.add(FaultSeen(key=key, at=context.now, by=context.actor))
    context.log("lane.fault", one.code, f"{one.code}: no fault: {one.message}", after={"key": key}, undo=True)
    refresh(context)


def bring_back(context: Context, after: dict[str, Any]) -> None:
    """Undo of setting aside."""
    for row in context.session.scalars(select(FaultSeen).where(FaultSeen.key == after["key"])):
        context.session.delete(row)
    context.session.flush()
    refresh(context)


def mend(context: Context, key: str) -> Fault:
    """Do the step that mends a fault, if it is still there."""
    one = _find(context, key)
    lane = context.get(Lane, one.lane, "lane") if one.lane else None
    if lane is None or not one.act:
        raise Conflict("this cannot be mended by one step; look at the SKU")
    if one.act == "units":
        lanes.change_lane(context, lane.id, lane.version, units=Fraction(one.more["units"]), reason=one.message)
    elif one.act == "service":
        lane_terms.set_terms(context, lane.id, lane.version, {**(lane.services or {}), **one.more["services"]}, lane.starts, lane.ends)
    elif one.act == "close":
        lanes.close_lane(context, lane.id, lane.version, one.message)
    elif one.act == "confirm":
        lane_terms.confirm_lane(context, lane.id, lane.version)
    refresh(context)
    return one


def _find(context: Context, key: str) -> Fault:
    one = next((one for one in faults(context) if one.key == key), None)
    if one is None:
        raise NotFound("this fault is not there any more")
    return one


def _to_look_at(context: Context, fine: list[int]) -> list[tuple[Lane, LanePart, Item, Sku]]:
    """Lanes that were not looked at since they were changed; `fine` is told those that print, whose blank is called otherwise."""
    query = (
        select(Lane, LanePart, Item, Sku)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .join(Sku, Sku.id == Lane.sku_id)
        .where(IS_TO_LOOK_AT, Lane.is_substitute.is_(False), Lane.state != LaneState.shut, Lane.items == 1)
        .order_by(Lane.id)
        .limit(AT_A_TIME)
    )
    found = context.session.execute(by_index(query, Lane, "ix_lane_fits")).tuples().all()
    printed = set(context.session.scalars(select(LanePrint.lane_id).where(LanePrint.lane_id.in_([row[0].id for row in found]))))
    fine += sorted(printed)
    return [row for row in found if row[0].id not in printed]


def _wrong(context: Context, fine: list[int], told: set[int]) -> Iterator[Fault]:
    """Lanes whose item the likeness would refuse now, or whose units it reads otherwise, with the judgement that opens lanes.

    Where a person opened or confirmed a lane, only what surely speaks against it is told. told: lanes whose units are known to be odd.
    """
    rows = _to_look_at(context, fine)
    if not rows:
        return
    items, skus = {row[2].id: row[2] for row in rows}, {row[3].id: row[3] for row in rows}
    matcher = Matcher([row_of_item(item) for item in items.values()], [row_of_sku(sku) for sku in skus.values()])
    matcher.learn()
    theirs, ours = dict(zip(items, matcher.theirs, strict=True)), dict(zip(skus, matcher.ours, strict=True))
    for lane, part, item, sku in rows:
        if lane.id in told:
            continue
        one = judge(ours[sku.id], theirs[item.id], matcher.corpus)
        has, reads = Fraction(part.units_num, part.units_den), Fraction(ours[sku.id].pack, theirs[item.id].pack)
        against = "; ".join(message(one.evidence)[1][:2])
        alone = bool((lane.match_evidence or {}).get("alone"))
        if (one.veto and not one.same_id) or (alone and (one.veto or one.other_code or one.likeness < LIKE_WITH_ID)):
            yield Fault(
                f"wrong:{lane.id}:{item.id}",
                "wrong",
                f"{sku.code}, {sku.title}, is filled by {item.number}, {item.title}",
                f"they do not look like the same thing: {against}",
                sku.id,
                sku.code,
                "Close the lane",
                "close",
                lane.id,
            )
        elif has != reads and one.likeness >= 0.5 and (alone or reads != 1):
            wanted = show_units(reads.numerator, reads.denominator)
            packs = f"one {sku.code} is {ours[sku.id].pack}, and {item.number} comes in {theirs[item.id].pack}"
            yield Fault(
                f"units:{lane.id}:{has}",
                "units",
                f"{sku.code} takes {show_units(part.units_num, part.units_den)} of {item.number}",
                f"by their titles {packs}",
                sku.id,
                sku.code,
                f"Set it to {wanted}",
                "units",
                lane.id,
                {"units": str(reads)},
            )
        else:
            fine.append(lane.id)


def _units(context: Context) -> Iterator[Fault]:
    """SKUs that take different units of one item, where their titles do not say why."""
    live = Lane.closed_at.is_(None) & Lane.is_substitute.is_(False)
    share = LanePart.units_num * 1000 // LanePart.units_den
    mixed = (
        select(LanePart.item_id)
        .join(Lane, Lane.id == LanePart.lane_id)
        .where(live)
        .group_by(LanePart.item_id)
        .having(func.count(func.distinct(Lane.sku_id)) > 1, func.min(share) != func.max(share))
    )
    several = select(LanePart.lane_id).group_by(LanePart.lane_id).having(func.count() > 1)
    rows = context.session.execute(
        select(Lane, LanePart, Item, Sku)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .join(Sku, Sku.id == Lane.sku_id)
        .where(live, LanePart.item_id.in_(mixed), Lane.id.not_in(several))
        .order_by(Item.id, Sku.code)
        .limit(4 * MOST)
    ).all()
    by_item: dict[int, list[Any]] = {}
    for row in rows:
        by_item.setdefault(row[2].id, []).append(row)
    for mine in by_item.values():
        item = mine[0][2]
        matcher = Matcher([row_of_item(item)], [row_of_sku(row[3]) for row in mine])
        theirs = max(matcher.theirs[0].pack, 1)
        for (lane, part, _, sku), thing in zip(mine, matcher.ours, strict=True):
            expected, has = Fraction(max(thing.pack, 1), theirs), Fraction(part.units_num, part.units_den)
            if has == expected:
                continue
            others = [f"{row[3].code} takes {show_units(row[1].units_num, row[1].units_den)}" for row in mine if row[0].id != lane.id][:2]
            wanted = show_units(expected.numerator, expected.denominator)
            yield Fault(
                f"units:{lane.id}:{has}",
                "units",
                f"{sku.code} takes {show_units(part.units_num, part.units_den)} of {item.number}, {', '.join(others)}",
                f"by its title one {sku.code} is {thing.pack or 1}, and {item.number} comes {'singly' if theirs == 1 else f'in {theirs}s'}",
                sku.id,
                sku.code,
                f"Set it to {wanted}",
                "units",
                lane.id,
                {"units": str(expected)},
            )


def _kits(context: Context) -> Iterator[Fault]:
    """Kits of which an item cannot be bought: it is gone, or it is sent to none of the stores' countries."""
    several = select(LanePart.lane_id).group_by(LanePart.lane_id).having(func.count() > 1)
    kits = list(
        context.session.scalars(select(Lane).where(Lane.closed_at.is_(None), Lane.id.in_(several)).order_by(Lane.id).limit(4 * MOST))
    )
    if not kits:
        return
    parts, items = parts_of(context, kits)
    skus = by_id(context.session, Sku, (lane.sku_id for lane in kits))
    lands = set(context.session.scalars(select(Store.country)))
    offered = {(o, c, land) for o, c, land in context.session.execute(select(Service.origin_id, Service.code, Service.country))}
    for lane in kits:
        for part in parts[lane.id]:
            item, sku = items[part.item_id], skus[lane.sku_id]
            origin = part.origin_id or lane.origin_id
            sent = any((origin, service_of(lane, part, land), land) in offered for land in lands)
            if item.offer != "gone" and sent:
                continue
            reason = (
                "its supplier does not sell it any more"
                if item.offer == "gone"
                else "its supplier sends it to none of your stores' countries"
            )
            message = f"the kit {sku.code} lacks {item.number}, {item.title}"
            yield Fault(
                f"kit:{lane.id}:{item.id}",
                "kit",
                message,
                f"{reason}, so the kit cannot be sent whole",
                sku.id,
                sku.code,
                "Look for another",
            )


def _circles(context: Context) -> Iterator[Fault]:
    """Replacements that lead back to where they began: A is replaced by what fills B, and B by what fills A."""
    goes: dict[int, set[int]] = {}
    home: dict[int, set[int]] = {}
    instead = context.session.execute(
        select(Lane.sku_id, LanePart.item_id, Lane.id)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .where(Lane.closed_at.is_(None), Lane.is_substitute.is_(True))
    ).all()
    if not instead:
        return
    for chunk in in_chunks({item for _, item, _ in instead}):
        rows = select(LanePart.item_id, Lane.sku_id).join(Lane, Lane.id == LanePart.lane_id)
        for item, sku in context.session.execute(
            by_items(rows.where(LanePart.item_id.in_(chunk), Lane.closed_at.is_(None), Lane.is_substitute.is_(False)))
        ):
            home.setdefault(item, set()).add(sku)
    for sku, item, _ in instead:
        goes.setdefault(sku, set()).update(home.get(item, ()))
    codes = {row.id: row.code for row in by_id(context.session, Sku, {*goes, *(one for many in goes.values() for one in many)}).values()}
    seen: set[frozenset[int]] = set()
    for sku, item, lane in sorted(instead):
        for there in sorted(home.get(item, ())):
            ring = _ring(goes, there, sku)
            if ring and frozenset(ring) not in seen:
                seen.add(frozenset(ring))
                names = " → ".join(codes[one] for one in (sku, *ring))
                yield Fault(
                    f"circle:{lane}",
                    "circle",
                    f"replacements go in a circle: {names}",
                    "when one runs out the other is sent, and the other way round, so neither helps",
                    sku,
                    codes[sku],
                    f"Remove the replacement of {codes[sku]}",
                    "close",
                    lane,
                )


def _ring(goes: dict[int, set[int]], start: int, end: int) -> list[int]:
    """A way from one SKU to another along replacements; [] where there is none."""
    ways = [[start]]
    seen = {start}
    while ways:
        way = ways.pop(0)
        if way[-1] == end:
            return way
        for there in sorted(goes.get(way[-1], ())):
            if there not in seen or there == end:
                seen.add(there)
                ways.append([*way, there])
    return []


def _unsent(context: Context) -> Iterator[Fault]:
    """Lanes that are sent to no country where their SKU is sold."""
    offered: dict[tuple[int, str], list[tuple[str, int]]] = {}
    ways: set[tuple[int, str, str]] = set()
    for origin, code, land, first in context.session.execute(select(Service.origin_id, Service.code, Service.country, Service.first)):
        offered.setdefault((origin, land), []).append((code, first))
        ways.add((origin, code, land))
    stores = {row.id: row.country for row in context.session.scalars(select(Store))}
    # All ways that lanes go, with the countries of the stores that sell their SKUs: few, however many lanes there are.
    rows = context.session.execute(
        select(Lane.origin_id, Lane.service, func.coalesce(Lane.store_id, Listing.store_id), func.count())
        .join(Listing, Listing.sku_id == Lane.sku_id)
        .where(Lane.closed_at.is_(None), Listing.state != ListingState.ended)
        .group_by(Lane.origin_id, Lane.service, func.coalesce(Lane.store_id, Listing.store_id))
    ).all()
    odd = {(origin, service) for origin, service, store, _ in rows if store in stores and (origin, service, stores[store]) not in ways}
    for origin_id, service in sorted(odd):
        query = select(Lane).where(Lane.closed_at.is_(None), Lane.origin_id == origin_id, Lane.service == service)
        mine = list(context.session.scalars(query.order_by(Lane.id).limit(MOST)))
        skus = by_id(context.session, Sku, (lane.sku_id for lane in mine))
        sold = _lands(context, mine, stores)
        supplier = context.get(Supplier, context.get(Origin, origin_id, "origin").supplier_id, "supplier")
        for lane in mine:
            lands = sold.get(lane.id, set())
            if not lands or any((origin_id, (lane.services or {}).get(land, service), land) in ways for land in lands):
                continue
            yield _unsent_fault(lane, skus[lane.sku_id], supplier, lands, offered)


def _unsent_fault(
    lane: Lane, sku: Sku, supplier: Supplier, lands: set[str], offered: dict[tuple[int, str], list[tuple[str, int]]]
) -> Fault:
    other = {land: min(ways, key=lambda one: one[1])[0] for land in sorted(lands) if (ways := offered.get((lane.origin_id, land)))}
    where = " or ".join(sorted(lands))
    step = f"Send by {', '.join(f'{code} to {land}' for land, code in other.items())}" if other else "Close the lane"
    return Fault(
        f"unsent:{lane.id}",
        "unsent",
        f"{sku.code}: {supplier.name} does not send by {lane.service} to {where}",
        "where its stores sell, so nothing can go this way",
        sku.id,
        sku.code,
        step,
        "service" if other else "close",
        lane.id,
        {"services": other},
    )


def _lands(context: Context, lanes_of_it: Sequence[Lane], stores: dict[int, str]) -> dict[int, set[str]]:
    sold: dict[int, set[int]] = {}
    for chunk in in_chunks({lane.sku_id for lane in lanes_of_it}):
        for sku, store in context.session.execute(
            select(Listing.sku_id, Listing.store_id).where(Listing.sku_id.in_(chunk), Listing.state != ListingState.ended)
        ):
            sold.setdefault(sku, set()).add(store)
    return {
        lane.id: {stores[one] for one in ({lane.store_id} if lane.store_id else sold.get(lane.sku_id, set())) if one in stores}
        for lane in lanes_of_it
    }


def _costs(context: Context) -> Iterator[Fault]:
    """Items that cost twice or half of what they did when a person last said that the lane is right."""
    rows = context.session.execute(
        select(Lane, LanePart, Item, Sku)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .join(Sku, Sku.id == Lane.sku_id)
        .where(
            Lane.closed_at.is_(None),
            Lane.state != LaneState.shut,
            LanePart.cost_then > 0,
            (Item.cost > COST_ODD * LanePart.cost_then) | (Item.cost * COST_ODD < LanePart.cost_then),
        )
        .order_by(Lane.id)
        .limit(MOST)
    )
    for lane, part, item, sku in rows:
        was, now = show(part.cost_then or 0, item.currency), show(item.cost, item.currency)
        yield Fault(
            f"cost:{lane.id}:{part.cost_then}",
            "cost",
            f"{sku.code}: {item.number} cost {was} when its lane was opened, {now} now",
            "it may be another thing under the same number",
            sku.id,
            sku.code,
            "It is the same thing",
            "confirm",
            lane.id,
        )


@undoing.undoes("lane.fault")
def undo_lane_fault(context: Context, act: AuditEntry) -> None:
    bring_back(context, undoing.after(act))
