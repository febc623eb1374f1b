"""The rules by which prices are made: changed in a draft, seen before they are applied, applied to all or some."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import delete, select

from ..core import price
from ..core.explain import Explained, explain
from ..core.money import PPM, Ints, half_up
from ..core.price import NONE, Outcome, SetBy
from ..data.prices import Policy, PriceRule
from ..data.setup import FeeRow, Store
from ..data.shelf import Listing, Sku
from ..data.watch import Response
from .book import Book, load
from .desk import Conflict, Desk, Invalid, NotFound
from .policy import POLICY_DEFAULTS, RULE_FIELDS, WORDS, parse_endings
from .respond import Decided, decide, explanations, respond
from .shelf import want

BINS = range(-10, 62, 2)


@dataclass(frozen=True)
class Draft:
    """One rule as a person drafts it; money in minor units, rates in ppm."""

    scope: str
    scope_key: str
    band_from: int
    fields: dict[str, Any]


def rules(desk: Desk) -> list[PriceRule]:
    """All price rules, widest scope first."""
    return list(desk.s.scalars(select(PriceRule).order_by(PriceRule.scope, PriceRule.scope_key, PriceRule.band_from)))


def _checked(draft: Draft) -> PriceRule:
    """A draft as a rule, or Invalid with what is wrong with each field."""
    wrong: dict[str, str] = {}
    fields = {name: draft.fields.get(name) for name in RULE_FIELDS}
    kind = None
    if fields["rule"] is not None:
        try:
            kind = price.Rule.named(fields["rule"])
        except ValueError as error:
            wrong["rule"] = str(error)
        if fields["rule_value"] is None:
            wrong["rule_value"] = "is needed with a rule"
        elif kind is price.Rule.margin and fields["rule_value"] >= PPM:
            wrong["rule_value"] = "a margin must be below 100 %"
    for name in ("rule_value", "min_margin", "ceiling", "step", "reserve"):
        value = fields[name]
        if value is not None and not 0 <= value <= (10**9 if name in ("ceiling", "rule_value") else 100 * PPM):
            wrong[name] = "is out of bounds"
    if fields["endings"] is not None:
        try:
            fields["endings"] = "|".join(f"{end:02d}" for end in parse_endings(fields["endings"]))
        except ValueError as error:
            wrong["endings"] = str(error)
    if draft.scope != "house" and not draft.scope_key:
        wrong["scope_key"] = "says whose rule it is"
    if wrong:
        raise Invalid("; ".join(f"{name}: {told}" for name, told in wrong.items()), wrong)
    return PriceRule(scope=draft.scope, scope_key=draft.scope_key, band_from=draft.band_from, version=1, **fields)


@dataclass(frozen=True)
class WhatIf:
    """The whole catalogue under a draft. Columns of one entry per listing; counts and histogram over all."""

    book: Book
    decided: Decided
    now_margin: Ints
    then_margin: Ints
    counts: dict[str, int]
    a_day: int


def what_if(desk: Desk, drafts: Sequence[Draft]) -> WhatIf:
    """Work every price out under other rules. Nothing is written."""
    book = load(desk, None, rules=[_checked(draft) for draft in drafts])
    decided = decide(book, counted=False)
    laned = (book.lane > 0) & (book.hand_price == NONE)
    then_price = np.where(laned & ~decided.waits, decided.price, book.wanted_price)
    then, now = price.keep(then_price, book.terms), price.keep(book.wanted_price, book.terms)
    held = decided.waits & laned
    counts = {
        "listings": int(laned.sum()),
        "rise": int((laned & (then_price > book.wanted_price)).sum()),
        "fall": int((laned & (then_price < book.wanted_price)).sum()),
        "limit": int((laned & np.isin(decided.priced.set_by, [SetBy.ceiling, SetBy.step])).sum()),
        "held": int(held.sum()),
    }
    gain = np.where(laned, (then.profit - now.profit) * book.pace, 0)
    return WhatIf(book, decided, _margin(now), _margin(then), counts, half_up(int(gain.sum()), PPM))


def _margin(kept: price.Kept) -> Ints:
    """Margin in tenths of a percent; NONE where nothing is left after tax."""
    return np.where(kept.net > 0, (2 * kept.profit * 1000 + kept.net) // np.maximum(2 * kept.net, 1), NONE)


def histogram(margins: Ints, rows: Ints) -> list[int]:
    """Listings per two percent of margin; what lies outside is counted at the ends."""
    values = np.clip(margins[rows] // 10, BINS[0], BINS[-1])
    return np.bincount((values - BINS[0]) // 2, minlength=len(BINS)).tolist() if len(values) else [0] * len(BINS)


def apply(desk: Desk, drafts: Sequence[Draft], seen: dict[str, int], only: set[int] | None) -> dict[str, int]:
    """Put drafted rules in force and reprice all listings, or only those picked.

    `seen`: the counts the person saw; Conflict when they no longer hold, so that nothing unseen is done.
    """
    view = what_if(desk, drafts)
    if {k: view.counts[k] for k in ("rise", "fall")} != {k: seen.get(k) for k in ("rise", "fall")}:
        raise Conflict("costs have moved since you looked; look at the new figures before you apply")
    before = [_as_draft(rule) for rule in rules(desk)]
    desk.s.execute(delete(PriceRule))
    desk.s.add_all(_checked(draft) for draft in drafts)
    desk.s.flush()
    told = f"price rules changed: {view.counts['rise']} rise, {view.counts['fall']} fall"
    act = desk.log(
        "rule.change", "price rules", told, before={"rules": before}, after={"picked": None if only is None else len(only)}, undo=True
    )
    return respond(desk, None, act=act.id, only=only)


def restore_rules(desk: Desk, before: list[dict[str, Any]]) -> None:
    """Undo a change of rules: the old rules and the prices that follow from them."""
    desk.s.execute(delete(PriceRule))
    desk.s.add_all(_checked(Draft(**one)) for one in before)
    desk.s.flush()
    act = desk.log("rule.restore", "price rules", "price rules put back as they were")
    respond(desk, None, act=act.id)


def _as_draft(rule: PriceRule) -> dict[str, Any]:
    return {
        "scope": rule.scope,
        "scope_key": rule.scope_key,
        "band_from": rule.band_from,
        "fields": {name: getattr(rule, name) for name in RULE_FIELDS},
    }


def set_policy(desk: Desk, scope: str, key: str, fields: dict[str, Any]) -> Policy:
    """Change policy fields of one scope; None takes a field back to what it inherits."""
    wrong: dict[str, str] = {}
    for name, value in fields.items():
        if name not in POLICY_DEFAULTS:
            wrong[name] = "is not a limit that we know"
        elif value is None:
            continue
        elif name in WORDS:
            if value not in WORDS[name]:
                wrong[name] = f"must be one of {', '.join(WORDS[name])}"
        elif not isinstance(value, int) or not -(10**9) <= value <= 10**9:
            wrong[name] = "must be a whole number within bounds"
    if wrong:
        raise Invalid("; ".join(f"{name} {told}" for name, told in wrong.items()), wrong)
    row = desk.s.scalar(select(Policy).where(Policy.scope == scope, Policy.scope_key == key))
    if row is None:
        row = Policy(scope=scope, scope_key=key, fields={})
        desk.s.add(row)
    before = dict(row.fields)
    row.fields = {name: value for name, value in {**row.fields, **fields}.items() if value is not None}
    row.version = (row.version or 0) + 1
    desk.log(
        "policy.change",
        key or scope,
        f"limits of {key or 'the house'} changed",
        before={"scope": scope, "key": key, "fields": before},
        after=row.fields,
        undo=True,
    )
    desk.s.flush()
    return row


def set_fees(desk: Desk, store_id: int, version: int, terms: dict[str, int], fees: Sequence[dict[str, Any]]) -> Store:
    """What a store takes: tax in price, payment terms, and fee rows by category. Prices follow at once."""
    store = desk.get_version(Store, store_id, version, "store")
    before = {"tax_in_price": store.tax_in_price, "payment": store.payment, "payment_fixed": store.payment_fixed}
    rows = desk.s.scalars(select(FeeRow).where(FeeRow.store_id == store_id)).all()
    old_fees = [{"category": r.category, "percent": r.percent, "least": r.least, "cap": r.cap, "fixed": r.fixed} for r in rows]
    if len({fee["category"] for fee in fees}) != len(fees):
        raise Invalid("a category is there twice; keep one row for it")
    for fee in fees:
        if not 0 <= fee["percent"] < PPM or fee["least"] < 0 or fee["fixed"] < 0 or (fee["cap"] is not None and fee["cap"] < fee["least"]):
            raise Invalid(
                f"the fee of {fee['category'] or 'all others'} cannot be: percent below 100, nothing negative, the cap not under the least"
            )
    if any(not 0 <= terms[name] < PPM * 100 for name in before):
        raise Invalid("tax and payment terms must not be negative")
    for name in before:
        setattr(store, name, terms[name])
    desk.s.execute(delete(FeeRow).where(FeeRow.store_id == store_id))
    desk.s.add_all(FeeRow(store_id=store_id, **fee) for fee in fees)
    act = desk.log(
        "fees.change",
        store.name,
        f"what {store.name} takes was changed",
        before={"store": store_id, "terms": before, "fees": old_fees},
        undo=True,
    )
    desk.s.flush()
    respond(desk, None, act=act.id)
    return store


def why_price(desk: Desk, listing_id: int) -> tuple[Listing, Sku, Explained | None]:
    """Why a listing costs what it costs, worked out now from what we believe now."""
    listing = desk.get(Listing, listing_id, "listing")
    sku = desk.get(Sku, listing.sku_id, "SKU")
    book = load(desk, [sku.id])
    rows = np.flatnonzero(book.ids == listing_id)
    if not len(rows) or book.lane[rows[0]] <= 0:
        return listing, sku, None
    return listing, sku, explain(json.loads(explanations(book, rows)[0]), listing.wanted_price, listing.currency)


def why_response(desk: Desk, number: int) -> tuple[Response, Listing, Sku, Explained]:
    """Why a response was what it was, from the terms it kept."""
    response = desk.get(Response, number, "response")
    listing = desk.get(Listing, response.listing_id, "listing")
    if "landed" not in (response.terms or {}):
        raise NotFound("this response kept no terms")
    return (
        response,
        listing,
        desk.get(Sku, listing.sku_id, "SKU"),
        explain(response.terms, response.new_price, listing.currency, response.old_price),
    )


def settle(desk: Desk, numbers: Iterable[int], approve: bool) -> int:
    """A person's word on responses that wait: take the best price there is, or leave the listing as it is."""
    done = 0
    for number in numbers:
        row = desk.get(Response, number, "response")
        if row.state != "waits":
            continue
        listing = desk.get(Listing, row.listing_id, "listing")
        row.state = "kept"
        done += 1
        if approve and row.set_by in (SetBy.ceiling, SetBy.step):
            book = load(desk, [listing.sku_id])
            at = int(np.flatnonzero(book.ids == listing.id)[0])
            best = decide(book, counted=False).priced
            if int(best.price[at]) != NONE and int(best.outcome[at]) != Outcome.no_price:
                want(desk, listing, price=int(best.price[at]), state="live" if listing.paused_by == "hold" else None)
                listing.paused_by = "" if listing.paused_by == "hold" else listing.paused_by
                row.state = "sent"
    if not done:
        raise Conflict("nothing of this waits any more")
    desk.log(
        "response.settle", f"{done} responses", f"{done} waiting responses {'approved' if approve else 'left as they are'}", count=done
    )
    return done


__all__ = [
    "BINS",
    "Draft",
    "Outcome",
    "WhatIf",
    "apply",
    "decide",
    "histogram",
    "restore_rules",
    "rules",
    "set_fees",
    "set_policy",
    "settle",
    "what_if",
    "why_price",
    "why_response",
]
