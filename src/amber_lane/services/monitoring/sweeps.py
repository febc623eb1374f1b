"""Sweeps: from what a supplier says to what we believe, and from there to responses. One transaction."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import partial

import numpy as np
from sqlalchemy import func, select, update

from ...core.currency import MINOR_DIGITS, show
from ...core.money import Bools, Ints
from ...core.price import SetBy
from ...core.states import SWEEP, ListingState, SweepState
from ...core.watch import Belief, JudgedSightings, SweepHold, Verdict, hold_sweep, judge
from ...core.writing import short
from ...data.base import by_index, to_ms
from ...data.bulk import bulk_update, in_chunks, quiet
from ...data.lanes import Lane, LanePart, by_items
from ...data.outbox import AuditEntry
from ...data.setup import Supplier
from ...data.shelf import IS_OUT_OF_STOCK, Listing
from ...data.source import IS_DOUBTED, Item
from ...data.watch import Sighting, Sweep
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict
from ..catalogue import ingest
from ..mapping import validity
from ..pricing.apply import tell_counts
from ..pricing.frame import MANY
from ..pricing.lane_columns import lane_pairs, skus_of_supplier
from ..pricing.policy import policy_for
from ..pricing.rollback import undo_responses
from . import silent_feeds
from .sightings import Known, believe, known_of, match, missing_of, note, unmoved, usual_of

# Far below any count of repeats: the same odd value never becomes true by being seen again.
SET_ASIDE = -1_000_000


@dataclass(frozen=True)
class SweepData:
    """A whole sweep as columns: numbers, cost in minor units, currency, stock, costs by quantity.

    whole = every item was asked for; tiers None = nobody was asked for costs by quantity. packs: 0 = not told.
    gone: numbers that the supplier says it does not have any more.
    """

    numbers: Sequence[str]
    cost: Ints
    currency: Sequence[str]
    stock: Ints
    as_of: datetime
    whole: bool = True
    tiers: Sequence[tuple[tuple[int, int], ...]] | None = None
    packs: Sequence[int] = ()
    gone: Sequence[str] = ()


def begin(context: Context, supplier: Supplier, asked_by: str = "schedule") -> Sweep:
    """Open the record of a sweep and plan the next one. Conflict while one is running."""
    running = context.session.scalar(select(Sweep).where(Sweep.supplier_id == supplier.id, Sweep.state == SweepState.running))
    if running:
        if context.now - running.started < timedelta(minutes=30):
            raise Conflict(f"a sweep of {supplier.name} is running already")
        _cut_off(context, running)
    sweep = Sweep(supplier_id=supplier.id, started=context.now, state=SWEEP.first, asked_by=asked_by)
    supplier.next_sweep = context.now + timedelta(minutes=supplier.sweep_minutes)
    context.session.add(sweep)
    context.session.flush()
    return sweep


def _cut_off(context: Context, sweep: Sweep) -> None:
    sweep.state, sweep.ended, sweep.message = SWEEP.step(sweep.state, "fail"), context.now, "it was cut off"


def recover(context: Context) -> int:
    """Sweeps that a worker had in hand when it died; their suppliers are asked anew at once. Returns how many there were."""
    rows = context.session.scalars(select(Sweep).where(Sweep.state == SweepState.running)).all()
    for row in rows:
        _cut_off(context, row)
        context.get(Supplier, row.supplier_id, "supplier").next_sweep = context.now
    return len(rows)


def is_open(sweep: Sweep) -> bool:
    """Whether its answer is still waited for; one that took too long was given up, and another may have begun."""
    return sweep.state in SWEEP.sources("take")


def fail(context: Context, sweep: Sweep, message: str) -> None:
    """A sweep that got no usable answer: last good values stand, and grow old."""
    if is_open(sweep):
        sweep.state, sweep.ended, sweep.message = SWEEP.step(sweep.state, "fail"), context.now, message
    grow_old(context, context.get(Supplier, sweep.supplier_id, "supplier"))


def grow_old(context: Context, supplier: Supplier) -> None:
    """After the policy's hours without a good sweep, its stock is no longer believed: quantities fall to zero."""
    policy = policy_for(context.session, supplier=supplier.code)
    by_hand = supplier.kind == "sheet"
    limit = timedelta(days=int(policy["sheet_days"])) if by_hand else timedelta(hours=int(policy["stale_hours"]))
    if by_hand and not limit:
        return
    if supplier.good_sweep_at and not supplier.stale and context.now - supplier.good_sweep_at > limit:
        supplier.stale = True
        context.session.flush()
        act = context.log(
            "watch.stale",
            supplier.name,
            f"{supplier.name}: no newer sheet for {limit.days} days, quantities go to zero"
            if by_hand
            else f"{supplier.name}: no good sweep for {short(limit.total_seconds() / 3600)} h, quantities go to zero",
            reason="the policy's limit for old stock",
            after={"supplier": supplier.id},
        )
        context.reprice(skus_of_supplier(context, supplier.id), act=act.id, alone=True)


def grow_old_while_paused(context: Context) -> None:
    """What a paused supplier said last, and a sheet that nobody renewed, grow old like a feed that stopped."""
    unasked = Supplier.paused_at.is_not(None) | (Supplier.kind == "sheet")
    for supplier in context.session.scalars(select(Supplier).where(unasked, Supplier.ended_at.is_(None))).all():
        grow_old(context, supplier)


def take_sweep(context: Context, sweep: Sweep, data: SweepData, seen: SweepLook | None = None) -> dict[str, int]:
    """Judge a sweep, believe what may be believed, and respond, in this transaction. Returns counts of responses by kind.

    seen: what it says, where that was looked at already.
    """
    with quiet():
        supplier = context.get(Supplier, sweep.supplier_id, "supplier")
        seen = seen or judge_sweep(context, supplier, data)
        if not may_take(context, sweep, data, seen):
            note(context, sweep, seen.known, *seen.held_rows)
            return {}
        changed, shut = write_part(context, sweep, seen, np.flatnonzero(written(seen)), seen.missing)
        return finish(context, sweep, seen, changed, shut)


@dataclass
class SweepLook:
    """What a sweep says against what we believe: rows of the sweep and the places of their items, one entry for each; what is missing.

    held: why none of it is used, and held_rows what would have changed. tiers, packs: what moved of costs by quantity and of packs.
    """

    known: Known
    rows: Ints
    places: Ints
    cost: Ints
    stock: Ints
    missing: Ints
    held: SweepHold | None
    held_rows: tuple[Ints, Ints, Ints, list[str]]
    judged: JudgedSightings
    # By item: its costs by quantity as they are kept; its old pack and its new one.
    tiers: dict[int, str | None]
    packs: dict[int, tuple[int, int]]

    @property
    def size(self) -> int:
        """How much of it is to be written."""
        written = len(self.missing) + int((self.judged.verdict != Verdict.same).sum()) + len(self.packs)
        return len(self.held_rows[0]) if self.held else written


def judge_sweep(context: Context, supplier: Supplier, data: SweepData) -> SweepLook:
    """Look at a sweep without writing anything."""
    policy = policy_for(context.session, supplier=supplier.code)
    known = known_of(context, supplier.id)
    rows, places = match(known, data.numbers)
    cost, stock = data.cost[rows], data.stock[rows]
    belief = Belief(*(getattr(known.belief, name)[places] for name in ("cost", "stock", "doubt_cost", "doubt_stock", "doubt_seen")))
    missing = missing_of(known, places) if data.whole else _reported_gone(known, data.gone)
    held = hold_sweep(cost, np.where(cost > 0, stock, belief.stock), belief, len(missing), policy["hold_share"], policy["hold_median"])
    if held and _agreed(context, supplier.id, held, policy["hold_agree"]):
        held = None
    moved = np.flatnonzero((cost != belief.cost) | (stock != belief.stock)) if held else np.zeros(0, dtype=np.int64)
    currency_fits = np.array(
        [
            data.currency[i] == known.currency[p] and data.currency[i] in MINOR_DIGITS
            for i, p in zip(rows.tolist(), places.tolist(), strict=True)
        ],
        dtype=np.bool_,
    )
    usual = usual_of(context, known, places, cost, policy["doubt_percent"], policy["doubt_deviations"])
    judged = judge(cost, stock, currency_fits, belief, policy["doubt_percent"], policy["doubt_again"], usual)
    tiers: dict[int, str | None] = {}
    if data.tiers is not None:
        believed = np.flatnonzero(np.isin(judged.verdict, (Verdict.good, Verdict.same)))
        items = list(zip(known.ids[places[believed]].tolist(), cost[believed].tolist(), strict=True))
        tiers = ingest.moved_tiers(context, supplier.id, items, [data.tiers[row] for row in rows[believed].tolist()])
    held_rows = (places[moved], cost[moved], stock[moved], ["held"] * len(moved))
    packs = _moved_packs(context, supplier, known, rows, places, data.packs)
    return SweepLook(known, rows, places, cost, stock, missing, held, held_rows, judged, tiers, packs)


def may_take(context: Context, sweep: Sweep, data: SweepData, seen: SweepLook) -> bool:
    """The first of what is written of a sweep: False where its feed stands still or it is held, and then that is told."""
    supplier = context.get(Supplier, sweep.supplier_id, "supplier")
    if not is_open(sweep):
        raise Conflict(f"the sweep of {supplier.name} took too long and was given up; another one has begun since")
    sweep.items, sweep.as_of, sweep.ended = len(data.numbers), data.as_of, context.now
    if supplier.feed_as_of and data.as_of <= supplier.feed_as_of:
        sweep.state = SWEEP.step(sweep.state, "stand_still")
        sweep.message = f"the feed stands still since {house_days.moment_text(context, supplier.feed_as_of)}"
        seen.held_rows = seen.held_rows[0][:0], seen.held_rows[1][:0], seen.held_rows[2][:0], []
        grow_old(context, supplier)
        return False
    supplier.feed_as_of = data.as_of
    if seen.held:
        _hold(context, sweep, seen.held, len(seen.held_rows[0]))
        grow_old(context, supplier)
    return not seen.held


def write_part(context: Context, sweep: Sweep, seen: SweepLook, part: Ints, missing: Ints) -> tuple[Ints, set[int]]:
    """Write what a part of a sweep says, as far as nobody settled an item of it since. Returns changed items, and SKUs whose lanes shut."""
    supplier = context.get(Supplier, sweep.supplier_id, "supplier")
    part = part[unmoved(context, seen.known, seen.places[part])]
    missing = missing[unmoved(context, seen.known, missing)]
    verdict, doubt_seen = seen.judged.verdict[part], seen.judged.doubt_seen[part]
    places = seen.places[part]
    changed = believe(context, sweep, seen.known, places, seen.cost[part], seen.stock[part], verdict, doubt_seen, missing)
    mine = seen.known.ids[places].tolist()
    tiers = [number for number in mine if number in seen.tiers]
    bulk_update(context.session, Item, ("tiers",), [(seen.tiers[number], number) for number in tiers])
    changed = np.union1d(changed, np.array(tiers, dtype=np.int64))
    packs = [(number, *seen.packs[number]) for number in mine if number in seen.packs]
    bulk_update(context.session, Item, ("pack_size",), [(pack, number) for number, _, pack in packs])
    shut = validity.shut_for_packs(context, supplier, packs)
    context.session.flush()
    return changed, shut | validity.look_at_costs(context, supplier, changed.tolist())


def finish(context: Context, sweep: Sweep, seen: SweepLook, changed: Ints, shut: set[int], respond_here: bool = True) -> dict[str, int]:
    """The last of what is written of a sweep, and what follows for listings. respond_here: else somebody else sees to these.

    Returns how many decisions of each kind came of it, filled in once the transaction ends.
    """
    supplier = context.get(Supplier, sweep.supplier_id, "supplier")
    if not len(changed) and is_open(sweep) and (reason := silent_feeds.message(context, supplier)):
        sweep.state, sweep.message, sweep.held = SWEEP.step(sweep.state, "stand_still"), reason, {"same": True}
        grow_old(context, supplier)
        return {}
    # Given up while its portions were written, it stays so; what it said holds all the same, and listings follow.
    if is_open(sweep):
        sweep.state = SWEEP.step(sweep.state, "take")
    supplier.good_sweep_at = context.now
    if supplier.stale:
        supplier.stale = False
        changed = seen.known.ids
    context.session.flush()
    counts = _respond(context, sweep, supplier, changed, shut) if respond_here else {}
    if shut:
        # Orders that wait for these lanes are told, or go by a spare.
        context.reroute()
    return counts


def written(seen: SweepLook) -> Bools:
    """Rows of a sweep that change anything."""
    moved = seen.tiers.keys() | seen.packs.keys()
    back = np.array([seen.known.offer[place] != "good" for place in seen.places.tolist()], dtype=np.bool_)
    other = np.isin(seen.known.ids[seen.places], np.fromiter(moved, np.int64, len(moved)))
    return np.asarray((seen.judged.verdict != Verdict.same) | back | other, dtype=np.bool_)


def _reported_gone(known: Known, numbers: Sequence[str]) -> Ints:
    places = {known.place[number] for number in numbers if number in known.place}
    return np.array(sorted(place for place in places if known.offer[place] != "gone"), dtype=np.int64)


def _moved_packs(
    context: Context, supplier: Supplier, known: Known, rows: Ints, places: Ints, packs: Sequence[int]
) -> dict[int, tuple[int, int]]:
    """Items that come in another pack now, with the old one and the new."""
    if not packs:
        return {}
    was = dict(context.session.execute(select(Item.id, Item.pack_size).where(Item.supplier_id == supplier.id)).tuples().all())
    pairs = zip(known.ids[places].tolist(), (packs[row] for row in rows.tolist()), strict=True)
    return {number: (was[number], pack) for number, pack in pairs if pack > 0 and pack != was[number]}


def _agreed(context: Context, supplier: int, held: SweepHold, again: int) -> bool:
    """Whether the last sweeps were all held for the same reason: then it is the truth."""
    last = context.session.scalars(
        select(Sweep).where(Sweep.supplier_id == supplier, Sweep.state != SweepState.running).order_by(Sweep.id.desc()).limit(again)
    ).all()
    return len(last) == again and all(one.state == SweepState.held and (one.held or {}).get("reason") == held.reason for one in last)


def _hold(context: Context, sweep: Sweep, held: SweepHold, changes: int) -> None:
    sweep.state, sweep.changes = SWEEP.step(sweep.state, "hold"), changes
    share = held.fell_to_zero * 100 // max(held.of, 1)
    sweep.message = (
        f"{share} % of {held.of} items fell to zero or were gone at once"
        if held.reason == "zero"
        else f"the median cost moved by {held.median_move / 10_000:.0f} %"
    )
    sweep.held = {"reason": held.reason, "fell": held.fell_to_zero, "of": held.of, "median_move": held.median_move}


def _respond(
    context: Context, sweep: Sweep, supplier: Supplier, changed: Ints, shut: set[int] | None = None, alone: bool = True
) -> dict[str, int]:
    """Respond for every SKU behind a changed item, and for listings of this supplier that wait to come back.

    alone: nobody has looked at the sweep; a held one that a person uses after all waits for nobody.
    """
    skus, waiting = skus_behind(context, supplier, changed)
    counts: dict[str, int] = {}
    if skus or waiting or shut:
        story = {"on": supplier.name, "reason": f"{sweep.changes} items of {supplier.name} changed"}
        every = {*skus, *waiting, *(shut or ())}
        context.reprice(every, sweep=sweep.id, counted=True, items=skus, alone=alone, story=story, then=counts.update)
    return counts


def skus_behind(context: Context, supplier: Supplier, changed: Ints) -> tuple[dict[int, int], set[int]]:
    """SKUs by whose open lanes items are sold, each with its item; and those of this supplier that are off sale until stock comes back."""
    skus: dict[int, int] = {}
    if len(changed) > MANY:
        sku, item = lane_pairs(context.session)
        moved = np.isin(item, changed)
        skus = dict(zip(sku[moved].tolist(), item[moved].tolist(), strict=True))
    for chunk in in_chunks(changed.tolist()) if len(changed) <= MANY else ():
        query = select(Lane.sku_id, LanePart.item_id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.closed_at.is_(None))
        skus |= dict(context.session.execute(by_items(query.where(LanePart.item_id.in_(chunk)))).tuples().all())
    mine = (
        select(Lane.id).where(Lane.sku_id == Listing.sku_id, Lane.supplier_id == supplier.id, Lane.closed_at.is_(None)).correlate(Listing)
    )
    return skus, set(
        context.session.scalars(by_index(select(Listing.sku_id).where(IS_OUT_OF_STOCK, mine.exists()), Listing, "ix_listing_out"))
    )


def step_on(context: Context) -> None:
    """Prices that a day's largest step held back go on when a new day of theirs has begun."""
    day_ago = context.now - timedelta(hours=24)
    skus = set(
        context.session.scalars(
            select(Listing.sku_id).where(Listing.set_by == SetBy.step, Listing.state == ListingState.live, Listing.step_at <= day_ago)
        )
    )
    if skus:
        act = context.log("watch.step", "prices", "a day has passed: the next step", reason="the largest step is a day's")
        context.reprice(skus, act=act.id, then=partial(_tell_step, context, act))


def _tell_step(context: Context, act: AuditEntry, counts: dict[str, int]) -> None:
    if story := tell_counts(counts):
        act.message, act.count = f"a day has passed, the next step: {story}", sum(counts.values())
    else:
        context.session.delete(act)


def settle_held(context: Context, number: int, believe: bool) -> dict[str, int]:
    """A person's word on a held sweep: use it after all, or keep the last good values. Returns what came of it, as `finish` does."""
    sweep = context.get(Sweep, number, "sweep")
    if sweep.state != SweepState.held:
        raise Conflict("this sweep is not held any more; nothing was changed")
    supplier = context.get(Supplier, sweep.supplier_id, "supplier")
    sweep.state = SWEEP.step(sweep.state, "release" if believe else "set_aside")
    context.log(
        "watch.held",
        supplier.name,
        f"{supplier.name}: held sweep {'used after all' if believe else 'set aside, last good values stand'}",
        reason=sweep.message,
    )
    if not believe:
        # The older ones of the same run are settled by the same word.
        context.session.execute(
            update(Sweep)
            .where(Sweep.supplier_id == supplier.id, Sweep.state == SweepState.held, Sweep.id < number)
            .values(state=SWEEP.target("set_aside"))
        )
        return {}
    rows = context.session.scalars(select(Sighting).where(Sighting.sweep_id == number, Sighting.verdict == "held")).all()
    at = to_ms(context.now)
    good = [row for row in rows if row.cost > 0 and row.stock >= 0]
    bulk_update(
        context.session,
        Item,
        ("cost", "stock", "offer", "seen_at", "changed_at"),
        [(r.cost, r.stock, "good", at, at, r.item_id) for r in good],
    )
    bulk_update(context.session, Sighting, ("verdict",), [("good", row.id) for row in good])
    supplier.good_sweep_at = context.now
    context.session.flush()
    return _respond(context, sweep, supplier, np.array([row.item_id for row in good], dtype=np.int64), alone=False)


def settle_doubt(context: Context, number: int, believe: bool) -> None:
    """A person's word on a doubted sighting."""
    item = context.get(Item, number, "item")
    if item.offer != "doubted":
        raise Conflict("this item is not in doubt any more; nothing was changed")
    if believe and item.doubt_cost <= 0:
        raise Conflict("what was seen cannot be used at all; keep the last good values")
    was = {"cost": item.cost, "stock": item.stock}
    if believe:
        item.cost, item.stock, item.changed_at = item.doubt_cost, max(item.doubt_stock, 0), context.now
    item.offer = "good"
    if believe:
        item.doubt_cost, item.doubt_stock, item.doubt_seen = -1, -1, 0
    else:
        item.doubt_seen = SET_ASIDE
    act = context.log(
        "watch.doubt",
        item.number,
        f"{item.title}: {'cost ' + show(item.cost, item.currency) + ' believed' if believe else 'doubt set aside'}",
        before=was,
        after={"cost": item.cost, "stock": item.stock},
    )
    context.session.flush()
    skus = set(
        context.session.scalars(
            select(Lane.sku_id).join(LanePart, LanePart.lane_id == Lane.id).where(LanePart.item_id == number, Lane.closed_at.is_(None))
        )
    )
    if skus:
        context.reprice(skus, act=act.id, items=dict.fromkeys(skus, number))
    # Orders that the doubt held go on, or by the cost that is true now.
    context.reroute()


def take_back(context: Context, sweep: int | None = None, responses: Sequence[int] = ()) -> int:
    """A person takes responses back: single ones, or all of a sweep. Returns how many; in the log."""
    n = undo_responses(context, sweep=sweep, responses=responses)
    context.log("watch.undo", f"{n} responses", f"{n} response{'' if n == 1 else 's'} taken back, the old values go out again", count=n)
    return n


def item_history(context: Context, item: int, since: datetime) -> list[tuple[datetime, int, int]]:
    """What we believed of an item since then: (time, cost, stock), beginning with what held at that time."""
    rows = context.session.scalars(
        select(Sighting)
        .where(Sighting.item_id == item, Sighting.at >= since, Sighting.verdict.in_(("good", "gone")))
        .order_by(Sighting.at, Sighting.id)
    ).all()
    now = context.get(Item, item, "item")
    first = (rows[0].old_cost, rows[0].old_stock) if rows and rows[0].old_cost > 0 else (now.cost, now.stock)
    return [(since, *first), *((row.at, row.cost, row.stock) for row in rows)]


def was_swept(context: Context, supplier: int) -> bool:
    return context.session.scalar(select(Sweep.id).where(Sweep.supplier_id == supplier).limit(1)) is not None


def since(context: Context, supplier: int, begun: datetime, most: int = 90) -> Sequence[Sweep]:
    """A supplier's sweeps since then, the newest first."""
    rows = select(Sweep).where(Sweep.supplier_id == supplier, Sweep.started >= begun)
    return context.session.scalars(rows.order_by(Sweep.id.desc()).limit(most)).all()


def written_by(context: Context, sweep: int, most: int = 200) -> list[tuple[Sighting, Item]]:
    """The sightings that a sweep wrote, with their items."""
    rows = select(Sighting, Item).join(Item, Item.id == Sighting.item_id).where(Sighting.sweep_id == sweep)
    return list(context.session.execute(rows.order_by(Sighting.id).limit(most)).tuples())


def doubted(context: Context, most: int = 500) -> list[tuple[Item, str]]:
    """Items in doubt, with their suppliers' names."""
    rows = select(Item, Supplier.name).join(Supplier, Supplier.id == Item.supplier_id).where(IS_DOUBTED)
    return list(context.session.execute(rows.order_by(Item.number).limit(most)).tuples())


def count_doubted(context: Context) -> int:
    rows = select(func.count()).select_from(Item).where(IS_DOUBTED)
    return context.session.scalar(by_index(rows, Item, "ix_item_doubted")) or 0


__all__ = [
    "SweepData",
    "begin",
    "fail",
    "grow_old",
    "item_history",
    "settle_doubt",
    "settle_held",
    "take_back",
    "take_sweep",
    "tell_counts",
]
