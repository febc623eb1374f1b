"""Open troubles of lanes, watch and prices: what is sold without stock, not mapped, doubted, held."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import BigInteger, String, cast, func, literal, select, type_coerce

from ...core.currency import show
from ...core.numbers import PPM, half_up
from ...core.risk import oversell_a_day
from ...core.states import LaneState, ListingState, OutboxState, SweepState
from ...core.writing import grouped
from ...data.base import by_index, from_ms, to_ms
from ...data.bulk import bulk_update, by_id, in_chunks
from ...data.lanes import IS_SHUT, Lane, LanePart
from ...data.outbox import Outbox
from ...data.setup import Origin, Service, Store, Supplier
from ...data.shelf import IS_OVERSOLD, Listing, Sku
from ...data.source import IS_DOUBTED, Item
from ...data.watch import Sighting, Sweep
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict
from ..mapping import audit
from ..mapping.mapping_queue import GONE, SHUT, to_settle
from ..monitoring import silent_feeds, sweeps
from ..outbox import queue
from ..pricing import exchange_rates
from ..pricing.policy import refund_cost
from .alert import SHOWN, Alert, AlertKey, AlertStep, Cause, Doing, Member, Source, acts, quoted
from .grouping import CAUSE


def oversell(context: Context, store_id: int = 0, only: Collection[int] = ()) -> Iterator[Alert]:
    """Still on sale in the store although it is off sale here: the store has not taken our pause for a minute. Of many one row a store."""
    found: dict[int, list[Any]] = {}
    for row in oversold(context, store_id, only):
        found.setdefault(row.store_id, []).append(row)
    stores, worth = by_id(context.session, Store, found), exchange_rates.HomeWorth(context)
    for number, rows in found.items():
        name = quoted(stores[number].name)
        refund = refund_cost(context)
        risk = {row.id: oversell_a_day(row.pace, worth.of(row.profit or 0, row.currency), refund) for row in rows}
        dearest = sorted(rows, key=lambda row: (-risk[row.id], row.id))[:SHOWN]
        titles = dict(
            context.session.execute(select(Listing.id, Listing.title).where(Listing.id.in_([row.id for row in dearest]))).tuples().all()
        )
        messages = {row.id: f"{titles[row.id]} is off sale here and still on sale in {stores[number].name}" for row in dearest}
        first, n = dearest[0], len(rows)
        yield Alert(
            AlertKey("oversell", first.id) if n == 1 else AlertKey(CAUSE, "oversell", number),
            "watch",
            "Oversell",
            messages[first.id] if n == 1 else f"{grouped(n)} listings are off sale here and still on sale in {name}",
            "the store has not taken the pause yet" if n == 1 else "the store has not taken the pauses yet",
            from_ms(min(row.since for row in rows)),
            AlertStep("Send the pause again" if n == 1 else f"Send {'both' if n == 2 else f'all {grouped(n)}'} again", act=True),
            sum(risk.values()),
            True,
            "loss",
            count=n,
            members_of=n,
            members=()
            if n == 1
            else tuple(
                Member(AlertKey("oversell", row.id), messages[row.id], "the store has not taken the pause yet", at_risk=risk[row.id])
                for row in dearest
            ),
        )


def oversold(context: Context, store_id: int = 0, only: Collection[int] = ()) -> list[Any]:
    """Listings off sale here whose store has shown them on sale for a minute since: id, store_id, pace, profit, currency, since (ms)."""
    late = context.now - timedelta(minutes=1)
    since = (
        select(func.min(type_coerce(Outbox.made_at, BigInteger)))
        .where(
            Outbox.subject == literal("listing:") + cast(Listing.id, String),
            Outbox.state.in_((OutboxState.waiting, OutboxState.unknown, OutboxState.dead)),
            Outbox.made_at < late,
        )
        .correlate(Listing)
        .scalar_subquery()
        .label("since")
    )
    columns = (Listing.id, Listing.store_id, Sku.pace, Listing.profit, Listing.currency, since)
    query = select(*columns).join(Sku, Sku.id == Listing.sku_id).where(IS_OVERSOLD)
    query = by_index(query, Listing, "ix_listing_oversell")
    if store_id:
        query = query.where(Listing.store_id == store_id)
    if only:
        query = query.where(Listing.id.in_(list(only)))
    return [row for row in context.session.execute(query) if row.since is not None]


def send_pauses_again(context: Context, store_id: int, only: Collection[int] = ()) -> int:
    """What a store has not taken of our pauses is tried at once. Returns how many listings; Conflict when none is open any more."""
    rows = oversold(context, store_id, only)
    if not rows:
        raise Conflict("this is done already")
    for chunk in in_chunks([f"listing:{row.id}" for row in rows], 500):
        mine = (Outbox.subject.in_(chunk), Outbox.kind == "listing")
        found = context.session.scalars(
            queue.of_subjects(select(Outbox).where(*mine, Outbox.state.in_((OutboxState.dead, OutboxState.waiting))))
        ).all()
        if dead := [row for row in found if row.state == OutboxState.dead]:
            queue.retry_many(context, dead)
        bulk_update(
            context.session, Outbox, ("after",), [(to_ms(context.now), row.id) for row in found if row.state == OutboxState.waiting]
        )
    return len(rows)


def _unmapped_listings(context: Context) -> Iterator[Alert]:
    rows = [one for one in to_settle(context) if not one.orders and one.kind != SHUT]
    gone = sum(1 for one in rows if one.kind == GONE)
    if gone:
        yield Alert(
            AlertKey("gone"),
            "lanes",
            "Item gone",
            f"{gone} listing{'s have' if gone > 1 else ' has'} no item left: {next(one.message for one in rows if one.kind == GONE)}",
            "nothing can be bought for them until they have another",
            context.now,
            AlertStep(f"Replace {gone}", go="/lanes"),
            sum(one.a_day for one in rows if one.kind == GONE),
            True,
            count=gone,
        )
    rows = [one for one in rows if one.kind != GONE]
    if rows:
        yield Alert(
            AlertKey("unmapped"),
            "lanes",
            "Unmapped",
            f"{len(rows)} SKU{'s' if len(rows) > 1 else ''} on sale without a lane",
            "their price and stock follow nobody",
            context.now,
            AlertStep(f"Map {len(rows)}", go="/lanes"),
            half_up(sum(one.sku.pace for one in rows) * refund_cost(context), PPM),
            True,
            count=len(rows),
        )


def _sweeps(context: Context) -> Iterator[Alert]:
    newest = select(func.max(Sweep.id)).where(Sweep.state != SweepState.running).group_by(Sweep.supplier_id)
    for sweep, supplier in context.session.execute(
        select(Sweep, Supplier).join(Supplier, Supplier.id == Sweep.supplier_id).where(Sweep.id.in_(newest))
    ):
        if sweep.state == SweepState.held:
            yield Alert(
                AlertKey("held", sweep.id),
                "watch",
                "Held feed",
                f"{supplier.name}: {sweep.message}",
                "nothing of it is used until you say so",
                sweep.started,
                AlertStep("Keep last good stock", act=True),
                _pace_at_stake(context, supplier.id),
                True,
                "loss",
                other=AlertStep("Use it after all", act=True),
            )
        elif sweep.state in (SweepState.stale, SweepState.failed):
            since = supplier.good_sweep_at or sweep.started
            if context.now - since > timedelta(minutes=4 * supplier.sweep_minutes):
                yield Alert(
                    AlertKey("stale", supplier.id),
                    "watch",
                    "Old feed",
                    f"{supplier.name}: no good sweep since {house_days.clock_text(context, since)}",
                    sweep.message,
                    since,
                    AlertStep("Sweep now", act=True),
                    _pace_at_stake(context, supplier.id),
                    True,
                    "loss",
                    # A feed that only says the same may be right; one that fails is looked at where its link is.
                    other=AlertStep("Nothing has changed there", act=True)
                    if (sweep.held or {}).get("same")
                    else AlertStep("See its link", go="/setup/partners"),
                )


def _pace_at_stake(context: Context, supplier: int) -> int:
    """What a day of sales on this supplier's lanes would lose if all of it had to be refunded."""
    skus = select(Lane.sku_id).where(Lane.supplier_id == supplier, Lane.closed_at.is_(None))
    sold = select(Sku.pace, Listing.profit, Listing.currency).join(Listing, Listing.sku_id == Sku.id)
    rows = context.session.execute(sold.where(Sku.id.in_(skus), Listing.state == ListingState.live))
    worth = exchange_rates.HomeWorth(context)
    refund = refund_cost(context)
    return sum(oversell_a_day(pace, worth.of(profit or 0, money), refund) for pace, profit, money in rows)


def _doubts(context: Context) -> Iterator[Alert]:
    used = select(LanePart.id).join(Lane, Lane.id == LanePart.lane_id).where(LanePart.item_id == Item.id, Lane.closed_at.is_(None))
    items = list(context.session.scalars(select(Item).where(IS_DOUBTED, used.correlate(Item).exists()).order_by(Item.id).limit(200)))
    since = select(Sighting.item_id, func.max(Sighting.at)).where(
        Sighting.item_id.in_([i.id for i in items]), Sighting.verdict == "doubted"
    )
    seen = dict(context.session.execute(since.group_by(Sighting.item_id)).tuples().all())
    suppliers, worth = by_id(context.session, Supplier, {item.supplier_id for item in items}), exchange_rates.HomeWorth(context)
    for item in items:
        yield Alert(
            AlertKey("doubt", item.id),
            "watch",
            "Doubted",
            f"{item.title}: cost {show(item.cost, item.currency)} → {show(item.doubt_cost, item.currency)}",
            "too large a move to believe at once; the last good cost stands",
            seen.get(item.id) or context.now,
            AlertStep("Keep the last good cost", act=True),
            worth.of(max(item.doubt_cost - item.cost, 0), item.currency),
            other=AlertStep("Use the new cost", act=True) if item.doubt_cost > 0 else None,
            cause=Cause(
                f"doubt:{item.supplier_id}",
                f"{{n}} costs of {quoted(suppliers[item.supplier_id].name)} are in doubt",
                "too large moves to believe at once; the last good costs stand",
                AlertStep("Keep all {n} last good costs", act=True),
                AlertStep("Believe all {n}", act=True),
            ),
        )


def _not_sent(context: Context) -> Iterator[Alert]:
    """Listings whose lane has no service to the store's country: they show nothing, and somebody should know why."""
    sent = set(context.session.execute(select(Service.origin_id, Service.code, Service.country)).tuples())
    stores = context.session.execute(select(Store.id, Store.country)).tuples().all()
    # The ways that lanes go are few; their listings are looked at only where one of these is not there.
    ways = [(origin, code) for origin in context.session.scalars(select(Origin.id)) for code in _services_used(context, origin)]
    found: dict[tuple[int, str], tuple[int, datetime]] = {}
    for origin, code in ways:
        for country in sorted({country for _, country in stores if (origin, code, country) not in sent}):
            shops = [number for number, at in stores if at == country]
            mine = (Lane.origin_id == origin, Lane.service == code, Lane.closed_at.is_(None))
            rows = context.session.execute(
                select(Lane.supplier_id, func.count(), func.min(Lane.opened_at))
                .select_from(Lane)
                .join(Listing, (Listing.sku_id == Lane.sku_id) & (Listing.lane_id == Lane.id))
                .where(*mine, Listing.store_id.in_(shops), func.coalesce(Listing.state, "").in_(("live", "paused")))
                .group_by(Lane.supplier_id)
            )
            for supplier, n, since in rows.tuples():
                had = found.get((supplier, country), (0, since))
                found[supplier, country] = (had[0] + n, min(had[1], since))
    names = by_id(context.session, Supplier, (supplier for supplier, _ in found))
    for (number, country), (n, since) in sorted(found.items()):
        yield Alert(
            AlertKey("unsent", f"{number}-{country}"),
            "lanes",
            "Not sent there",
            f"{names[number].name} does not send {n} {'listings' if n > 1 else 'listing'} to {country} by the lane's service",
            "they show 0 until a lane with a service to that country is open",
            since or context.now,
            AlertStep("See the lanes", go="/lanes?view=settled"),
            0,
            count=n,
        )


def _services_used(context: Context, origin: int) -> Iterator[str]:
    """The services of an origin that lanes go by: one step along the index for each, however many lanes there are."""
    last = ""
    while True:
        query = select(func.min(Lane.service)).where(Lane.closed_at.is_(None), Lane.origin_id == origin, Lane.service > last)
        found = context.session.scalar(query)
        if found is None:
            return
        yield found
        last = found


def _shut(context: Context) -> Iterator[Alert]:
    """Listings all of whose lanes are shut: nothing can be bought for them, so they show nothing."""
    fits = (Lane.sku_id == Listing.sku_id) & (func.coalesce(Lane.store_id, Listing.store_id) == Listing.store_id) & Lane.closed_at.is_(None)
    works = select(Lane.id).where(fits, Lane.state != LaneState.shut).correlate(Listing)
    some = by_index(select(Lane.sku_id).where(IS_SHUT), Lane, "ix_lane_shut")
    if context.session.scalar(some.limit(1)) is None:
        return
    rows = context.session.execute(
        select(Listing.sku_id, Listing.profit, Sku.pace, func.min(Lane.reason), Listing.currency)
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Lane, fits)
        .where(
            Listing.sku_id.in_(some),
            Listing.state.in_((ListingState.live, ListingState.paused)),
            Listing.paused_by != "hand",
            ~works.exists(),
        )
        .group_by(Listing.id, Listing.profit, Sku.pace)
        .order_by(Sku.pace.desc(), Listing.id)
    ).all()
    if rows:
        n, worth = len(rows), exchange_rates.HomeWorth(context)
        yield Alert(
            AlertKey("shut"),
            "lanes",
            "Lane shut",
            f"{n} listing{'s have' if n > 1 else ' has'} no lane that works: {rows[0][3] or 'shut by hand'}",
            "nothing can be bought for them, so they show nothing",
            context.now,
            AlertStep(f"See {n}", go="/lanes?view=settled&lane=shut"),
            half_up(sum(pace * worth.of(max(profit or 0, 0), money) for _, profit, pace, _, money in rows), PPM),
            True,
            # As many as wait in Lanes, where a SKU of two stores stands once.
            count=len({row[0] for row in rows}),
        )


def _lane_faults(context: Context) -> Iterator[Alert]:
    """Lanes that cannot be right, as they were last looked over."""
    found = audit.last_faults(context)
    if n := found["count"]:
        yield Alert(
            AlertKey("faults"),
            "lanes",
            "Lane fault",
            f"{n} lane{'s' if n > 1 else ''} cannot be right: {found['first'][0][1]}",
            "each with the step that mends it",
            context.now,
            AlertStep(f"See {n}", go="/lanes?view=faults"),
            0,
            count=n,
        )


def _old_sheets(context: Context) -> Iterator[Alert]:
    """Suppliers by hand whose last sheet is too old to be believed."""
    by_hand = (Supplier.kind == "sheet", Supplier.stale, Supplier.ended_at.is_(None), Supplier.paused_at.is_(None))
    for supplier in context.session.scalars(select(Supplier).where(*by_hand)):
        since = supplier.good_sweep_at or context.now
        yield Alert(
            AlertKey("oldsheet", supplier.id),
            "watch",
            "Old sheet",
            f"{supplier.name}: its last sheet is of {house_days.day_text(context, since)}, so its quantities went to zero",
            "a sheet that nobody renews is believed for as many days as your limits have it",
            since,
            AlertStep("Bring a newer sheet in", go=f"/setup/partners?items={supplier.id}"),
            _pace_at_stake(context, supplier.id),
            True,
        )


@acts("held")
def _settle_held(do: Doing) -> None:
    sweeps.settle_held(do.context, do.alert.key.about[0], believe=do.other)


@acts("doubt")
def _settle_doubt(do: Doing) -> None:
    sweeps.settle_doubt(do.context, do.alert.key.about[0], believe=do.other)


@acts("oversell")
def _send_pause_again(do: Doing) -> None:
    send_pauses_again(do.context, 0, [do.alert.key.about[0]])


@acts("stale")
def _sweep_now(do: Doing) -> None:
    supplier = do.context.get(Supplier, do.alert.key.about[0], "supplier")
    if do.other:
        silent_feeds.accept(do.context, supplier)
    supplier.next_sweep = do.context.now


SOURCES: dict[str, Source] = {
    "oversell": oversell,
    "gone unmapped": _unmapped_listings,
    "shut": _shut,
    "held stale": _sweeps,
    "doubt": _doubts,
    "unsent": _not_sent,
    "faults": _lane_faults,
    "oldsheet": _old_sheets,
}
