"""Sizes, colours and other options of one thing: the matrix of a listing, looked at and kept."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from ...core.options import Option
from ...core.permissions import Permission as P
from ...core.states import ListingState
from ...data.source import Item
from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.listings import variant_commands, variant_matrix
from ...services.listings.variant_matrix import Combination, Matrix
from ...services.partners import rosters
from ..deps import ReadContext, TheApp, WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Money, minor, money, sure

router = GuardedRouter("/shelf", tags=["shelf"], read=(P.SEE_GOODS,), write=(P.LIST,))
Word = Annotated[str, Field(min_length=1, max_length=60)]


class OptionShape(Ask):
    name: Word
    values: list[Word] = Field(min_length=1, max_length=50)


class LookAsk(Ask):
    """options None: those that it has, or that its supplier's items differ in. numbers: items to choose from as well."""

    options: list[OptionShape] | None = Field(None, max_length=8)
    numbers: list[Annotated[str, Field(max_length=100)]] = Field(default_factory=list, max_length=50)


class ChoiceOut(BaseModel):
    """A supplier item that a combination may be filled by, as it would be in the store. stock -1: not told."""

    id: int
    number: str
    title: str
    options: str
    cost: Money
    stock: int
    lands: Money | None
    price: Money | None
    profit: Money | None


class CombinationOut(BaseModel):
    """part: it belongs to the family now; state '' where no listing of the store stands for it. by_hand: its price is fixed."""

    values: list[str]
    part: bool
    sku: str
    listing: int | None
    state: str
    item: int | None
    price: Money | None
    by_hand: bool
    profit: Money | None
    most: int | None
    shows: int
    picture: int | None


class MatrixOut(BaseModel):
    listing: int
    version: int
    sku: str
    store: str
    currency: str
    supplier: str
    title: str
    options: list[OptionShape]
    rows: list[CombinationOut]
    items: list[ChoiceOut]
    pictures: list[int]


class WishIn(Ask):
    """price None: by the rule. most None: as many as the policy says."""

    values: list[Word] = Field(min_length=1, max_length=8)
    kept: bool
    item: Big | None = None
    price: Money | None = None
    most: int | None = Field(None, ge=0, le=1_000_000)
    picture: Big | None = None


class KeepAsk(Ask):
    version: int
    title: str = Field("", max_length=300)
    options: list[OptionShape] = Field(min_length=1, max_length=8)
    rows: list[WishIn] = Field(max_length=variant_matrix.MOST)


class KeptOut(BaseModel):
    """failed: a combination -> why it could not be made; the rest is done."""

    message: str
    made: int
    dropped: int
    failed: dict[str, str]
    matrix: MatrixOut


@router.post("/listings/{number}/family/look")
@needs(P.SEE_GOODS)
def look(context: ReadContext, app: TheApp, number: Big, ask: LookAsk) -> MatrixOut:
    """All combinations of a listing's options with what stands for each, or what would; nothing is changed."""
    return _out(
        context, variant_matrix.build(context, app.finder, number, None if ask.options is None else _options(ask.options), ask.numbers)
    )


@router.put("/listings/{number}/family")
def keep(context: WriteContext, app: TheApp, number: Big, ask: KeepAsk) -> KeptOut:
    """Make, change and drop combinations at once. Can be undone as one."""
    wishes = []
    for one in ask.rows:
        price = minor(one.price, "price")
        if price is not None and price <= 0:
            raise Invalid("a price must lie between 0.01 and 1,000,000", {"price": "must be above nothing"})
        wishes.append(variant_commands.VariantRequest(tuple(one.values), one.kept, one.item, price, one.most, one.picture))
    matrix, done = variant_commands.save_variants(context, app.finder, number, ask.version, ask.title, _options(ask.options), wishes)
    parts = [f"{done.made} made" if done.made else "", f"{done.dropped} dropped" if done.dropped else ""]
    message = ", ".join(part for part in parts if part) or "Kept"
    return KeptOut(message=message, made=done.made, dropped=done.dropped, failed=done.failed, matrix=_out(context, matrix))


def _options(given: list[OptionShape]) -> list[Option]:
    return [Option(one.name, tuple(one.values)) for one in given]


def _choice(item: Item, made: Matrix) -> ChoiceOut:
    worth = made.worth.get(item.id)

    def cash(amount: int) -> Money | None:
        return sure(amount, made.store.currency) if worth and worth.known else None

    return ChoiceOut(
        id=item.id,
        number=item.number,
        title=item.title,
        options=item.options,
        cost=sure(item.cost, item.currency),
        stock=item.stock,
        lands=cash(worth.landed if worth else 0),
        price=cash(worth.price if worth else 0),
        profit=cash(worth.profit if worth else 0),
    )


def _out(context: Context, made: Matrix) -> MatrixOut:
    items = {one.id: one for one in [*made.items, *(row.item for row in made.rows if row.item)]}
    supplier = rosters.supplier_names(context)[next(iter(items.values())).supplier_id] if items else ""
    own = next((row.sku.code for row in made.rows if row.listing is made.listing and row.sku), "")
    return MatrixOut(
        listing=made.listing.id,
        version=made.listing.version,
        sku=own,
        store=made.store.name,
        currency=made.store.currency,
        supplier=supplier or "",
        title=made.title,
        options=[OptionShape(name=one.name, values=list(one.values)) for one in made.options],
        rows=[_row(one, made.store.currency) for one in made.rows],
        items=[_choice(one, made) for one in items.values()],
        pictures=made.pictures,
    )


def _row(one: Combination, currency: str) -> CombinationOut:
    row = one.listing
    listed = row is not None and row.state != ListingState.ended
    return CombinationOut(
        values=list(one.values),
        part=one.part and listed,
        sku=one.sku.code if one.sku else "",
        listing=row.id if row else None,
        state=row.state if row else "",
        item=one.item.id if one.item else None,
        price=money(row.wanted_price if row and listed else None, currency),
        by_hand=bool(row and listed and row.hand_price is not None),
        profit=money(row.profit if row and listed else None, currency),
        most=row.most if row else None,
        shows=row.wanted_quantity if row and row.state == ListingState.live else 0,
        picture=next(iter(row.pictures or []), None) if row else None,
    )
