"""The rules by which prices are made: changed in a draft, seen before they are applied, applied to all or some."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import Select, case, func, select

from ...core import price
from ...core.explain import Explained, explain
from ...core.money import Ints
from ...core.price import NONE, Outcome, SetBy
from ...core.states import DECISION, DecisionState, ListingState
from ...core.writing import grouped
from ...data import moved, revisions
from ...data.base import by_index
from ...data.bulk import by_id, in_chunks, quiet
from ...data.lanes import LanePart
from ...data.outbox import AuditEntry
from ...data.prices import PriceRule
from ...data.shelf import HAS_HAND_UNTIL, Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision
from ..base import portions, undoing
from ..base.context import Context
from ..base.errors import Conflict, NotFound
from ..outbox.listing_changes import want
from .apply import Ask, respond_now, with_sharers
from .decide import CROWD, LIVE, PAUSE, RESUME, Decided, decide
from .decisions import explanations
from .drafts import Change, as_it_was
from .frame import Book, Raw, build, load, read, splice
from .inputs import Facts
from .rollback import as_before
from .rule_steps import Dip, dips

BINS = range(-10, 62, 2)
# What a person has to have seen before a change is made.
SEEN = ("rise", "fall", "pause", "resume")


def rules(context: Context) -> list[PriceRule]:
    """All price rules, widest scope first."""
    return list(context.session.scalars(select(PriceRule).order_by(PriceRule.scope, PriceRule.scope_key, PriceRule.band_from)))


@dataclass(frozen=True)
class WhatIf:
    """The whole catalogue under a draft. Columns of one entry per listing; counts and histogram over all."""

    book: Book
    decided: Decided
    now_margin: Ints
    then_margin: Ints
    counts: dict[str, int]
    # What a day earns more (or less) than now, and what it earns then, at the present pace; minor units.
    # In the house's currency; left_out: currencies that have no rate to it.
    a_day: int
    earns: int
    facts: Facts
    # Where the bands make a dearer item cheaper, with how many listings stand there.
    dips: list[Dip]
    left_out: list[str]


class Catalogue:
    """What was read of all listings for a what-if; of what changed since, those few SKUs are read anew."""

    # More changes than these are read quicker all at once.
    MANY = 20_000

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.kept: tuple[int, dict[str, int], Raw] | None = None

    def read(self, context: Context, facts: Facts) -> Raw:
        revisions.beside(context.session)
        with self.lock:
            n, counts = moved.newest(context.session), revisions.of(context.session)
            at = {table: counts.get(table, 0) for table in _BESIDE}
            if self.kept is not None and self.kept[:2] == (n, at):
                return self.kept[2]
            with quiet():
                skus = None if self.kept is None else moved.since(context.session, self.kept[0], self.MANY)
                if skus is None or self.kept is None:
                    raw = read(context, facts)
                else:
                    raw = splice(context, self.kept[2], facts, sorted({*skus, *self._ended(context, self.kept[2])}))
            self.kept = (n, at, raw)
            return raw

    def _ended(self, context: Context, raw: Raw) -> list[int]:
        """SKUs with a price by hand that held when they were read and does not any more."""
        ended = select(Listing.sku_id).where(HAS_HAND_UNTIL, Listing.hand_until > raw.now, Listing.hand_until <= context.now)
        return list(context.session.scalars(by_index(ended, Listing, "ix_listing_hand_until")))


# What decides beside SKUs themselves which lane fills a listing, and how much of it is promised already.
_BESIDE = ("store", "supplier", "service", "origin", "order_line", "purchase_order", "purchase_line")


def what_if(context: Context, change: Change | None, raw: Callable[[Facts], Raw] | None = None) -> WhatIf:
    """Work every price out as if a change were made (None: as things stand). Nothing is written.

    raw: where to get the rows from, if they were read already.
    """
    facts = Facts.read(context.session)
    draft = facts if change is None else change.lay(facts)
    rows = raw(facts) if raw else read(context, facts)
    real = build(rows, facts)
    book = real if change is None else build(rows, draft)
    # Prices are shown as they would be also where they are not written yet; how many of those there are is told.
    practice = ~book.prices_on
    book = replace(book, prices_on=np.ones(len(book.ids), dtype=np.bool_))
    decided = decide(book, counted=False)
    laned = book.counted & (book.hand_price == NONE)
    then_price = np.where(laned & ~decided.waits, decided.price, book.wanted_price)
    then, now = price.proceeds(then_price, book.terms), price.proceeds(real.wanted_price, real.terms)
    held = decided.waits & laned
    counts = {
        "listings": int(laned.sum()),
        "rise": int((laned & (then_price > book.wanted_price)).sum()),
        "fall": int((laned & (then_price < book.wanted_price)).sum()),
        "practice": int((practice & laned & (then_price != book.wanted_price)).sum()),
        "ceiling": int((laned & (decided.priced.set_by == SetBy.ceiling)).sum()),
        "step": int((laned & (decided.priced.set_by == SetBy.step)).sum()),
        "floor": int((laned & ~np.isin(decided.priced.outcome, (Outcome.ok, Outcome.no_rule))).sum()),
        "loss": int((laned & (then.profit < 0)).sum()),
        "held": int(held.sum()),
        "pause": int((decided.kind == PAUSE).sum()),
        "resume": int((decided.kind == RESUME).sum()),
    }
    found = dips(draft, book)
    counts["dips"] = sum(one.listings for one in found)
    gain, left_out = draft.in_home(np.where(laned & real.counted, (then.profit - now.profit) * book.pace, 0), book.currency)
    earns, also = draft.in_home(np.where(laned & (book.state == LIVE), then.profit * book.pace, 0), book.currency)
    before = np.where(real.counted, _margin(now), NONE)
    return WhatIf(book, decided, before, _margin(then), counts, gain, earns, draft, found, sorted({*left_out, *also}))


def _margin(kept: price.Proceeds) -> Ints:
    """Margin in tenths of a percent; NONE where nothing is left after tax."""
    return np.where(kept.net > 0, (2 * kept.profit * 1000 + kept.net) // np.maximum(2 * kept.net, 1), NONE)


def histogram(margins: Ints, rows: Ints) -> list[int]:
    """Listings per two percent of margin; what lies outside is counted at the ends."""
    values = np.clip(margins[rows] // 10, BINS[0], BINS[-1])
    return np.bincount((values - BINS[0]) // 2, minlength=len(BINS)).tolist() if len(values) else [0] * len(BINS)


def apply(
    context: Context, change: Change, seen: dict[str, int], only: set[int] | None, leave: Collection[int] = (), view: WhatIf | None = None
) -> dict[str, int]:
    """Put a drafted change in force and let all listings follow, or only those picked, or all but those left.

    `seen`: the counts the person saw; Conflict when they no longer hold, so that nothing unseen is done. view: what the change does,
    where it was just worked out, so that nobody waits for that. Returns how many decisions of each kind came of it, filled in once the
    transaction ends.
    """
    view = view or what_if(context, change)
    if any(view.counts[name] != seen.get(name, 0) for name in SEEN):
        raise Conflict("costs have moved since you looked; look at the new figures before you apply")
    if leave:
        only = (set(view.book.ids.tolist()) if only is None else only) - set(leave)
    act = change.keep(context)
    moved = [f"{view.counts[name]} {name}" for name in ("rise", "fall", "pause", "resume") if view.counts[name]]
    if view.counts["practice"]:
        moved.append(f"{view.counts['practice']} of them only here, since their prices are not written yet")
    act.message = f"{act.message}: {', '.join(moved) or 'no price moves'}"
    act.after = {**(act.after or {}), "picked": None if only is None else len(only)}
    context.session.flush()
    counts: dict[str, int] = {}
    context.reprice(None, act=act.id, only=only, seen=True, then=counts.update)
    return counts


def restore(context: Context, act: AuditEntry) -> None:
    """Undo a kept change: what stood before, and the prices that follow from it."""
    back = as_it_was(act).keep(context)
    context.session.flush()
    context.reprice(None, act=back.id, seen=True)


def items_behind(context: Context, listing: Listing) -> list[tuple[int, str]]:
    """The supplier items of the lane that fills a listing: id and number."""
    parts = select(Item.id, Item.number).join(LanePart, LanePart.item_id == Item.id).where(LanePart.lane_id == (listing.lane_id or 0))
    return list(context.session.execute(parts.order_by(LanePart.id)).tuples())


def explain_price(context: Context, listing_id: int) -> tuple[Listing, Sku, Explained | None]:
    """Why a listing costs what it costs, worked out now from what we believe now."""
    listing = context.get(Listing, listing_id, "listing")
    sku = context.get(Sku, listing.sku_id, "SKU")
    book = load(context, with_sharers(context, {sku.id}), preparing=listing.state == ListingState.preparing)
    rows = np.flatnonzero(book.ids == listing_id)
    if not len(rows) or not book.counted[rows[0]]:
        return listing, sku, None
    return listing, sku, explain(json.loads(explanations(book, rows)[0]), listing.wanted_price, listing.currency)


def explain_decision(context: Context, number: int) -> tuple[ListingDecision, Listing, Sku, Explained]:
    """Why a response was what it was, from the terms it kept."""
    response = context.get(ListingDecision, number, "response")
    listing = context.get(Listing, response.listing_id, "listing")
    if "landed" not in (response.terms or {}):
        raise NotFound("nothing is known of the terms of this decision")
    return (
        response,
        listing,
        context.get(Sku, listing.sku_id, "SKU"),
        explain(response.terms, response.new_price, listing.currency, response.old_price),
    )


def waiting(context: Context, set_by: int, outcome: int) -> list[int]:
    """Responses that wait for the same reason."""
    query = select(ListingDecision.id).where(
        ListingDecision.state == DecisionState.waits, ListingDecision.set_by == set_by, ListingDecision.outcome == outcome
    )
    return list(context.session.scalars(query))


def crowd(context: Context) -> list[int]:
    """Responses that wait only since too many prices moved at once."""
    return list(
        context.session.scalars(
            select(ListingDecision.id).where(ListingDecision.state == DecisionState.waits, ListingDecision.outcome == CROWD)
        )
    )


def answer_waiting(context: Context, numbers: Iterable[int], approve: bool) -> int:
    """A person's word on responses that wait: take the best price there is, or leave the listing as it is. Can be undone.

    Very many are settled in portions that follow. Returns how many.
    """
    chosen = [row for chunk in in_chunks(numbers) for row in context.session.scalars(_still_waiting(chunk))]
    if not chosen:
        raise Conflict("nothing of this waits any more")
    if len(chosen) <= portions.AT_ONCE:
        return _settle(context, {"approve": approve}, chosen)
    title = f"{'Approving' if approve else 'Leaving'} {grouped(len(chosen))} waiting decisions"
    portions.enter(context, "settle", title, {"approve": approve}, portions.cut(chosen), len(chosen))
    return len(chosen)


def _still_waiting(numbers: Sequence[int]) -> Select[int]:
    return (
        select(ListingDecision.id)
        .where(ListingDecision.id.in_(numbers), ListingDecision.state == DecisionState.waits)
        .order_by(ListingDecision.id)
    )


@portions.work("settle")
def _settle(context: Context, body: dict[str, Any], part: Sequence[int]) -> int:
    approve = body["approve"]
    rows = [row for row in by_id(context.session, ListingDecision, part).values() if row.state == DecisionState.waits]
    if not rows:
        return 0
    done, word = len(rows), "approved" if approve else "left as they are"
    after = {"responses": [row.id for row in rows]}
    act = context.log_part(
        "response.settle", "responses", lambda n: f"{grouped(n)} waiting decision{'s' if n > 1 else ''} {word}", after, done
    )
    message = act.message
    many = [row for row in rows if row.outcome == CROWD]
    for row in rows:
        row.state = DECISION.step(row.state, "settle")
    context.session.flush()
    if approve and many:
        # Their prices are fine: they go as they would have gone, however many there are.
        listings = by_id(context.session, Listing, (row.listing_id for row in many))
        skus = {one.sku_id for one in listings.values()}
        respond_now(context, Ask(act=act.id, seen=True), skus, {}, set(listings))
    if approve:
        _take_best(context, [row for row in rows if row.outcome != CROWD], act.id)
        context.session.flush()
        act.message = f"{message}: {what_moved(context, act.id)}"
    return done


def what_moved(context: Context, act: int) -> str:
    """What an act really did to prices: how many rose and how many fell."""
    rise, fall = context.session.execute(
        select(
            func.sum(case((ListingDecision.new_price > ListingDecision.old_price, 1), else_=0)),
            func.sum(case((ListingDecision.new_price < ListingDecision.old_price, 1), else_=0)),
        ).where(ListingDecision.audit_entry_id == act, ListingDecision.state == DecisionState.sent)
    ).one()
    parts = [
        f"{n} {'rises' if n == 1 else 'rise'}" if up else f"{n} {'falls' if n == 1 else 'fall'}"
        for n, up in ((rise, True), (fall, False))
        if n
    ]
    return ", ".join(parts) or "no price moves"


def review(context: Context) -> None:
    """What waits since many moved at once is worked out anew: what would not move now waits no longer."""
    listings = select(ListingDecision.listing_id).where(ListingDecision.state == DecisionState.waits, ListingDecision.outcome == CROWD)
    skus = set(context.session.scalars(select(Listing.sku_id).where(Listing.id.in_(listings))))
    if skus:
        context.reprice(skus, alone=True)


def reopen_waiting(context: Context, act: AuditEntry) -> None:
    """Undo a word on what waited: prices that went out go back, what was off sale is so again, and all of it waits as before."""
    settled = by_id(context.session, ListingDecision, (act.after or {})["responses"]).values()
    mine = {row.listing_id for row in settled}
    sent = select(ListingDecision.listing_id).where(ListingDecision.audit_entry_id == act.id, ListingDecision.state == DecisionState.sent)
    changed = mine & {
        number for chunk in in_chunks(mine) for number in context.session.scalars(sent.where(ListingDecision.listing_id.in_(chunk)))
    }
    as_before(context, act.id, {row.sku_id for row in by_id(context.session, Listing, mine).values()})
    for listing in by_id(context.session, Listing, changed).values():
        if listing.state == ListingState.paused and not listing.paused_by:
            listing.paused_by = "hold"
    for row in settled:
        row.state = DECISION.step(row.state, "unsettle")


def _take_best(context: Context, rows: list[ListingDecision], act: int) -> None:
    """What a ceiling or a step stands in the way of: the best price there is, although it breaks a limit."""
    rows = [row for row in rows if row.set_by in (SetBy.ceiling, SetBy.step)]
    if not rows:
        return
    listings = by_id(context.session, Listing, (row.listing_id for row in rows))
    book = load(context, with_sharers(context, {one.sku_id for one in listings.values()}))
    best = decide(book, counted=False).priced
    place = dict(zip(book.ids.tolist(), range(len(book.ids)), strict=True))
    for row in rows:
        at = place.get(row.listing_id)
        if at is not None and book.counted[at] and int(best.price[at]) != NONE and int(best.outcome[at]) != Outcome.no_price:
            listing = listings[row.listing_id]
            row.state, row.audit_entry_id = DECISION.step(row.state, "send"), act
            row.old_price, row.new_price = listing.wanted_price, int(best.price[at])
            row.old_state, row.old_quantity = listing.state, listing.wanted_quantity
            want(context, listing, price=row.new_price, state="live" if listing.paused_by == "hold" else None)
            listing.paused_by = "" if listing.paused_by == "hold" else listing.paused_by


@undoing.undoes("response.settle")
def undo_response_settle(context: Context, act: AuditEntry) -> None:
    reopen_waiting(context, act)


@undoing.undoes("rule.change", "policy.change", "fees.change", "terms.change", "rate.change", whole=True)
def undo_rule_change(context: Context, act: AuditEntry) -> None:
    restore(context, act)


def decisions_of(context: Context, listing: int, since: datetime) -> Sequence[ListingDecision]:
    """What was sent or settled for a listing since then, in the order of time."""
    mine = (
        ListingDecision.listing_id == listing,
        ListingDecision.state.in_((DecisionState.sent, DecisionState.kept)),
        ListingDecision.at >= since,
    )
    return context.session.scalars(select(ListingDecision).where(*mine).order_by(ListingDecision.at)).all()


def titles(context: Context, listings: Sequence[int]) -> dict[int, str]:
    return dict(context.session.execute(select(Listing.id, Listing.title).where(Listing.id.in_(listings))).tuples().all())
