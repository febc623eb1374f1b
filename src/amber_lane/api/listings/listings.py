"""The shelf: listings prepared, changed, published, ended, copied; their words and pictures; a store's allowance."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from fastapi import Depends, Response
from pydantic import BaseModel, Field

from ...core.permissions import EVERYTHING
from ...core.permissions import Permission as P
from ...data.setup import UNCALLED, Store
from ...data.shelf import Listing, Picture, Sku
from ...services.base.errors import Conflict, Invalid, NotFound
from ...services.base.job_queue import start
from ...services.catalogue.item_detail import mark_of
from ...services.delivery import agent_leases
from ...services.grids import goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.listings import allowance, content_rule_changes, content_rules, images, publishing, store_listings, titles, variant_matrix
from ...services.listings.content_rule_changes import add_rule, effect
from ...services.partners import rosters
from ..deps import ReadContext, WriteContext
from ..files import PictureFile
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, Page, download, minor, money, rows_out, sure, wish, written

router = GuardedRouter("/shelf", tags=["shelf"], read=(P.SEE_GOODS,), write=(P.LIST,))
Ids = Annotated[list[Big], Field(min_length=1, max_length=20_000)]


class ShelfRow(BaseModel):
    id: int
    sku: str
    title: str
    store: str
    state: str
    paused_by: str
    price: Money
    currency: str
    quantity: int
    profit: Money | None
    category: str
    version: int
    moving: bool
    refused: str
    differs: bool
    pace: int


class ShelfStore(BaseModel):
    id: int
    name: str
    currency: str
    title_most: int
    banned_words: list[str]
    title_order: list[str]
    tell_maker: bool
    limited: bool
    # Whether it can be asked for its listings, itself or by its program; a store by sheets is not.
    called: bool
    counts: dict[str, int]


class FieldDiff(BaseModel):
    name: str
    ours: str
    theirs: str


class CopyOut(BaseModel):
    listing: int
    store: str
    follows: bool


class ShelfBench(BaseModel):
    id: int
    version: int
    sku: str
    store: str
    store_id: int
    state: str
    title: str
    description: str
    category: str
    tags: str
    price: Money
    compare_at: Money | None
    weight_g: int
    family: int
    pictures: list[int]
    suggested: str
    missing: list[str]
    differs: list[FieldDiff]
    copied_from: CopyOut | None
    copies: list[CopyOut]
    message: str
    shown_at: datetime | None
    title_most: int


class EditAsk(Ask):
    version: int
    title: str | None = Field(None, max_length=500)
    description: str | None = Field(None, max_length=40_000)
    category: str | None = Field(None, max_length=100)
    tags: str | None = Field(None, max_length=500)
    weight_g: int | None = Field(None, ge=0, le=10_000_000)
    compare_at: Money | None = None
    no_compare: bool = False
    pictures: list[Big] | None = Field(None, max_length=12)
    pass_on: bool = True


class Many(Ask):
    listings: Ids


class CopyAsk(Many):
    store: Big
    follow: bool = True


class DifferenceAsk(Ask):
    version: int
    field: str = Field(pattern="^(title|description)$")
    theirs: bool


class JobOutShort(BaseModel):
    job: int


class ReadAnew(BaseModel):
    """job None: the store's program does it with its next round."""

    job: int | None
    message: str


class OnItsWay(BaseModel):
    """Where a publishing stands: waiting to go, with the store, there, refused (by reason)."""

    waiting: int
    there: int
    refused: dict[str, int]
    refused_ids: list[int]


class RuleShape(Ask):
    find: str = Field(min_length=1, max_length=100)
    put: str = Field("", max_length=100)
    store: Big | None = None


class RuleOut(BaseModel):
    id: int
    find: str
    put: str
    store: int | None


class PhraseEffect(BaseModel):
    listing: int
    sku: str
    before: str
    after: str


class EffectOut(BaseModel):
    count: int
    of: int
    first: list[PhraseEffect]


class StoreWords(Ask):
    title_most: int | None = Field(None, ge=10, le=500)
    banned_words: list[str] = Field(default_factory=list, max_length=200)
    title_order: list[str] = Field(default_factory=list, max_length=8)
    tell_maker: bool = False


@router.get("", response_model=Page[ShelfRow])
def listing_rows(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    rows, total = goods_grids.page(context, "shelf", ask)
    out = rows_out(rows, {"price": "currency", "profit": "currency"})
    for one in out:
        one["moving"], one["differs"] = bool(one["moving"]), bool(one["differs"])
    return written({"rows": out, "total": total})


@router.get("/stores")
def stores(context: ReadContext) -> list[ShelfStore]:
    """Every store with how many of its listings are in which state."""
    counts = store_listings.counted(context)
    return [
        ShelfStore(
            id=row.id,
            name=row.name,
            currency=row.currency,
            title_most=row.title_most or content_rules.TITLE_MOST,
            banned_words=row.banned_words or [],
            title_order=row.title_order or list(titles.PARTS),
            tell_maker=row.tell_maker,
            limited=allowance.limited(row),
            called=row.kind not in UNCALLED or row.kind == "program",
            counts=counts.get(row.id, {}),
        )
        for row in rosters.stores(context)
    ]


@router.get("/listings/{number}")
def bench(context: ReadContext, number: Big) -> ShelfBench:
    """Everything about one listing's words, and what is missing before it can be shown."""
    row = context.get(Listing, number, "listing")
    store, sku = context.get(Store, row.store_id, "store"), context.get(Sku, row.sku_id, "SKU")
    names = rosters.store_names(context)
    parent = context.session.get(Listing, row.copied_from) if row.copied_from else None
    copies = publishing.copies_of(context, number)
    theirs = row.theirs or {}
    return ShelfBench(
        id=row.id,
        version=row.version,
        sku=sku.code,
        store=store.name,
        store_id=store.id,
        state=row.state,
        title=row.title,
        description=row.description,
        category=row.category or sku.category,
        tags=row.tags,
        price=sure(row.wanted_price, row.currency),
        compare_at=money(row.compare_at, row.currency),
        weight_g=sku.weight_g,
        family=variant_matrix.size(context, sku.id),
        pictures=list(row.pictures or []),
        suggested=titles.suggest(context, store, sku, row.title),
        missing=publishing.Checks(context, store, [row.sku_id]).missing(row),
        differs=[FieldDiff(name=name, ours=getattr(row, name), theirs=shown) for name, shown in theirs.items() if name in publishing.WORDS],
        copied_from=None if parent is None else CopyOut(listing=parent.id, store=names[parent.store_id], follows=row.follow_words),
        copies=[CopyOut(listing=one.id, store=names[one.store_id], follows=one.follow_words) for one in copies],
        message=row.message,
        shown_at=row.shown_at,
        title_most=store.title_most or content_rules.TITLE_MOST,
    )


class Edited(Done):
    """listing: as it stands right after the change, so that the next one of the same person is told from another person's."""

    listing: ShelfBench


@router.patch("/listings/{number}")
def edit(context: WriteContext, number: Big, ask: EditAsk) -> Edited:
    """Change what a listing says. On sale it goes to the store at once."""
    words: dict[str, Any] = {
        name: value for name in ("title", "description", "category", "tags", "weight_g") if (value := getattr(ask, name)) is not None
    }
    if ask.compare_at is not None or ask.no_compare:
        words["compare_at"] = None if ask.no_compare else minor(ask.compare_at, "compare_at")
    if ask.pictures is not None:
        words["pictures"] = images.checked_order(context, ask.pictures)
    if not words:
        raise Invalid("nothing was changed")
    row = publishing.edit(context, number, ask.version, words, ask.pass_on)
    context.session.flush()
    return Edited(message="Kept", listing=bench(context, row.id))


@router.post("/listings/{number}/settle")
def settle(context: WriteContext, number: Big, ask: DifferenceAsk) -> Done:
    """A field that the store shows otherwise: keep ours, or take theirs."""
    publishing.answer_difference(context, number, ask.version, ask.field, ask.theirs)
    return Done(message="Theirs is ours now" if ask.theirs else "Ours is on its way to the store")


@router.post("/listings/{number}/pictures", status_code=201)
def add_picture(given: PictureFile, context: WriteContext, number: Big) -> Done:
    """Add a picture; it is checked and kept as our own copy."""
    made = images.add(context, number, given)
    row = context.get(Listing, number, "listing")
    if made.id in (row.pictures or []):
        raise Conflict("this picture is there already")
    publishing.edit(context, number, None, {"pictures": [*(row.pictures or []), made.id]})
    return Done(message=f"Picture added, {made.width} x {made.height}")


@router.get("/pictures/{number}", response_class=Response, responses=download("image/jpeg", "image/png", "image/webp"))
@needs(limited=True)
def picture(context: ReadContext, number: Big) -> Response:
    """A picture of goods, for whoever sees those; or of what came to a buyer, for whoever sees orders."""
    row = context.get(Picture, number, "picture")
    if not (context.allowed or EVERYTHING).may(P.SEE_ORDERS if row.is_evidence else P.SEE_GOODS):
        raise NotFound(f"there is no picture {number}")
    head = {"Cache-Control": "private, max-age=86400", "Content-Security-Policy": "default-src 'none'", "X-Content-Type-Options": "nosniff"}
    return Response(row.data, media_type=row.kind, headers=head)


@router.post("/publish", status_code=202)
def publish(context: WriteContext, ask: Many) -> JobOutShort:
    """Put listings on sale, as a job; prices and quantities are those of now."""
    ids = list(dict.fromkeys(ask.listings))
    key = f"publish-{mark_of(','.join(map(str, ids)))}"
    what = f"Publishing {len(ids)} listing{'s' if len(ids) != 1 else ''}"
    return JobOutShort(job=start(context, "publish", key, what, {"listings": ids}, len(ids)).id)


@router.post("/on-its-way")
def on_its_way(context: ReadContext, ask: Many) -> OnItsWay:
    """Where published listings stand with their stores; failures by their reason."""
    found = publishing.on_its_way(context, ask.listings)
    return OnItsWay(waiting=found.waiting, there=found.there, refused=found.refused, refused_ids=found.refused_ids)


@router.post("/again")
def again(context: WriteContext, ask: Many) -> Done:
    """Send what stores refused once more, with the words and figures of now."""
    n = publishing.send_again(context, ask.listings)
    return Done(message=f"{n} sent again", count=n)


@router.post("/end")
def end(context: WriteContext, ask: Many) -> Done:
    """End listings in their stores; those in preparation are dropped."""
    n = publishing.end_listings(context, ask.listings)
    return Done(message=f"{n} ended", count=n)


@router.post("/copy", status_code=201)
def copy(context: WriteContext, ask: CopyAsk) -> Done:
    """Copy listings to another store, prepared there by its own rules."""
    n = len(publishing.copy(context, ask.listings, ask.store, ask.follow))
    message = f"{n} prepared there" if n else "That store has all of them already"
    return Done(message=message, count=n)


@router.get("/phrases")
def phrase_rules(context: ReadContext) -> list[RuleOut]:
    rows = content_rules.all_rules(context)
    return [RuleOut(id=row.id, find=row.find, put=row.put, store=row.store_id) for row in rows]


@router.post("/phrases/try")
@needs(P.SEE_GOODS)
def try_phrase(context: ReadContext, ask: RuleShape) -> EffectOut:
    """What a phrase rule would change in the titles and descriptions of all listings; nothing is kept."""
    found, of = effect(context, ask.find, ask.put, ask.store)
    return EffectOut(
        count=len(found), of=of, first=[PhraseEffect(listing=i, sku=sku, before=was, after=now) for i, sku, was, now in found[:50]]
    )


@router.post("/phrases", status_code=201)
def add_phrase(context: WriteContext, ask: RuleShape) -> Done:
    """Keep a phrase rule, and change the words of listings in preparation and on sale by it. Can be undone."""
    n = add_rule(context, ask.find, ask.put, ask.store)
    return Done(message=f"The rule is saved; {n} listing{'s' if n != 1 else ''} changed", count=n)


@router.delete("/phrases/{number}")
def drop_phrase(context: WriteContext, number: Big) -> Done:
    """Take a phrase rule away; words that it changed stay as they are."""
    content_rule_changes.drop_rule(context, number)
    return Done(message="The rule is taken away; words that it changed stay as they are")


@router.put("/stores/{number}/words")
def store_words(context: WriteContext, number: Big, ask: StoreWords) -> Done:
    """What a store's titles may be."""
    titles.set_words(context, number, ask.title_most, ask.banned_words, ask.title_order, ask.tell_maker)
    return Done(message="Kept; what it would not take is said before publishing")


@router.post("/stores/{number}/read", status_code=202)
def read_anew(context: WriteContext, number: Big) -> ReadAnew:
    """Read a store's listings again, as a job: new ones come in, and where its words are not ours they are shown side by side."""
    store = context.get(Store, number, "store")
    if store.kind == "program":
        agent_leases.ask_to_read(context, store)
        return ReadAnew(job=None, message=f"{store.name}'s program reads its listings with its next round")
    if store.kind in UNCALLED:
        raise Conflict(f"{store.name} works by sheets: bring its listings in as a sheet")
    job = start(context, "join", f"join-store-{number}", f"Reading {store.name}'s listings", {"owner": "store", "id": number})
    return ReadAnew(job=job.id, message=f"Reading {store.name}'s listings")
