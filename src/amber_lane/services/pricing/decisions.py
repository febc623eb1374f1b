"""What was decided of listings is written: listings, responses and outbox in one transaction. One path for sweeps and people."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

import numpy as np
from sqlalchemy import select

from ...connectors.payloads import ListingPayload
from ...core import price as pricing
from ...core.currency import plain
from ...core.money import Bools, Ints
from ...core.price import NONE
from ...core.states import DecisionState
from ...core.stock import shown
from ...data.base import to_ms
from ...data.bulk import bulk_insert, bulk_update, in_chunks
from ...data.lanes import Lane
from ...data.shelf import Listing
from ...data.watch import ListingDecision
from ..base.context import Context
from ..outbox.listing_changes import words_due
from ..outbox.queue import batch_mark, put_listings
from .decide import CROWD, HOLD, KINDS, Decided
from .frame import MANY, PAUSED_BY, STATES, Book

_TERMS = ("landed", "reserve", "fee", "fee_least", "fee_cap", "fee_fixed", "payment", "payment_fixed", "tax")
_LIMITS = ("rule", "rule_value", "min_margin", "min_profit", "least_price", "ceiling", "old", "step")
_SUPPLY = ("goods", "ship", "handling", "risk", "rebate", "available")
_LISTING_COLUMNS = (
    "wanted_price", "wanted_quantity", "state", "paused_by", "steady", "lane_id", "landed", "profit", "net", "set_by", "outcome", "version",
    "step_price", "step_at",
)  # fmt: skip
_DECISION_COLUMNS = (
    "sweep_id", "audit_entry_id", "listing_id", "item_id", "at", "kind", "state", "old_price", "new_price", "old_quantity", "new_quantity",
    "old_state", "new_state", "set_by", "outcome", "terms",
)  # fmt: skip


def write(
    context: Context, book: Book, decided: Decided, sweep: int | None, act: int | None, items: dict[int, int], anew: Bools | None = None
) -> dict[str, int]:
    """Listings, responses and outbox rows of one decision, at the driver's speed. anew: what holds them is told with its new cause."""
    s, at = context.session, to_ms(context.now)
    tell = np.flatnonzero(decided.kind >= 0)
    same = _same_hold(book, decided) if anew is None else _same_hold(book, decided) & ~anew
    to_tell = tell[~((decided.kind[tell] == HOLD) & same[tell])]
    kept = pricing.proceeds(decided.price, book.terms)
    laned = book.lane > 0
    touched = np.flatnonzero(
        decided.changed
        | (decided.steady != book.steady)
        | (laned & (book.old_landed != book.landed))
        | (decided.priced.set_by != book.set_by)
        | (book.counted & (book.old_profit != kept.profit))
        | (laned == (book.old_landed == NONE))
        | (book.lane != book.had_lane)
    )
    if not s.info.get("write"):
        raise RuntimeError("a response is written only in a writing session")
    bulk_update(s, Listing, _LISTING_COLUMNS, _listing_rows(book, decided, kept, touched, at))
    _keep_with_lanes(context, book, kept, touched)
    _end_rests(context, book, decided)
    _end_waits(context, book, decided, to_tell)
    bulk_insert(s, ListingDecision, _DECISION_COLUMNS, _responses(book, decided, to_tell, sweep, act, items, at))
    _send(context, book, decided, np.flatnonzero(decided.changed))
    counts = np.bincount(decided.kind[to_tell], minlength=len(KINDS)).tolist() if len(to_tell) else [0] * len(KINDS)
    return {name: count for name, count in zip(KINDS, counts, strict=True) if count}


def _listing_rows(book: Book, decided: Decided, kept: pricing.Proceeds, touched: Ints, at: int) -> list[tuple[Any, ...]]:
    """In the order of _LISTING_COLUMNS, and the listing's number."""
    has_lane = (book.lane > 0)[touched].tolist()
    return list(
        zip(
            decided.price[touched].tolist(),
            decided.quantity[touched].tolist(),
            [STATES[i] for i in decided.state[touched].tolist()],
            [PAUSED_BY[i] for i in decided.paused_by[touched].tolist()],
            decided.steady[touched].tolist(),
            [i or None for i in book.lane[touched].tolist()],
            # Without a lane nobody knows what it costs.
            *(
                [value if has else None for value, has in zip(np.where(book.counted, column, 0)[touched].tolist(), has_lane, strict=True)]
                for column in (book.landed, kept.profit, kept.net)
            ),
            decided.priced.set_by[touched].tolist(),
            decided.priced.outcome[touched].tolist(),
            (book.version + decided.changed)[touched].tolist(),
            *_step_bases(book, decided, touched, at),
            book.ids[touched].tolist(),
            strict=True,
        )
    )


def _keep_with_lanes(context: Context, book: Book, kept: pricing.Proceeds, rows: Ints) -> None:
    """What a lane's first listing lands at and keeps stands with the lane too, so that lanes are put in order by it."""
    moved = np.setdiff1d(np.concatenate([book.lane[rows], book.had_lane[rows]]), np.zeros(1, dtype=np.int64))
    used, first = np.unique(book.lane, return_index=True)
    place = dict(zip(used.tolist(), first.tolist(), strict=True))
    figures = []
    for number in moved.tolist():
        row = place.get(number)
        known = row is not None and bool(book.counted[row])
        figures.append((int(book.landed[row]), int(kept.profit[row]), number) if known else (None, None, number))
    bulk_update(context.session, Lane, ("landed", "profit"), figures)


def _end_rests(context: Context, book: Book, decided: Decided) -> None:
    """What a person let rest follows again once something else is asked for it than was then."""
    asked = shown(book.available, book.policy["cap"], book.policy["cushion"])
    prices = np.flatnonzero((book.rest_price != NONE) & book.counted & (book.rest_price != decided.priced.price))
    stock = np.flatnonzero((book.rest_stock != NONE) & (book.rest_stock != asked))
    for name, rows in (("rest_price", prices), ("rest_stock", stock)):
        if len(rows):
            bulk_update(context.session, Listing, (name,), [(None, number) for number in book.ids[rows].tolist()])


def _end_waits(context: Context, book: Book, decided: Decided, to_tell: Ints) -> None:
    """What waited for a person waits no longer once its cause is gone, or is told anew."""
    query = select(ListingDecision.id, ListingDecision.listing_id).where(ListingDecision.state == DecisionState.waits)
    waiting = [row for part in of_book(book) for row in context.session.execute(query.where(*part))]
    if waiting:
        over = ~decided.waits
        over[to_tell] = True
        listings = set(book.ids[over].tolist())
        bulk_update(context.session, ListingDecision, ("state",), [("kept", number) for number, listing in waiting if listing in listings])


def _step_bases(book: Book, decided: Decided, rows: Ints, at: int) -> tuple[list[int], list[int | None]]:
    """From which price, and since when, a day's largest step is counted."""
    since = np.where((book.step_at == NONE) & (decided.price != book.wanted_price), at, book.step_at)[rows]
    return book.step_price[rows].tolist(), [None if value == NONE else value for value in since.tolist()]


def _same_hold(book: Book, decided: Decided) -> Bools:
    """A listing that was held before at the same cost is not told again."""
    return np.asarray((book.set_by == decided.priced.set_by) & (book.old_landed == book.landed) & ~decided.changed)


def _responses(
    book: Book, decided: Decided, rows: Ints, sweep: int | None, act: int | None, items: dict[int, int], at: int
) -> list[tuple[Any, ...]]:
    waits, changed = decided.waits[rows].tolist(), decided.changed[rows].tolist()
    states = ["waits" if w else "sent" if c else "kept" for w, c in zip(waits, changed, strict=True)]
    text = explanations(book, rows)
    m = len(rows)
    return list(
        zip(
            [sweep] * m,
            [act] * m,
            book.ids[rows].tolist(),
            [items.get(sku) for sku in book.sku[rows].tolist()],
            [at] * m,
            [KINDS[k] for k in decided.kind[rows].tolist()],
            states,
            book.wanted_price[rows].tolist(),
            decided.price[rows].tolist(),
            book.wanted_quantity[rows].tolist(),
            decided.quantity[rows].tolist(),
            [STATES[i] for i in book.state[rows].tolist()],
            [STATES[i] for i in decided.state[rows].tolist()],
            decided.priced.set_by[rows].tolist(),
            np.where(decided.crowd, CROWD, decided.priced.outcome)[rows].tolist(),
            text,
            strict=True,
        )
    )


def explanations(book: Book, rows: Ints) -> list[str]:
    """The terms and limits behind each row as JSON: all that is needed to work the price out again."""
    from_terms = [getattr(book.terms, name)[rows] for name in _TERMS]
    from_limits = [getattr(book.limits, name)[rows] for name in _LIMITS]
    from_supply = [getattr(book, name)[rows] for name in _SUPPLY]
    columns = [["null" if v == NONE else v for v in column.tolist()] for column in (*from_terms, *from_limits, *from_supply)]
    names = (*_TERMS, *_LIMITS, *_SUPPLY)
    ends = [json.dumps(book.endings.listed(i)) for i in range(book.endings.count)]
    layout = (
        "{" + ",".join(f'"{name}":%s' for name in names) + ',"endings":%s,"lane":%s,"cushion":%s,"cap":%s,"rebate_counts":%s,"rule_of":%s}'
    )
    source = _who_said(book, rows)
    tail = [
        [ends[i] for i in book.limits.endings[rows].tolist()],
        book.lane[rows].tolist(),
        book.policy["cushion"][rows].tolist(),
        book.policy["cap"][rows].tolist(),
        book.policy["rebate_counts"][rows].tolist(),
        source,
    ]
    # Where there is a lane and no rate, no cost stands behind what was done.
    unknown = ((book.lane > 0) & ~book.counted)[rows].tolist()
    return ["{}" if no else layout % row for no, row in zip(unknown, zip(*columns, *tail, strict=True), strict=True)]


def _who_said(book: Book, rows: Ints) -> list[str]:
    """Per row as JSON: which rule gave the value of each field."""
    fields = sorted(book.rules.source)
    if not fields:
        return ["{}"] * len(rows)
    columns = np.stack([book.rules.source[name][rows] for name in fields], axis=1)
    # Few listings differ in whose rules they fall under.
    kinds, which = np.unique(columns, axis=0, return_inverse=True)
    names = book.rules.names
    texts = [
        json.dumps({name: names[place] for name, place in zip(fields, kind, strict=True) if place >= 0}, ensure_ascii=False)
        for kind in kinds.tolist()
    ]
    return [texts[i] for i in which.reshape(-1).tolist()]


def _send(context: Context, book: Book, decided: Decided, rows: Ints) -> None:
    """One outbox row per changed listing; what waits there for it already is overtaken and dropped."""
    if not len(rows):
        return
    mark = batch_mark()
    due = words_due(context, book.ids[rows].tolist())
    changes = []
    for row, price, quantity, state in zip(
        rows.tolist(), decided.price[rows].tolist(), decided.quantity[rows].tolist(), decided.state[rows].tolist(), strict=True
    ):
        number, stock = int(book.ids[row]), bool(book.stock_on[row])
        change = ListingPayload(
            listing=number,
            sku=book.sku_code[row],
            currency=book.currency[row],
            price=plain(price, book.currency[row]) if book.prices_on[row] else None,
            quantity=quantity if stock else None,
            state=STATES[state] if stock else None,
            words=due.get(number),
        )
        changes.append((f"listing-{number}-{book.version[row] + 1}-{mark}", f"store:{book.store[row]}", change))
    put_listings(context, changes)


def of_book(book: Book) -> Iterable[tuple[Any, ...]]:
    """What narrows a look at responses to the listings of a book: those few by their numbers, very many not at all."""
    if len(book.ids) > MANY:
        return [()]
    return [(ListingDecision.listing_id.in_(chunk),) for chunk in in_chunks(book.ids.tolist())]
