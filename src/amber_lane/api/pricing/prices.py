"""How prices are made: rules, fees, limits; what if; why; prices by hand."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any, SupportsInt

import numpy as np
from fastapi import Depends, Request, Response
from pydantic import BaseModel, Field

from ...core.numbers import parse_rate
from ...core.permissions import Permission as P
from ...core.plans import Membership
from ...core.price import NONE, SetBy
from ...core.price import Outcome as PriceOutcome
from ...core.writing import grouped
from ...services.base import house_days
from ...services.base.errors import Invalid
from ...services.base.regional import home_of
from ...services.grids import goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.listings.on_sale import set_on_sale
from ...services.partners import rosters
from ...services.pricing import drafts, manual_price, rule_steps
from ...services.pricing import what_if as outcomes
from ...services.pricing.apply import LATER
from ...services.pricing.inputs import Facts, all_fees
from ...services.pricing.policy import RULE_FIELDS, defaults, of_scopes, policy_for
from ..deps import Heavy, ReadContext, SignedIn, TheApp, WriteContext, context_of
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, Page, minor, rows_out, sure, wish, written

router = GuardedRouter("/prices", tags=["prices"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.PRICE,))


class ListingRow(BaseModel):
    id: int
    sku_id: int
    sku: str
    title: str
    store: str
    state: str
    paused_by: str
    price: Money
    quantity: int
    landed: Money | None
    profit: Money | None
    net: Money | None
    supplier: str | None
    lane_state: str | None
    set_by: int
    outcome: int
    pace: int
    version: int
    hand_price: Money | None


@router.get("/listings", response_model=Page[ListingRow])
def listings(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    rows, total = goods_grids.page(context, "listings", ask)
    cash = dict.fromkeys(("price", "landed", "profit", "net", "hand_price"), "currency")
    return written({"rows": rows_out(rows, cash), "total": total})


class RuleBody(Ask):
    """One rule: money fields in minor units of `currency` ('' = what is usual for such a rule), rates in ppm; rule_value is ppm, or minor
    units for `add`."""

    scope: str = Field("house", pattern="^(house|supplier|category|store|sku)$")
    scope_key: str = Field("", max_length=100)
    band_from: int = Field(0, ge=0, le=10**9)
    currency: str = Field("", max_length=3)
    rule: str | None = Field(None, max_length=20)
    rule_value: int | None = Field(None, ge=0, le=10**9)
    min_margin: int | None = Field(None, ge=0, le=10**8)
    min_profit: int | None = Field(None, ge=-(10**8), le=10**8)
    ceiling: int | None = Field(None, ge=1, le=10**9)
    endings: str | None = Field(None, max_length=100)
    step: int | None = Field(None, ge=0, le=10**8)
    reserve: int | None = Field(None, ge=0, le=10**6)
    least_price: int | None = Field(None, ge=1, le=10**9)
    # How far above the price the crossed-out one stands, in ppm.
    compare_at: int | None = Field(None, ge=1, le=10 * 10**6)


@router.get("/rules")
def rules(context: ReadContext) -> list[RuleBody]:
    return [
        RuleBody(**{name: getattr(r, name) for name in ("scope", "scope_key", "band_from", "currency", *RULE_FIELDS)})
        for r in outcomes.rules(context)
    ]


class FeeBody(Ask):
    category: str = Field("", max_length=100)
    percent: int = Field(0, ge=0, lt=10**6)
    least: int = Field(0, ge=0, le=10**8)
    cap: int | None = Field(None, ge=0, le=10**8)
    fixed: int = Field(0, ge=0, le=10**8)


class FeesBody(Ask):
    """What a store takes; rates in ppm, money in minor units."""

    store: Big
    version: int
    tax_in_price: int = Field(ge=0, le=10**6)
    payment: int = Field(ge=0, lt=10**6)
    payment_fixed: int = Field(ge=0, le=10**6)
    fees: list[FeeBody] = Field(max_length=500)


class PlanBody(Ask):
    """A membership or volume discount: discount in ppm; fee and least goods a month in minor units of the supplier's money."""

    name: str = Field(min_length=1, max_length=60)
    discount: int = Field(gt=0, lt=10**6)
    fee: int = Field(0, ge=0, le=10**10)
    from_spend: int = Field(0, ge=0, le=10**10)
    taken: bool = False


class TermsBody(Ask):
    """What a supplier gives; in ppm. plans: all its memberships and volume discounts, None = as they are."""

    supplier: Big
    version: int
    discount: int = Field(ge=0, lt=10**6)
    rebate: int = Field(ge=0, lt=10**6)
    tax: int = Field(ge=0, lt=10**7)
    plans: list[PlanBody] | None = Field(None, max_length=12)


class PolicyBody(Ask):
    scope: str = Field("house", pattern="^(house|supplier|category|store|sku)$")
    key: str = Field("", max_length=100)
    fields: dict[str, bool | int | str | None] = Field(max_length=50)


class RateBody(Ask):
    """What one unit of `base` is worth in `quote`, as a decimal number."""

    base: str = Field(pattern="^[A-Z]{3}$")
    quote: str = Field(pattern="^[A-Z]{3}$")
    rate: str = Field(max_length=20)

    def nano(self) -> int:
        try:
            return parse_rate(self.rate.replace(",", "."))
        except ValueError as error:
            raise Invalid(str(error), {"rate": str(error)}) from error


class WhatIfAsk(Ask):
    """One draft: other rules, a store's fees, a supplier's terms, limits, or a rate. None of them = as things stand."""

    rules: list[RuleBody] | None = Field(None, max_length=500)
    fees: FeesBody | None = None
    terms: TermsBody | None = None
    policy: PolicyBody | None = None
    rate: RateBody | None = None

    def change(self) -> drafts.Change | None:
        """The draft as the services know it; Invalid when there is more than one."""
        if sum(part is not None for part in (self.rules, self.fees, self.terms, self.policy, self.rate)) > 1:
            raise Invalid("draft one thing at a time: rules, fees, terms, limits or a rate")
        if self.rules is not None:
            return drafts.RuleChange(
                [
                    drafts.Draft(r.scope, r.scope_key, r.band_from, {name: getattr(r, name) for name in RULE_FIELDS}, r.currency)
                    for r in self.rules
                ]
            )
        if self.fees is not None:
            given = self.fees
            terms = {name: getattr(given, name) for name in drafts.STORE_TERMS}
            return drafts.FeeChange(given.store, terms, [fee.model_dump() for fee in given.fees], given.version)
        if self.terms is not None:
            terms = {name: getattr(self.terms, name) for name in drafts.SUPPLIER_TERMS}
            offers = None if self.terms.plans is None else [Membership(**one.model_dump()) for one in self.terms.plans]
            return drafts.SupplierChange(self.terms.supplier, terms, self.terms.version, offers)
        if self.rate is not None:
            return drafts.RateChange(self.rate.base, self.rate.quote, self.rate.nano())
        return None if self.policy is None else drafts.PolicyChange(self.policy.scope, self.policy.key, dict(self.policy.fields))


class Mover(BaseModel):
    listing: int
    sku: str
    title: str
    now: Money
    then: Money
    step: float
    margin_now: float | None
    margin_then: float | None
    set_by: str
    outcome: str


class DipOut(BaseModel):
    """A fall of the price at a band's edge: just under it and on it, the landed cost up to which it is lower, and the curve around it.

    band_from, money: the band as its rule says it; least: the price under the edge in the rule's money, in minor units.
    """

    store: str
    edge: Money
    below: Money
    at: Money
    until: Money
    curve: list[list[int]]
    band_from: int
    money: str
    least: int
    listings: int


class WhatIfOut(BaseModel):
    counts: dict[str, int]
    a_day: Money
    earns: Money
    # Currencies that have no rate to the house's, so that what is in them is in neither.
    left_out: list[str]
    bins: list[int]
    now: list[int]
    then: list[int]
    movers: list[Mover]
    dips: list[DipOut]


@router.post("/what-if", dependencies=[Heavy])
@needs(P.SEE_GOODS, P.SEE_MONEY)
def what_if(context: ReadContext, app: TheApp, ask: WhatIfAsk) -> WhatIfOut:
    view = outcomes.what_if(context, ask.change(), lambda facts: app.catalogue.read(context, facts))
    book, decided = view.book, view.decided
    rows = np.flatnonzero(book.counted & (view.now_margin != NONE))
    then_price = np.where(decided.waits, book.wanted_price, decided.price)
    gap = np.abs(then_price - book.wanted_price) * 1_000_000 // np.maximum(book.wanted_price, 1)
    order = np.lexsort((book.ids, -gap))
    movers = [i for i in order.tolist() if gap[i] or decided.waits[i]][:400]
    titles = outcomes.titles(context, [int(book.ids[i]) for i in movers])
    return WhatIfOut(
        counts=view.counts,
        a_day=sure(view.a_day, home := home_of(context.session)),
        earns=sure(view.earns, home),
        left_out=view.left_out,
        bins=list(outcomes.BINS),
        now=outcomes.histogram(view.now_margin, rows),
        then=outcomes.histogram(view.then_margin, rows),
        dips=[_dip(view.facts, one) for one in view.dips],
        movers=[
            Mover(
                listing=int(book.ids[i]),
                sku=book.sku_code[i],
                title=titles.get(int(book.ids[i]), ""),
                now=sure(int(book.wanted_price[i]), book.currency[i]),
                then=sure(int(then_price[i]), book.currency[i]),
                step=round((int(then_price[i]) - int(book.wanted_price[i])) * 100 / int(book.wanted_price[i]), 1),
                margin_now=_tenths(view.now_margin[i]),
                margin_then=_tenths(view.then_margin[i]),
                set_by=SetBy(int(decided.priced.set_by[i])).name,
                outcome=PriceOutcome(int(decided.priced.outcome[i])).name,
            )
            for i in movers
        ],
    )


def _dip(facts: Facts, one: rule_steps.Dip) -> DipOut:
    store = facts.stores[one.store]
    edge, below, at, until = (sure(n, store.currency) for n in (one.edge, one.below, one.at, one.until))
    amounts = {"edge": edge, "below": below, "at": at, "until": until}
    band = {"band_from": one.band_from, "money": one.money, "least": one.least}
    return DipOut(store=store.name, **amounts, **band, curve=[list(at) for at in one.curve], listings=one.listings)


def _tenths(value: SupportsInt) -> float | None:
    return None if int(value) == NONE else int(value) / 10


class ApplyAsk(WhatIfAsk):
    """seen: the counts that the person looked at; only: listings they picked (None = all); leave: listings they took out."""

    seen: dict[str, int]
    only: list[Big] | None = Field(None, max_length=200_000)
    leave: list[Big] | None = Field(None, max_length=200_000)


@router.post("/apply", dependencies=[Heavy])
def apply(request: Request, app: TheApp, number: SignedIn, ask: ApplyAsk) -> Done:
    change = ask.change()
    if change is None:
        raise Invalid("there is nothing to apply: draft rules, fees, terms, limits or a rate first")
    # What it does is worked out while others write.
    with app.db.reading() as s:
        context = context_of(request, s)
        view = outcomes.what_if(context, change, lambda facts: app.catalogue.read(context, facts))
    with app.db.writing() as s:
        only = None if ask.only is None else set(ask.only)
        counts = outcomes.apply(context_of(request, s), change, ask.seen, only, set(ask.leave or ()), view)
    if many := counts.get(LATER):
        return Done(message=f"In force; the prices of {grouped(many)} SKUs follow now", count=many)
    n = counts.get("reprice", 0)
    return Done(message=f"In force, {n} price{'' if n == 1 else 's'} changed", count=n)


class HandAsk(Ask):
    version: int
    price: Money | None
    reason: str = Field("", max_length=300)
    # The last day of the house on which it holds.
    until: date | None = None


@router.post("/listings/{number}/hand")
def by_hand(context: WriteContext, number: Big, ask: HandAsk) -> Done:
    manual_price.fix_price(
        context, number, ask.version, minor(ask.price, "price"), ask.reason, house_days.end(context, ask.until) if ask.until else None
    )
    return Done(message="Price fixed by hand" if ask.price else "The rule sets this price again")


class OnSaleAsk(Ask):
    listings: list[Big] = Field(min_length=1, max_length=100_000)
    on: bool
    reason: str = Field("", max_length=300)


@router.post("/listings/on-sale")
def on_sale(context: WriteContext, ask: OnSaleAsk) -> Done:
    n = set_on_sale(context, ask.listings, ask.on, ask.reason)
    return Done(message=f"{n} {'put back on sale' if ask.on else 'taken off sale'}", count=n)


class StoreTerms(BaseModel):
    id: int
    version: int
    name: str
    currency: str
    tax_in_price: int
    payment: int
    payment_fixed: int
    fees: list[FeeBody]


@router.get("/fees")
def fees(context: ReadContext) -> list[StoreTerms]:
    rows = all_fees(context.session)
    return [
        StoreTerms(
            id=s.id,
            version=s.version,
            name=s.name,
            currency=s.currency,
            tax_in_price=s.tax_in_price,
            payment=s.payment,
            payment_fixed=s.payment_fixed,
            fees=[
                FeeBody(category=r.category, percent=r.percent, least=r.least, cap=r.cap, fixed=r.fixed) for r in rows if r.store_id == s.id
            ],
        )
        for s in rosters.stores(context)
    ]


class PolicyScope(BaseModel):
    """What one supplier, category, store or SKU says otherwise than the house."""

    scope: str
    key: str
    fields: dict[str, Any]


class PolicyOut(BaseModel):
    fields: dict[str, Any]
    defaults: dict[str, Any]
    own: list[PolicyScope]


@router.get("/policy")
def policy(context: ReadContext) -> PolicyOut:
    own = [PolicyScope(scope=row.scope, key=row.scope_key, fields=row.fields) for row in of_scopes(context.session)]
    return PolicyOut(fields=policy_for(context.session), defaults=defaults(home_of(context.session)), own=own)


class Named(BaseModel):
    """currency: of a store, '' of the others."""

    code: str
    name: str
    currency: str


class Scopes(BaseModel):
    """Whose rules there can be."""

    supplier: list[Named]
    category: list[Named]
    store: list[Named]


@router.get("/scopes")
def scopes(context: ReadContext) -> Scopes:
    return Scopes(
        **{
            scope: [Named(code=code, name=name, currency=currency) for code, name, currency in rows]
            for scope, rows in rosters.scopes(context).items()
        }
    )
