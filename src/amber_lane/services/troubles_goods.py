"""Open troubles of lanes, watch and prices: what is sold without stock, not mapped, doubted, held."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from sqlalchemy import String, cast, func, literal, select

from ..core.money import PPM, half_up, show
from ..core.risk import REFUND_COST, oversell_a_day
from ..data.lanes import Lane, LanePart
from ..data.outbox import Outbox
from ..data.setup import Service, Store, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..data.watch import Sighting, Sweep
from . import lane_faults
from .desk import Desk, by_id
from .to_settle import GONE, SHUT, to_settle
from .trouble import Cause, Step, Trouble, quoted


def _oversell(desk: Desk) -> Iterator[Trouble]:
    """On sale in the store although we know it to be empty: the store has not taken our pause for a minute."""
    late = desk.now - timedelta(minutes=1)
    rows = desk.s.execute(
        select(Listing, Sku, Store, func.min(Outbox.made_at))
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Store, Store.id == Listing.store_id)
        .join(Outbox, Outbox.subject == literal("listing:") + cast(Listing.id, String))
        .where(
            Listing.state == "paused",
            Listing.shown_state == "live",
            Listing.shown_quantity > 0,
            Outbox.state.in_(("waiting", "unknown", "dead")),
            Outbox.made_at < late,
        )
        .group_by(Listing.id, Sku.id, Store.id)
    ).all()
    for listing, sku, store, since in rows:
        yield Trouble(
            f"oversell:{listing.id}",
            "watch",
            "Oversell",
            f"{sku.title} is on sale, its supplier has none",
            "the store has not taken the pause yet",
            since,
            Step("Send the pause again", act=True),
            oversell_a_day(sku.pace, listing.profit or 0),
            True,
            "loss",
            cause=Cause(
                f"oversell:{store.id}",
                f"{{n}} listings are on sale in {quoted(store.name)}, their suppliers have none",
                "the store has not taken the pauses yet",
                Step("Send all {n} again", act=True),
            ),
        )


def _unmapped_listings(desk: Desk) -> Iterator[Trouble]:
    rows = [one for one in to_settle(desk) if not one.orders and one.kind != SHUT]
    gone = sum(1 for one in rows if one.kind == GONE)
    if gone:
        yield Trouble(
            "gone",
            "lanes",
            "Item gone",
            f"{gone} listing{'s have' if gone > 1 else ' has'} no item left: {next(one.told for one in rows if one.kind == GONE)}",
            "nothing can be bought for them until they have another",
            desk.now,
            Step(f"Settle {gone}", go="/lanes"),
            sum(one.a_day for one in rows if one.kind == GONE),
            True,
            count=gone,
        )
    rows = [one for one in rows if one.kind != GONE]
    if rows:
        yield Trouble(
            "unmapped",
            "lanes",
            "Unmapped",
            f"{len(rows)} SKU{'s' if len(rows) > 1 else ''} on sale without a lane",
            "their price and stock follow nobody",
            desk.now,
            Step(f"Settle {len(rows)}", go="/lanes"),
            half_up(sum(one.sku.pace for one in rows) * REFUND_COST, PPM),
            True,
            count=len(rows),
        )


def _sweeps(desk: Desk) -> Iterator[Trouble]:
    newest = select(func.max(Sweep.id)).where(Sweep.state != "running").group_by(Sweep.supplier_id)
    for sweep, supplier in desk.s.execute(
        select(Sweep, Supplier).join(Supplier, Supplier.id == Sweep.supplier_id).where(Sweep.id.in_(newest))
    ):
        pace = _pace_at_stake(desk, supplier.id)
        if sweep.state == "held":
            yield Trouble(
                f"held:{sweep.id}",
                "watch",
                "Held feed",
                f"{supplier.name}: {sweep.told}",
                "nothing of it is used until you say so",
                sweep.started,
                Step("Keep last good stock", act=True),
                pace,
                True,
                "loss",
                other=Step("Use it after all", act=True),
            )
        elif sweep.state in ("stale", "failed"):
            since = supplier.good_sweep_at or sweep.started
            if desk.now - since > timedelta(minutes=4 * supplier.sweep_minutes):
                yield Trouble(
                    f"stale:{supplier.id}",
                    "watch",
                    "Old feed",
                    f"{supplier.name}: no good sweep since {since:%H:%M}",
                    sweep.told,
                    since,
                    Step("Sweep now", act=True),
                    pace,
                    True,
                    "loss",
                    # A feed that only says the same may be right; one that fails is looked at where its link is.
                    other=Step("Nothing has changed there", act=True)
                    if (sweep.held or {}).get("same")
                    else Step("See its link", go="/setup/partners"),
                )


def _pace_at_stake(desk: Desk, supplier: int) -> int:
    """What a day of sales on this supplier's lanes would lose if all of it had to be refunded."""
    skus = select(Lane.sku_id).where(Lane.supplier_id == supplier, Lane.until.is_(None))
    rows = desk.s.execute(
        select(Sku.pace, Listing.profit).join(Listing, Listing.sku_id == Sku.id).where(Sku.id.in_(skus), Listing.state == "live")
    )
    return sum(oversell_a_day(pace, profit or 0) for pace, profit in rows)


def _doubts(desk: Desk) -> Iterator[Trouble]:
    used = select(LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id).where(Lane.until.is_(None))
    items = list(desk.s.scalars(select(Item).where(Item.offer == "doubted", Item.id.in_(used)).order_by(Item.id).limit(200)))
    since = select(Sighting.item_id, func.max(Sighting.at)).where(
        Sighting.item_id.in_([i.id for i in items]), Sighting.verdict == "doubted"
    )
    seen = dict(desk.s.execute(since.group_by(Sighting.item_id)).tuples().all())
    suppliers = by_id(desk.s, Supplier, {item.supplier_id for item in items})
    for item in items:
        yield Trouble(
            f"doubt:{item.id}",
            "watch",
            "Doubted",
            f"{item.title}: cost {show(item.cost, item.currency)} → {show(item.doubt_cost, item.currency)}",
            "too large a move to believe at once; the last good cost stands",
            seen.get(item.id) or desk.now,
            Step("Keep the last good cost", act=True),
            max(item.doubt_cost - item.cost, 0),
            other=Step("Believe it", act=True) if item.doubt_cost > 0 else None,
            cause=Cause(
                f"doubt:{item.supplier_id}",
                f"{{n}} costs of {quoted(suppliers[item.supplier_id].name)} are in doubt",
                "too large moves to believe at once; the last good costs stand",
                Step("Keep all {n} last good costs", act=True),
                Step("Believe all {n}", act=True),
            ),
        )


def _not_sent(desk: Desk) -> Iterator[Trouble]:
    """Listings whose lane has no service to the store's country: they show nothing, and somebody should know why."""
    rows = desk.s.execute(
        select(Supplier.id, Supplier.name, Store.country, func.count(), func.min(Lane.opened_at))
        .select_from(Listing)
        .join(Store, Store.id == Listing.store_id)
        .join(Lane, Lane.id == Listing.lane_id)
        .join(Supplier, Supplier.id == Lane.supplier_id)
        .outerjoin(Service, (Service.origin_id == Lane.origin_id) & (Service.code == Lane.service) & (Service.country == Store.country))
        .where(Service.id.is_(None), Lane.until.is_(None), Listing.state.in_(("live", "paused")))
        .group_by(Supplier.id, Store.country)
    ).all()
    for number, name, country, n, since in rows:
        yield Trouble(
            f"unsent:{number}-{country}",
            "lanes",
            "Not sent there",
            f"{name} does not send {n} {'listings' if n > 1 else 'listing'} to {country} by the lane's service",
            "they show 0 until a lane with a service to that country is open",
            since or desk.now,
            Step("See the lanes", go="/lanes?view=settled"),
            0,
            count=n,
        )


def _shut(desk: Desk) -> Iterator[Trouble]:
    """Listings all of whose lanes are shut: nothing can be bought for them, so they show nothing."""
    fits = (Lane.sku_id == Listing.sku_id) & (func.coalesce(Lane.store_id, Listing.store_id) == Listing.store_id) & Lane.until.is_(None)
    works = select(Lane.id).where(fits, Lane.state != "shut").correlate(Listing)
    some = select(Lane.sku_id).where(Lane.state == "shut", Lane.until.is_(None))
    if desk.s.scalar(some.limit(1)) is None:
        return
    rows = desk.s.execute(
        select(Listing.sku_id, Listing.profit, Sku.pace, func.min(Lane.why))
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Lane, fits)
        .where(Listing.sku_id.in_(some), Listing.state.in_(("live", "paused")), Listing.paused_by != "hand", ~works.exists())
        .group_by(Listing.id, Listing.profit, Sku.pace)
        .order_by(Sku.pace.desc(), Listing.id)
    ).all()
    if rows:
        n = len(rows)
        yield Trouble(
            "shut",
            "lanes",
            "Lane shut",
            f"{n} listing{'s have' if n > 1 else ' has'} no lane that works: {rows[0][3] or 'shut by hand'}",
            "nothing can be bought for them, so they show nothing",
            desk.now,
            Step(f"See {n}", go="/lanes?view=settled&lane=shut"),
            half_up(sum(pace * max(profit or 0, 0) for _, profit, pace, _ in rows), PPM),
            True,
            # As many as wait in Lanes, where a SKU of two stores stands once.
            count=len({row[0] for row in rows}),
        )


def _lane_faults(desk: Desk) -> Iterator[Trouble]:
    """Lanes that cannot be right, as they were last looked over."""
    found = lane_faults.kept(desk)
    if n := found["count"]:
        yield Trouble(
            "faults",
            "lanes",
            "Lane fault",
            f"{n} lane{'s' if n > 1 else ''} cannot be right: {found['first'][0][1]}",
            "each with the step that mends it",
            desk.now,
            Step(f"See {n}", go="/lanes?view=faults"),
            0,
            count=n,
        )


def _old_sheets(desk: Desk) -> Iterator[Trouble]:
    """Suppliers by hand whose last sheet is too old to be believed."""
    by_hand = (Supplier.kind == "sheet", Supplier.stale, Supplier.ended_at.is_(None), Supplier.paused_at.is_(None))
    for supplier in desk.s.scalars(select(Supplier).where(*by_hand)):
        since = supplier.good_sweep_at or desk.now
        yield Trouble(
            f"oldsheet:{supplier.id}",
            "watch",
            "Old sheet",
            f"{supplier.name}: its last sheet is of {since:%d %b}, so its quantities went to zero",
            "a sheet that nobody renews is believed for as many days as your limits have it",
            since,
            Step("Bring a newer sheet in", go=f"/setup/partners?items={supplier.id}"),
            _pace_at_stake(desk, supplier.id),
            True,
        )


SOURCES = (_oversell, _unmapped_listings, _shut, _sweeps, _doubts, _not_sent, _lane_faults, _old_sheets)
