"""Finding goods, comparing them, bringing them in by links and numbers."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated

from fastapi import Depends, Query
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.bulk import by_id
from ...data.setup import Store
from ...data.source import Item
from ...data.tallies import tally
from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.base.job_queue import start
from ...services.catalogue import item_detail
from ...services.catalogue.search import Finder, Search
from ...services.catalogue.stability import DAYS, pasts
from ...services.catalogue.work_out import Goods, View, ratings
from ...services.grids.goods_grids import GridQuery
from ...services.listings import preparation
from ...services.mapping.similarity import LIKE_FROM, close
from ...services.partners import rosters
from ..deps import ReadContext, TheApp, WriteContext
from ..guard import GuardedRouter, needs
from ..pricing.explanations import StepOut
from ..schemas import Ask, Big, Done, IdsOut, Money, money, sure, wish

router = GuardedRouter("/source", tags=["source"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.LIST,))
_NUMBERS = ("days", "lands_most", "keeps_least", "stock_least", "rating_least")


def search(ask: Annotated[GridQuery, Depends(wish)]) -> Search:
    """A list's common questions as a search. filters: store, supplier (numbers by comma), category, ships_from, days,
    lands_most and keeps_least (minor units of the store's money), stock_least, rating_least (percent), ours (yes, no)."""
    given = dict(ask.filters or {})
    numbers: dict[str, int | None] = {}
    for name in _NUMBERS:
        text = given.pop(name, "")
        if text and not re.fullmatch(r"-?\d{1,9}", text):
            raise Invalid(f"{name.replace('_', ' ')}: {text!r} is not a whole number", {name: "is not a whole number"})
        numbers[name] = int(text) if text else None
    store, suppliers = given.pop("store", ""), given.pop("supplier", "")
    if not store.isdecimal() or not re.fullmatch(r"(\d{1,9}(,\d{1,9})*)?", suppliers):
        raise Invalid("choose a store to sell in", {"store": "is empty"})
    words = {name: given.pop(name, "") for name in ("category", "ships_from", "ours")}
    if given:
        raise Invalid(f"goods cannot be narrowed by {next(iter(given))!r}")
    picked = tuple(int(one) for one in suppliers.split(",") if one)
    sort, down = (ask.sort, ask.down) if ask.sort else ("profit", True)
    return Search(
        int(store[:15]),
        ask.words,
        picked,
        words["category"],
        words["ships_from"],
        numbers["days"],
        numbers["lands_most"],
        numbers["keeps_least"],
        numbers["stock_least"],
        numbers["rating_least"],
        words["ours"],
        sort,
        down,
        ask.offset,
        ask.limit,
    )


TheSearch = Annotated[Search, Depends(search)]


class ItemRow(BaseModel):
    """One item in a chosen store. days: as most; None where nothing is sent to the store's country.

    have: our SKU that it fills or whose barcode it carries;
    like: else the one that it is very like, and how much. stock -1: not told. past: stock at the end of each three days.
    """

    id: int
    number: str
    title: str
    options: str
    category: str
    supplier: str
    origin: str
    days_low: int | None
    days: int | None
    lands: Money | None
    price: Money | None
    profit: Money | None
    margin: int | None
    stock: int
    offer: str
    have: str
    like: str
    likeness: int
    past: list[int]
    moves: int
    in_stock: int


class FoundOut(BaseModel):
    rows: list[ItemRow]
    total: int
    of: int


class StoreOut(BaseModel):
    id: int
    name: str
    currency: str
    country: str


class SupplierOut(BaseModel):
    """kept of `of` decided purchase orders were sent and came by the promise."""

    id: int
    name: str
    currency: str
    mail: str
    items: int
    kept: int
    of: int


class FacetsOut(BaseModel):
    stores: list[StoreOut]
    suppliers: list[SupplierOut]
    categories: list[str]
    ships_from: list[str]


class CountryRow(BaseModel):
    country: str
    service: str
    days_low: int
    days_high: int
    ship: Money
    keeps: Money | None


class CloseRow(BaseModel):
    sku: str
    title: str
    likeness: int
    agrees: list[str]
    differs: list[str]


class BenchOut(BaseModel):
    row: ItemRow
    sentence: str
    gtin: str
    mpn: str
    brand: str
    pack_size: int
    weight_g: int
    link: str
    steps: list[StepOut]
    countries: list[CountryRow]
    close: list[CloseRow]
    highest_cost: Money
    cost: Money


class PutAsk(Ask):
    items: list[Big] = Field(min_length=1, max_length=1000)
    store: Big


class PutOut(Done):
    made: int
    same: int
    failed: list[str]


class PasteAsk(Ask):
    text: str = Field(min_length=1, max_length=3_000_000)
    store: Big


class PasteOut(BaseModel):
    job: int


@router.get("/facets")
@needs(P.SEE_GOODS)
def facets(context: ReadContext) -> FacetsOut:
    """What a search can be narrowed by."""
    s, kept = context.session, ratings(context)
    counts = item_detail.item_counts(context)
    return FacetsOut(
        stores=[StoreOut.model_validate(row, from_attributes=True) for row in rosters.stores(context)],
        suppliers=[
            SupplierOut(id=row.id, name=row.name, currency=row.currency, mail=row.mail, items=counts.get(row.id, 0), kept=good, of=of)
            for row in rosters.suppliers(context)
            for good, of in [kept.get(row.id, (0, 0))]
        ],
        categories=sorted(one for (one,) in tally(s, "item categories") if one),
        ships_from=rosters.sent_from(context),
    )


@router.get("/search")
def find(context: ReadContext, app: TheApp, ask: TheSearch) -> FoundOut:
    """Items of all suppliers, each as it would be in the chosen store by the rules of now."""
    found = app.finder.find(context, ask)
    return FoundOut(rows=item_rows(context, app.finder, found.goods, found.view, ask.store, found.ids), total=found.total, of=found.of)


@router.get("/search/ids")
def found_ids(context: ReadContext, app: TheApp, ask: TheSearch, most: int = 0) -> IdsOut:
    """The numbers of a stretch of what is found, whether a page has shown it or not. most 0: all from there on."""
    found = app.finder.find(context, replace(ask, limit=most or 1_000_000))
    return IdsOut(ids=list(found.ids), total=found.total)


@router.get("/items")
def compare(context: ReadContext, app: TheApp, store: Big, ids: Annotated[str, Query(pattern=r"^\d+(,\d+){0,4}$")]) -> list[BenchOut]:
    """Up to five items side by side."""
    return [_bench(context, app.finder, store, int(one)) for one in ids.split(",")]


@router.get("/items/{number}")
def bench(context: ReadContext, app: TheApp, number: Big, store: Big) -> BenchOut:
    """Everything that decides about one item in a store."""
    return _bench(context, app.finder, store, number)


@router.post("/put", status_code=201)
def put(context: WriteContext, app: TheApp, ask: PutAsk) -> PutOut:
    """Prepare listings of chosen items, each with its lane open."""
    done = preparation.prepare(context, app.finder, list(dict.fromkeys(ask.items)), ask.store)
    made, same = (sum(1 for one in done if one.outcome == kind) for kind in ("made", "same"))
    failed = [one.message for one in done if one.outcome == "failed"]
    message = f"{made} listing{'s' if made != 1 else ''} prepared" if made else "Nothing new was prepared"
    message += f", {same} {'was' if same == 1 else 'were'} there already" if same else ""
    message += f"; {len(failed)} could not be: {failed[0]}" if failed else ""
    return PutOut(message=message, count=made, made=made, same=same, failed=failed)


@router.post("/paste", status_code=202)
def paste(context: WriteContext, ask: PasteAsk) -> PasteOut:
    """Bring items in by links or numbers, one a line: a job. No pasted address is ever called; suppliers are asked by number."""
    context.get(Store, ask.store, "store")
    lines = sum(1 for line in ask.text.splitlines() if line.strip())
    mark = item_detail.mark_of(ask.text)
    job = start(
        context, "paste", f"paste-{ask.store}-{mark}", f"Bringing in {lines} pasted lines", {"text": ask.text, "store": ask.store}, lines
    )
    return PasteOut(job=job.id)


def item_rows(context: Context, finder: Finder, columns: Goods, view: View, store_id: int, ids: Sequence[int]) -> list[ItemRow]:
    """Rows of a page: what the columns say of each, and what is read anew from the tables."""
    store, items = context.get(Store, store_id, "store"), by_id(context.session, Item, ids)
    names, origins = rosters.supplier_names(context), rosters.origin_names(context)
    past = pasts(context, list(items.values()))
    have = item_detail.ours(context, list(items.values()))
    like = close(context, [item for item in items.values() if item.id not in have])
    places = {i: int(columns.ids.searchsorted(i)) for i in items}
    out = []
    for i in ids:
        if i not in items:
            continue
        item, at, was = items[i], places[i], past[i]
        known, sent = bool(view.known[at]), int(view.service[at]) >= 0
        cash = {name: int(getattr(view, name)[at]) for name in ("landed", "price", "profit", "net")}
        out.append(
            ItemRow(
                id=i,
                number=item.number,
                title=item.title,
                options=item.options,
                category=item.category,
                supplier=names[item.supplier_id],
                origin=origins.get(item.origin_id or 0, ""),
                days_low=int(view.days_low[at]) if sent else None,
                days=int(view.days_high[at]) if sent else None,
                lands=money(cash["landed"], store.currency) if sent and cash["landed"] else None,
                price=money(cash["price"], store.currency) if known else None,
                profit=money(cash["profit"], store.currency) if known else None,
                margin=cash["profit"] * 10_000 // cash["net"] if known and cash["net"] > 0 else None,
                stock=item.stock,
                offer=item.offer,
                have=have.get(i, ""),
                like=like[i][0].sku if like.get(i) else "",
                likeness=like[i][0].likeness if like.get(i) else 0,
                past=was.stock,
                moves=was.moves,
                in_stock=was.in_stock,
            )
        )
    return out


def _bench(context: Context, finder: Finder, store_id: int, number: int) -> BenchOut:
    item = context.get(Item, number, "item")
    with finder.lock:
        columns, view = finder.look(context, store_id)
    row = item_rows(context, finder, columns, view, store_id, [number])[0]
    past = pasts(context, [item])[number]
    detail = item_detail.explain(context, finder, item, store_id)
    return BenchOut(
        row=row,
        sentence=item_detail.sentence(detail, past, DAYS, item.currency),
        gtin=item.gtin,
        mpn=item.mpn,
        brand=item.brand,
        pack_size=item.pack_size,
        weight_g=item.weight_g,
        link=item.link,
        steps=[StepOut(name=one.name, amount=sure(one.amount, detail.currency), kind=one.kind) for one in detail.steps],
        countries=[
            CountryRow(
                country=one.country,
                service=one.service,
                days_low=one.days_low,
                days_high=one.days_high,
                ship=sure(one.ship, detail.currency),
                keeps=money(one.keeps, detail.currency),
            )
            for one in detail.countries
        ],
        close=[CloseRow(**one.__dict__) for one in close(context, [item], 3, LIKE_FROM, veto=True).get(number, [])],
        highest_cost=sure(past.highest, item.currency),
        cost=sure(item.cost, item.currency),
    )
