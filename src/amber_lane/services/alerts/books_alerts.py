"""Open troubles of the books: payouts that do not add up or do not come, fees that are not as set, suppliers that bill too much."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from urllib.parse import quote

from sqlalchemy import func, select

from ...core.currency import show
from ...core.numbers import PPM
from ...core.writing import decimals
from ...data.books import Settlement
from ...data.setup import Store
from ..base.context import Context
from ..base.errors import Conflict
from ..books import settlements, statements
from ..pricing import exchange_rates
from .alert import Alert, AlertKey, AlertStep, Cause, Doing, Source, acts

# A store that pays out every day or so is asked about after so long without a word.
LATE = timedelta(days=4)
VIEW = "/books?view=settled"
WORDS = {
    "higher": "is billed {more} above what it was ordered for",
    "lower": "is billed {more} below what it was ordered for",
    "double": "is billed twice, {more} too much",
    "unknown": "is billed at {more}, and no such order is here",
    "not_bought": "was refused or cancelled, and is billed at {more} all the same",
    "missing": "stands in no statement yet",
}


def _settlements(context: Context) -> Iterator[Alert]:
    """Settlements whose payout is not the sum of their rows, or with rows of no order."""
    worth = exchange_rates.HomeWorth(context)
    for one in settlements.overview(context, 60):
        told = settlements.told(context, one)
        if one.settled or not told:
            continue
        yield Alert(
            AlertKey("settlement", one.id),
            "books",
            "Payout",
            f"{one.store}, settlement {one.number}: {told}",
            "what a store pays out has to be the sum of its rows, and each row has to belong to an order",
            one.at,
            AlertStep("Take it as it is", act=True),
            worth.of(abs(one.gap) + abs(one.lost_sum), one.currency),
            other=AlertStep("See settlements", go=VIEW),
        )


@acts("settlement")
def _accept(do: Doing) -> None:
    settlements.accept(do.context, int(do.alert.key.about[0]))


def _fees(context: Context) -> Iterator[Alert]:
    """Stores that take another share than is set."""
    worth = exchange_rates.HomeWorth(context)
    for one in settlements.fees_differ(context):
        share = [decimals(ppm * 100 / PPM, 1) + " %" for ppm in (one.real_ppm, one.set_ppm)]
        yield Alert(
            AlertKey("fees", one.store, one.category),
            "books",
            "Fees",
            f"{one.store_name} takes {share[0]} in {one.category or 'all other categories'}, set are {share[1]}",
            f"by {one.orders} settled orders; set it so, and every price and profit follows",
            one.since,
            AlertStep("Set it so", go=f"/price?view=fees&store={one.store}&category={quote(one.category)}&takes={one.real_ppm / 10_000:g}"),
            worth.of(abs(one.a_day), one.currency),
            per_day=True,
            tone="loss" if one.a_day > 0 else "waits",
            other=AlertStep("See settlements", go=VIEW),
        )


def _late(context: Context) -> Iterator[Alert]:
    """Stores that owe us and have told of no payout for days."""
    owed = {name: (amount, currency) for name, currency, amount in settlements.balance(context) if amount > 0}
    newest = select(Store, func.max(Settlement.at)).join(Settlement, Settlement.store_id == Store.id).group_by(Store.id)
    worth = exchange_rates.HomeWorth(context)
    for store, at in context.session.execute(newest.where(Store.next_settled.is_not(None), Store.paused_at.is_(None))):
        if context.now - at < LATE or store.name not in owed:
            continue
        amount, currency = owed[store.name]
        yield Alert(
            AlertKey("payout", store.id),
            "books",
            "Payout",
            f"{store.name} has paid out nothing for {(context.now - at).days} days, and owes {show(amount, currency)}",
            "ask the store, or look whether its sales stopped",
            at,
            AlertStep("See settlements", go=VIEW),
            worth.of(amount, currency),
        )


def _billed(context: Context) -> Iterator[Alert]:
    """What suppliers' statements say otherwise than was ordered."""
    worth = exchange_rates.HomeWorth(context)
    for one in statements.odd(context):
        if one.claimed or one.what == "lower":
            continue
        claims = one.more > 0
        yield Alert(
            AlertKey("statement", one.supplier, one.reference),
            "books",
            "Bill",
            f"{one.reference} of {one.supplier_name} {WORDS[one.what].format(more=show(abs(one.more), one.currency))}",
            "by its statement",
            one.since,
            AlertStep("Ask for it", act=True) if claims else AlertStep("See statements", go=VIEW),
            worth.of(abs(one.more), one.currency),
            tone="loss" if claims else "waits",
            other=AlertStep("Accept it", act=True) if claims else None,
            cause=Cause(
                f"statement:{one.supplier}:{one.what}",
                f"{{n}} purchase orders of {one.supplier_name} are not billed as they were ordered",
                "by its statements",
                AlertStep("Ask for all {n}", act=True) if claims else AlertStep("See statements", go=VIEW),
                AlertStep("Accept all {n}", act=True) if claims else None,
            ),
        )


@acts("statement")
def _settle(do: Doing) -> object:
    supplier, reference = int(do.alert.key.about[0]), ":".join(str(one) for one in do.alert.key.about[1:])
    one = next((one for one in statements.odd(do.context) if (one.supplier, one.reference) == (supplier, reference)), None)
    if one is None:
        raise Conflict("this is done already")
    if do.other:
        statements.accept(do.context, supplier, reference)
        return None
    return statements.claim(do.context, supplier, reference)


SOURCES: dict[str, Source] = {"settlement": _settlements, "fees": _fees, "payout": _late, "statement": _billed}
