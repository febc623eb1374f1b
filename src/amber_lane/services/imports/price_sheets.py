"""The price sheet: prices by hand with their end and reason, least prices and ceilings of single listings."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import numpy as np
from sqlalchemy import select

from ...core.currency import parse_money, plain, show
from ...core.price import proceeds
from ...core.states import ListingState
from ...core.writing import grouped
from ...data.bulk import by_id
from ...data.outbox import AuditEntry
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ..base import house_days, undoing
from ..base.context import Context
from ..base.import_frame import Checked, KnownNames, Row, each, need
from ..pricing.frame import load

FIELDS = ("hand_price", "hand_until", "hand_reason", "least_price", "ceiling")
# A sheet of so many can be taken back as one.
NONE_WORDS = ("none", "-")


@dataclass(frozen=True)
class PriceWanted:
    """What a row asks of one listing: the fields that it names."""

    listing: int
    values: dict[str, Any]


def check(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    """price: a price by hand, or 'rule' to let the rule set it again; least_price and ceiling: an amount, or 'none'. An empty
    cell changes nothing. A price that would lose money is refused, as it is by hand."""
    names, out = KnownNames(context), Checked()
    query = select(Listing, Sku.code).join(Sku, Sku.id == Listing.sku_id).where(Listing.state.in_((ListingState.live, ListingState.paused)))
    known = {(one.store_id, code): one for one, code in context.session.execute(query)}
    book = load(context)
    place = dict(zip(book.ids.tolist(), range(len(book.ids)), strict=True))
    taken: set[int] = set()
    priced: list[tuple[Row, Listing, str, dict[str, Any]]] = []

    def read(row: Row) -> None:
        store, code = names.store(row), need(row, "sku")
        one = known.get((store.id, code))
        if one is None:
            raise ValueError(f"sku: {code} is not on sale in {store.name}")
        if one.id in taken:
            raise ValueError(f"sku: {code} stands twice for {store.name}")
        values = _values_in(context, row, one)
        if not values:
            # A row that says nothing of its own is how nearly all stand.
            out.add("same", None, "")
            return
        taken.add(one.id)
        priced.append((row, one, code, values))

    each(rows, progress, out, read)
    prices = book.wanted_price.copy()
    for _, one, _, values in priced:
        if values.get("hand_price") is not None and one.id in place:
            prices[place[one.id]] = values["hand_price"]
    profit = proceeds(prices, book.terms).profit if len(book.ids) else np.zeros(0, dtype=np.int64)
    for row, one, code, values in priced:
        at = place.get(one.id)
        same = all(getattr(one, name) == value for name, value in values.items() if name != "hand_reason")
        if values.get("hand_price") is not None and not same and at is not None and book.counted[at] and profit[at] < 0:
            message = f"price: at {show(values['hand_price'], one.currency)} every sale loses {show(-int(profit[at]), one.currency)}"
            out.refuse(row, message)
            continue
        kind = "same" if same else "new" if values.get("hand_price") and one.hand_price is None else "changed"
        out.add(kind, PriceWanted(one.id, values), f"{code}: {_message(values, one.currency)}")
    return out


def _values_in(context: Context, row: Row, one: Listing) -> dict[str, Any]:
    """What a row says of a listing, by the listing's own columns."""
    values: dict[str, Any] = {}
    for name, column in (("price", "hand_price"), ("least_price", "least_price"), ("ceiling", "ceiling")):
        text = (row.get(name) or "").strip()
        if text.lower() in (("rule", *NONE_WORDS) if name == "price" else NONE_WORDS):
            values[column] = None
        elif text:
            amount = parse_money(text, one.currency, name)
            if not 1 <= amount <= 100_000_000:
                raise ValueError(f"{name}: {text} must lie between {plain(1, one.currency)} and {plain(100_000_000, one.currency)}")
            values[column] = amount
    if "hand_price" in values:
        values["hand_until"] = _until(context, row) if values["hand_price"] is not None else None
        values["hand_reason"] = (row.get("reason") or "by a sheet")[:300] if values["hand_price"] is not None else ""
    low, high = (values.get(name, getattr(one, name)) for name in ("least_price", "ceiling"))
    if low is not None and high is not None and low > high:
        raise ValueError(f"least_price: {plain(low, one.currency)} is above the ceiling of {plain(high, one.currency)}")
    return values


def _until(context: Context, row: Row) -> datetime | None:
    text = (row.get("until") or "").strip()
    if not text:
        return None
    try:
        day = house_days.end(context, date.fromisoformat(text[:10]))
    except ValueError:
        raise ValueError(f"until: {text!r} is not a day such as 2026-12-31") from None
    if day <= context.now:
        raise ValueError(f"until: {text} is over")
    return day


def _message(values: dict[str, Any], currency: str) -> str:
    words = {"hand_price": "price by hand", "least_price": "least price", "ceiling": "ceiling"}
    parts = []
    for name, label in words.items():
        if name in values:
            value = values[name]
            given = show(value, currency) if value is not None else ("let the rule set it" if name == "hand_price" else "none")
            parts.append(f"{label} {given}" if value is not None or name != "hand_price" else given)
    return ", ".join(parts)


def apply_sheet(context: Context, checked: Checked) -> int:
    """The good rows at once; listings follow in the same step."""
    rows: list[PriceWanted] = checked.good
    if not rows:
        return 0
    listings = by_id(context.session, Listing, (one.listing for one in rows))
    before = [[one.listing, _kept(listings[one.listing])] for one in rows]
    for one in rows:
        for name, value in one.values.items():
            setattr(listings[one.listing], name, value)
    n = len(rows)
    act = context.log_part(
        "price.sheet", "prices", lambda n: f"prices of {grouped(n)} listings set by a sheet", {}, n, {"listings": before}
    )
    context.session.flush()
    context.reprice({row.sku_id for row in listings.values()}, act=act.id, seen=True)
    return n


def _kept(row: Listing) -> dict[str, Any]:
    out: dict[str, Any] = {name: getattr(row, name) for name in FIELDS}
    out["hand_until"] = row.hand_until.isoformat() if row.hand_until else None
    return out


def take_back(context: Context, act: AuditEntry) -> None:
    """Undo a price sheet: each listing's own prices and limits as they were."""
    was = {int(number): values for number, values in (act.before or {})["listings"]}
    listings = by_id(context.session, Listing, was)
    for number, row in listings.items():
        for name in FIELDS:
            value = was[number][name]
            setattr(row, name, datetime.fromisoformat(value) if name == "hand_until" and value else value)
    context.session.flush()
    context.reprice({row.sku_id for row in listings.values()}, act=act.id, seen=True)


def out_rows(context: Context) -> Iterator[list[Any]]:
    """Every listing on sale with what stands of its own."""
    query = (
        select(Store.name, Sku.code, Listing)
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Store, Store.id == Listing.store_id)
        .where(Listing.state.in_((ListingState.live, ListingState.paused)))
        .order_by(Store.name, Sku.code)
    )
    for shop, code, row in context.session.execute(query):
        # A price by hand that is over is none.
        over = row.hand_until is not None and row.hand_until <= context.now
        own = None if over else row.hand_price
        money = ["" if value is None else plain(value, row.currency) for value in (own, row.least_price, row.ceiling)]
        until = house_days.day_of(context, row.hand_until).isoformat() if row.hand_until and not over else ""
        yield [shop, code, money[0], until, row.hand_reason if own is not None else "", money[1], money[2]]


@undoing.undoes("price.sheet", whole=True)
def undo_price_sheet(context: Context, act: AuditEntry) -> None:
    take_back(context, act)
