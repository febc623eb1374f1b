"""What the listings of a book shall be: price, quantity, on sale or not. Sections 1 to 4 of the computation, without a database."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...core import price as pricing
from ...core.money import Bools, Ints
from ...core.numbers import PPM
from ...core.price import NONE, Outcome, SetBy
from ...core.stock import Draw, Presence, presence, share_out, shown
from .frame import STATES, Book
from .lane_costing import Parts

LIVE, PAUSED = 0, 1
BY_STOCK, BY_HOLD, BY_HAND = 1, 2, 3
HIDE, ZERO, LEAVE, END = 0, 1, 2, 3
# The outcome of a response whose price is fine but one of too many: a person is asked first.
CROWD = 4
NEVER = int(np.iinfo(np.int64).max)


@dataclass(frozen=True)
class Decided:
    """What each listing of a book shall be. kind: index into KINDS, -1 = nothing to tell."""

    price: Ints
    quantity: Ints
    state: Ints
    paused_by: Ints
    steady: Ints
    kind: Ints
    waits: Bools
    changed: Bools
    priced: pricing.Priced
    # Of what waits: prices that would be fine, if there were not so many of them.
    crowd: Bools


KINDS = ("reprice", "quantity", "pause", "resume", "keep", "hold", "end")
REPRICE, QUANTITY, PAUSE, RESUME, KEEP, HOLD, ENDED = range(7)


def decide(book: Book, counted: bool = True, frozen: Bools | None = None) -> Decided:
    """Sections 1 to 4 for a whole book. counted: whether this look counts as one of the steady sweeps of what a supplier has.

    frozen: rows whose price may not move before a person has said so.
    """
    n = len(book.ids)
    policy, laned = book.policy, book.lane > 0
    priced = pricing.solve(book.terms, book.limits, book.endings)
    priced = replace(priced, outcome=np.where(_no_ending(book, priced), Outcome.held, priced.outcome))
    fixed = book.hand_price != NONE
    ruled = priced.outcome != Outcome.no_rule
    # What a person let rest stays as it is for as long as the same is asked.
    rests = (book.rest_price != NONE) & (book.rest_price == priced.price)
    follow = (policy["follow_price"] == 1) & book.counted & ~fixed & ruled & ~rests & book.prices_on
    fine = (priced.outcome == Outcome.ok) & (priced.price != NONE)
    crowd = np.zeros(n, dtype=np.bool_) if frozen is None else frozen & follow & fine & (priced.price != book.wanted_price)
    fine &= ~crowd
    new_price = np.where(follow & fine, priced.price, book.wanted_price)
    new_price = np.where(fixed & book.prices_on, book.hand_price, new_price)
    at_new = pricing.proceeds(new_price, book.terms)
    losing = book.counted & (at_new.profit < 0)
    waits = follow & ~fine | fixed & losing & book.prices_on
    held_off = waits & ((losing & (policy["loss_pauses"] == 1)) | (policy["held_pauses"] == 1))

    # Where all lanes are shut nothing can be bought, so nothing is shown as if it could.
    stock_led = (policy["follow_stock"] == 1) & (laned | book.closed) & book.stock_on
    asked = shown(book.available, policy["cap"], policy["cushion"])
    stock_led &= (book.rest_stock == NONE) | (book.rest_stock != asked)
    quantity = np.where(stock_led, asked, book.wanted_quantity)
    quantity = _shared(book, quantity, stock_led)
    by_stock = (book.state == PAUSED) & (book.paused_by == BY_STOCK)
    # What a depot holds is counted there, by whatever look: none of its sweeps are waited for, since there are none.
    counts = book.ours | counted
    seen = _seen(book, quantity, by_stock, counts)
    steady = np.where(counts, seen.steady, book.steady)
    none_left = stock_led & (quantity <= policy["pause_at"]) & (book.state == LIVE)
    at_none = np.where(book.gone, policy["at_gone"], policy["at_none"])
    hide = none_left & ((at_none == HIDE) | (at_none == END))
    quantity = np.where(none_left & (at_none == LEAVE), book.wanted_quantity, quantity)
    resume = by_stock & seen.resume & stock_led & (quantity > policy["pause_at"])
    held_off &= book.stock_on
    back = (book.state == PAUSED) & (book.paused_by == BY_HOLD) & ~held_off & book.counted & book.stock_on

    state, paused_by = book.state.copy(), book.paused_by.copy()
    ends = hide & (at_none == END)
    state[hide], paused_by[hide] = PAUSED, BY_STOCK
    state[ends] = STATES.index("ended")
    state[resume], paused_by[resume] = LIVE, 0
    state[back & (quantity > policy["pause_at"])], paused_by[back] = LIVE, BY_STOCK
    paused_by[(state == LIVE)] = 0
    stop = held_off & (state == LIVE)
    state[stop], paused_by[stop] = PAUSED, BY_HOLD
    off = (state != LIVE) & (at_none != ZERO)
    quantity = np.where(off & stock_led & (paused_by == BY_STOCK), 0, quantity)

    changed = (new_price != book.wanted_price) | (quantity != book.wanted_quantity) | (state != book.state)
    kind = _kinds(book, new_price, quantity, state, changed, waits)
    kind[ends & changed] = ENDED
    return Decided(new_price, quantity, state, paused_by, np.where(book.stock_on, steady, book.steady), kind, waits, changed, priced, crowd)


def _seen(book: Book, quantity: Ints, by_stock: Bools, counts: Bools) -> Presence:
    """Whether each has been back for long enough, by what could be shown."""
    policy = book.policy
    room = np.maximum(book.available - policy["cushion"], 0)
    could = np.minimum(room, np.where(quantity > policy["pause_at"], room, quantity))
    sweeps = np.where(counts, policy["resume_sweeps"], NEVER)
    return presence(could, by_stock, book.steady, policy["pause_at"], policy["resume_at"], sweeps)


def _kinds(book: Book, new_price: Ints, quantity: Ints, state: Ints, changed: Bools, waits: Bools) -> Ints:
    """What kind of decision each is, as the log tells it; -1 = nothing to tell."""
    kind = np.full(len(book.ids), -1, dtype=np.int64)
    kind[(book.old_landed != NONE) & (book.old_landed != book.landed) & book.counted] = KEEP
    kind[changed & (quantity != book.wanted_quantity)] = QUANTITY
    kind[changed & (new_price != book.wanted_price)] = REPRICE
    kind[changed & (state == LIVE) & (book.state != LIVE)] = RESUME
    kind[waits] = HOLD
    kind[changed & (state == PAUSED) & (book.state == LIVE)] = PAUSE
    return kind


def _no_ending(book: Book, priced: pricing.Priced) -> Bools:
    """Prices that a step stops where no day brings them further: at an ending outside of the step, since none lies within it, or
    below what is asked at the one that they have already. A person looks at these."""
    old, step = book.limits.old, book.limits.step
    stepped = (priced.set_by == SetBy.step) & (priced.outcome == Outcome.ok) & (priced.price != NONE) & (old != NONE) & (step != NONE)
    base, share = np.where(stepped, old, 0), np.where(stepped, step, 0)
    high, low = base * (PPM + share) // PPM, -(-base * np.maximum(PPM - share, 0) // PPM)
    short = (priced.price == base) & (priced.needed > base)
    return np.asarray(stepped & ((priced.price < low) | (priced.price > high) | short), dtype=np.bool_)


def limited_to(book: Book, decided: Decided, rows: Bools) -> Decided:
    """The same decision for some rows; the others stay what they are, so that nothing is taken for shown that was never sent."""
    kind = np.where(rows, decided.kind, np.where(decided.kind == KEEP, KEEP, -1))
    return replace(
        decided,
        price=np.where(rows, decided.price, book.wanted_price),
        quantity=np.where(rows, decided.quantity, book.wanted_quantity),
        state=np.where(rows, decided.state, book.state),
        paused_by=np.where(rows, decided.paused_by, book.paused_by),
        steady=np.where(rows, decided.steady, book.steady),
        kind=kind,
        changed=decided.changed & rows,
    )


def _scarce(book: Book, quantity: Ints, order: Ints) -> Parts:
    """All parts of those rows that draw on an item of which there is not enough for all; who draws on nothing scarce shows what it asks.

    order: the rows that share, in the order of their turns.
    """
    drawn = book.parts.of_rows(order)
    items, place = np.unique(drawn.item, return_inverse=True)
    place = place.reshape(-1)
    asked = np.bincount(place, weights=-(-quantity[drawn.row] * drawn.num // drawn.den), minlength=len(items))
    turn = np.zeros(len(book.ids), dtype=np.int64)
    turn[order] = np.arange(len(order))
    # The cushion of whoever comes last at an item is kept back of it.
    by_turn = np.argsort(turn[drawn.row], kind="stable")
    there = np.zeros(len(items), dtype=np.int64)
    there[place[by_turn]] = np.maximum(book.lanes.free_of(drawn.item) - book.policy["cushion"][drawn.row], 0)[by_turn]
    short = drawn.row[(asked > there)[place]]
    return drawn.of_rows(np.unique(short))


def _shared(book: Book, quantity: Ints, led: Bools) -> Ints:
    """Listings that share an item are given its stock one unit at a time, best earners first."""
    several = np.unique(book.parts.shared().row)
    several = several[(book.policy["share"][several] == 1) & led[several]]
    if not len(several):
        return quantity
    order = several[np.lexsort((book.ids[several], -book.pace[several]))]
    drawn = _scarce(book, quantity, order)
    if not len(drawn.row):
        return quantity
    rows = np.unique(drawn.row)
    order, parts, free = order[np.isin(order, rows)].tolist(), drawn.of, book.lanes.free
    wanted, cushions = quantity.tolist(), book.policy["cushion"].tolist()
    draws = [Draw(wanted[row], parts[row]) for row in order]
    stock: dict[int, int] = {}
    for row in order:
        for item, _, _ in parts[row]:
            stock[item] = max(free[item] - cushions[row], 0)
    out = quantity.copy()
    for row, given in zip(order, share_out(stock, draws), strict=True):
        out[row] = given
    return out
