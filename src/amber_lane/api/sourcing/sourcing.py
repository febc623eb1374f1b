"""Saved searches, requests to suppliers, samples."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Annotated

from fastapi import Depends
from pydantic import BaseModel, Field

from ...connectors.protocols import Address
from ...core.permissions import Permission as P
from ...data.setup import Supplier
from ...data.shelf import Sku
from ...data.source import SavedSearch
from ...services.base.job_queue import start
from ...services.grids.goods_grids import GridQuery
from ...services.partners import rosters
from ...services.sourcing import print_samples, samples, saved_searches, supplier_requests
from ..catalogue.search import search
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, minor, money, wish

router = GuardedRouter("/source", tags=["asking"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.LIST,))


class SearchAsk(Ask):
    name: str = Field(min_length=1, max_length=80)
    every_hours: int = Field(24, ge=1, le=24 * 30)
    daily_limit: int = Field(20, ge=1, le=500)
    bring: str = Field("prepared", pattern="^(report|prepared|live)$")


class ReportOut(BaseModel):
    at: datetime
    message: str
    fit: int
    fresh: int
    made: int


class SavedOut(BaseModel):
    """filters: the search as the list takes it, so that it can be opened again."""

    id: int
    name: str
    store: str
    words: str
    filters: str
    every_hours: int
    daily_limit: int
    bring: str
    next_at: datetime | None
    last_at: datetime | None
    reports: list[ReportOut]


class AddressShape(Ask):
    name: str = Field(max_length=200)
    address_1: str = Field(max_length=200)
    address_2: str = Field("", max_length=200)
    city: str = Field(max_length=200)
    region: str = Field("", max_length=200)
    postcode: str = Field(max_length=40)
    country: str = Field(max_length=2)
    phone: str = Field("", max_length=60)


class ProofOut(BaseModel):
    """ours, proof: files with the pictures; differs: how much of them looks otherwise, in tenths of a percent."""

    side: str
    ours: int
    proof: int | None
    differs: int | None


class SampleOut(BaseModel):
    id: int
    version: int
    item: int
    number: str
    title: str
    supplier: str
    state: str
    ordered_at: datetime | None
    verdict: str
    note: str
    cost: Money | None
    proofs: list[ProofOut]


class JudgeAsk(Ask):
    version: int
    verdict: str = Field(pattern="^(good|fair|poor)$")
    note: str = Field("", max_length=500)


class RequestAsk(Ask):
    supplier: Big
    sku: str = Field(min_length=1, max_length=100)
    target: Money | None = None
    note: str = Field("", max_length=1000)
    mail: str = Field("", max_length=200)


class RequestOut(BaseModel):
    id: int
    version: int
    supplier: str
    supplier_id: int
    sku: str
    title: str
    state: str
    asked_at: datetime
    target: Money | None
    note: str
    words: str
    # How its mail stands; '' where a person sends its words.
    mailed: str
    picture: int | None
    item: str
    item_title: str
    agrees: list[str]
    differs: list[str]
    likeness: int | None


class RequestAnswerAsk(Ask):
    version: int
    item: str = Field(min_length=1, max_length=100)


class VersionAsk(Ask):
    version: int


@router.get("/saved")
def saved(context: ReadContext) -> list[SavedOut]:
    names = rosters.store_names(context)
    return [
        SavedOut(
            id=row.id,
            name=row.name,
            store=names.get(row.store_id or 0, ""),
            words=str(row.words.get("words", "")),
            filters=_filters(row),
            every_hours=row.every_hours,
            daily_limit=row.daily_limit,
            bring=row.bring,
            next_at=row.next_at,
            last_at=row.last_at,
            reports=[
                ReportOut(at=r["at"], message=r["message"], fit=r["fit"], fresh=r["fresh"], made=r["made"]) for r in (row.reports or [])[:8]
            ],
        )
        for row in saved_searches.every(context)
    ]


def _filters(row: SavedSearch) -> str:
    words = dict(row.words)
    given = {name: words.get(name) for name in ("store", "category", "ships_from", "days", "lands_most", "keeps_least", "stock_least")}
    given |= {"rating_least": words.get("rating_least"), "supplier": ",".join(map(str, words.get("suppliers", [])))}
    return ";".join(f"{name}:{value}" for name, value in given.items() if value not in (None, ""))


@router.post("/saved", status_code=201)
def save(context: WriteContext, ask: SearchAsk, given: Annotated[GridQuery, Depends(wish)]) -> Done:
    """Keep a search (as the list takes it) that runs by itself."""
    row = saved_searches.save(context, ask.name, search(given), ask.every_hours, ask.daily_limit, ask.bring)
    return Done(message=f"It looks for {row.name} from now on")


@router.post("/saved/{number}/run", status_code=202)
def run_now(context: WriteContext, number: Big) -> Done:
    row = context.get(SavedSearch, number, "saved search")
    start(context, "saved", f"saved-{number}", f"Looking for {row.name}", {"search": number})
    return Done(message=f"Looking for {row.name}")


@router.delete("/saved/{number}")
def stop(context: WriteContext, number: Big) -> Done:
    saved_searches.stop(context, number)
    return Done(message="It no longer looks; what it brought in stays")


@router.get("/own-address")
def own_address(context: ReadContext) -> AddressShape | None:
    found = samples.own_address(context)
    return None if found is None else AddressShape(**{k: v for k, v in asdict(found).items() if k != "email"})


@router.put("/own-address")
@needs(P.SETTINGS)
def set_own_address(context: WriteContext, ask: AddressShape) -> Done:
    samples.set_own_address(context, Address(**ask.model_dump()))
    return Done(message="Samples go there")


@router.get("/samples")
def all_samples(context: ReadContext) -> list[SampleOut]:
    rows = samples.newest(context)
    proofs = print_samples.proofs(context, [row.id for row, _, _ in rows])
    return [
        SampleOut(
            id=row.id,
            version=row.version,
            item=item.id,
            number=item.number,
            title=item.title,
            supplier=supplier,
            state=row.state,
            ordered_at=row.ordered_at,
            verdict=row.verdict,
            note=row.note,
            cost=money(row.cost, row.currency),
            proofs=[ProofOut(**vars(one)) for one in proofs.get(row.id, [])],
        )
        for row, item, supplier in rows
    ]


@router.post("/items/{number}/sample", status_code=201)
@needs(P.ORDER)
def order_sample(context: WriteContext, number: Big) -> Done:
    """Order one to our own address; it is bought once and stays out of all figures of sales."""
    samples.order(context, number)
    return Done(message="A sample is on order")


@router.post("/samples/{number}/verdict")
def judge(context: WriteContext, number: Big, ask: JudgeAsk) -> Done:
    samples.judge(context, number, ask.version, ask.verdict, ask.note)
    return Done(message="Kept; the lane remembers it")


@router.get("/requests")
def all_requests(context: ReadContext) -> list[RequestOut]:
    out = []
    rows = supplier_requests.all_of(context)
    mailed = supplier_requests.mailed(context, rows)
    for row in rows:
        sku, supplier = context.get(Sku, row.sku_id, "SKU"), context.get(Supplier, row.supplier_id, "supplier")
        found = supplier_requests.comparison(context, row)
        out.append(
            RequestOut(
                id=row.id,
                version=row.version,
                supplier=supplier.name,
                supplier_id=supplier.id,
                sku=sku.code,
                title=sku.title,
                state=row.state,
                asked_at=row.asked_at,
                target=money(row.target, supplier.currency),
                note=row.note,
                words=supplier_requests.words(context, row),
                mailed=mailed.get(row.id, ""),
                picture=supplier_requests.picture(context, row.sku_id),
                item=found[0].number if found else "",
                item_title=found[0].title if found else "",
                agrees=found[1] if found else [],
                differs=found[2] if found else [],
                likeness=found[3] if found else None,
            )
        )
    return out


@router.post("/requests", status_code=201)
def ask_supplier(context: WriteContext, ask: RequestAsk) -> Done:
    sku = supplier_requests.sku_called(context, ask.sku)
    supplier_requests.ask(context, ask.supplier, sku.id, minor(ask.target, "target"), ask.note, ask.mail)
    return Done(message="Asked; the mail is on its way" if ask.mail else "The request is saved; send its words to the supplier")


@router.post("/requests/{number}/answer")
def answer(context: WriteContext, number: Big, ask: RequestAnswerAsk) -> Done:
    """The number that the supplier names."""
    item = supplier_requests.item_named(context, number, ask.item)
    supplier_requests.answer(context, number, ask.version, item.id)
    return Done(message="Their answer stands beside ours")


@router.post("/requests/{number}/accept")
def accept(context: WriteContext, number: Big, ask: VersionAsk) -> Done:
    supplier_requests.accept(context, number, ask.version)
    return Done(message="Accepted; the lane is open")


@router.post("/requests/{number}/decline")
def decline(context: WriteContext, number: Big, ask: VersionAsk) -> Done:
    supplier_requests.decline(context, number, ask.version)
    return Done(message="Declined")
