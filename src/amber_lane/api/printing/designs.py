"""Artwork placed on blanks: designs made, looked at, placed, and turned into listings."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...core.print_choice import Spot
from ...data.printing import Artwork, Blank, PrintDesign
from ...data.setup import Store, Supplier
from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.base.job_queue import start
from ...services.printing import designs, houses, look, variants
from ...services.printing.blank_terms import terms_of
from ...services.printing.look import DesignLook, HouseLook
from ...services.sourcing import print_samples
from ..deps import ReadContext, TheApp, WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, money, sure
from .artwork import Added, VersionedAsk
from .design_shapes import BlankOut, DesignOut, DesignRow, PrintColour, PrintHouseOut, PrintingOut, PrintSize, SpotOut

router = GuardedRouter("/printing", tags=["printing"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.LIST,))
Word = Annotated[str, Field(max_length=100)]
Length = Annotated[int, Field(ge=-designs.FAR, le=designs.FAR)]


class DesignAsk(Ask):
    name: Word = ""
    artwork: Big
    blank: Big


class SpotAsk(Ask):
    x: Length
    y: Length
    w: Annotated[int, Field(gt=0, le=designs.FAR)]


class DesignChangeAsk(Ask):
    """What is not given stays. places: by side; null = nothing is printed there."""

    version: int
    name: Word | None = None
    size: Word | None = None
    keep: str | None = Field(None, pattern="^(millimetres|proportion)$")
    left_out: list[Word] | None = Field(None, max_length=200)
    spares: list[Big] | None = Field(None, max_length=10)
    places: dict[Word, SpotAsk | None] | None = Field(None, max_length=12)


class VariantsAsk(Ask):
    store: Big


class PrintSampleAsk(Ask):
    colour: Word
    size: Word


class DesignSaved(BaseModel):
    """version: of the design as it is saved now, which the next change goes out from."""

    message: str
    version: int


class JobBegun(BaseModel):
    job: int
    message: str


@router.get("/designs")
def all_designs(context: ReadContext) -> PrintingOut:
    """Every design with what is sold of it, and every blank that can be printed on."""
    waits = look.waiting(context)
    found = houses.blanks(context)
    return PrintingOut(
        designs=[_row(context, one, waits.get(one.id, 0)) for one in designs.all_designs(context)],
        blanks=[
            BlankOut(
                id=blank.id,
                name=blank.name,
                kind=blank.kind,
                house=supplier.name,
                colours=[one.name for one in terms_of(blank).colours],
                sizes=[one.name for one in terms_of(blank).sizes],
            )
            for blank, supplier in found
        ],
    )


def _row(context: Context, one: PrintDesign, refused: int) -> DesignRow:
    blank = context.get(Blank, one.blank_id, "blank")
    sold = designs.sold(context, one.id)
    pictures = [number for _, number in (one.pictures or {}).values()]
    return DesignRow(
        id=one.id,
        version=one.version,
        name=one.name,
        artwork=context.get(Artwork, one.artwork_id, "artwork").name,
        blank=blank.name,
        kind=blank.kind,
        house=context.get(Supplier, blank.supplier_id, "supplier").name,
        picture=pictures[0] if pictures else None,
        sold=len(sold),
        on_sale=look.on_sale(context, sold),
        refused=refused,
    )


@router.get("/houses")
def compare(context: ReadContext, kind: Annotated[str, Query(max_length=40)], store: Big) -> list[PrintHouseOut]:
    """All blanks of a kind side by side, the cheapest at the store's door first."""
    return [_house(one, "") for one in look.compare(context, kind, context.get(Store, store, "store"))]


def _house(one: HouseLook, use: str) -> PrintHouseOut:
    return PrintHouseOut(
        blank=one.blank,
        name=one.name,
        house=one.house,
        colours=one.colours,
        sizes=one.sizes,
        landed=None if one.landed is None else sure(one.landed, one.currency),
        dearest=None if one.dearest is None else sure(one.dearest, one.currency),
        days_low=one.days[0],
        days_high=one.days[1],
        refused=one.refused,
        answered=one.answered,
        refunded=one.refunded,
        orders=one.orders,
        late=one.late,
        use=use,
    )


@router.post("/designs", status_code=201)
def create(context: WriteContext, ask: DesignAsk) -> Added:
    """Put artwork on a blank, as large as its print area allows."""
    row = designs.create(context, ask.name, ask.artwork, ask.blank)
    return Added(message=f"{row.name}: place it now", id=row.id)


@router.get("/designs/{number}")
def design(
    app: TheApp, context: ReadContext, number: Big, store: Annotated[int, Query(ge=0, lt=2**53)] = 0,
    side: Annotated[str, Query(max_length=60)] = "",
) -> DesignOut:  # fmt: skip
    """A design with its sizes, colours and houses, as it would be sold in a store; 0 = where it is listed, or the first one."""
    of = look.look(context, number, side)
    return _design(app, context, of, context.get(Store, store or look.store_of(context, number), "store"))


def _design(app: TheApp, context: Context, of: DesignLook, store: Store) -> DesignOut:
    row, terms = of.design, terms_of(of.blank)
    art = context.get(Artwork, row.artwork_id, "artwork")
    wanted, sold = variants.wanted(context, row), designs.sold(context, row.id)
    here_listed = look.listed_in(context, sold, store.id)
    worth = app.finder.worth(context, store.id, [one.item.id for one in wanted])
    known = {one.size: worth[one.item.id] for one in wanted if one.item.id in worth and worth[one.item.id].known}
    here = known.get(row.size)
    dear = max((one.price for one in known.values()), default=None)
    spares = set(row.spares or [])
    return DesignOut(
        id=row.id,
        version=row.version,
        name=row.name,
        artwork=art.id,
        artwork_name=art.name,
        blank=of.blank.id,
        blank_version=of.blank.version,
        blank_name=of.blank.name,
        kind=of.blank.kind,
        house=of.house.name,
        size=row.size,
        keep=row.keep,
        sides=of.sides,
        side=of.side,
        places={name: SpotOut(x=x, y=y, w=w) for name, (x, y, w) in of.places.items()},
        shape_w=of.shape[0],
        shape_h=of.shape[1],
        dpi_least=terms.dpi_least,
        dpi_good=terms.dpi_good,
        read_least=terms.read_least,
        sizes=[
            PrintSize(**{**vars(one), "area_w": one.area[0], "area_h": one.area[1], **dict(zip("xywh", one.spot, strict=True))})
            for one in of.sizes
        ],
        colours=[PrintColour(**vars(one)) for one in of.colours],
        houses=[
            _house(one, "main" if one.blank == row.blank_id else "spare" if one.blank in spares else "")
            for one in look.compare(context, of.blank.kind, store, row.size, len(of.places))
        ],
        store=store.id,
        combinations=len(wanted),
        missing=sum(1 for one in wanted if sold.get((one.colour, one.size)) not in here_listed),
        listings=of.listings,
        on_sale=of.on_sale,
        cost=money(here.landed, store.currency) if here else None,
        price=money(here.price, store.currency) if here else None,
        profit=money(here.profit, store.currency) if here else None,
        dearest_more=None if here is None or dear is None or dear <= here.price else sure(dear, store.currency),
    )  # fmt: skip


@router.patch("/designs/{number}")
def change(context: WriteContext, number: Big, ask: DesignChangeAsk) -> DesignSaved:
    """Place it otherwise, on another size, with other colours or spare houses; what is sold of it follows."""
    places = None if ask.places is None else {side: None if one is None else Spot(one.x, one.y, one.w) for side, one in ask.places.items()}
    wish = designs.DesignChange(ask.name, ask.size, ask.keep, ask.left_out, ask.spares, places)
    row = designs.change(context, number, ask.version, wish)
    context.session.flush()
    return DesignSaved(message=f"{row.name} is saved", version=row.version)


@router.post("/designs/{number}/remove")
def remove_design(context: WriteContext, number: Big, ask: VersionedAsk) -> Done:
    """Remove a design that nothing is sold of."""
    return Done(message=f"{designs.remove(context, number, ask.version).name} is removed")


@router.post("/designs/{number}/variants", status_code=202)
def make_variants(context: WriteContext, number: Big, ask: VariantsAsk) -> JobBegun:
    """Prepare listings of all colours and sizes that may be printed, each with its lanes, files, price and picture: a job."""
    row, store = context.get(PrintDesign, number, "design"), context.get(Store, ask.store, "store")
    n = len(variants.wanted(context, row))
    if not n:
        raise Invalid("nothing of it may be printed: see the sizes and colours for why")
    body = {"design": number, "store": ask.store}
    job = start(context, "print.variants", f"print-variants-{number}-{ask.store}", f"{row.name} for {store.name}", body, 3 * n)
    return JobBegun(job=job.id, message=f"{n} colours and sizes are being prepared for {store.name}")


@router.post("/designs/{number}/pictures", status_code=202)
def make_pictures(context: WriteContext, number: Big) -> JobBegun:
    """Draw its pictures anew and put them first at its listings in preparation: a job."""
    row = context.get(PrintDesign, number, "design")
    job = start(context, "print.pictures", f"print-pictures-{number}", f"Pictures of {row.name}", {"design": number})
    return JobBegun(job=job.id, message="The pictures are being drawn")


@router.post("/designs/{number}/sample", status_code=201)
@needs(P.ORDER)
def order_sample(context: WriteContext, number: Big, ask: PrintSampleAsk) -> Done:
    """Order one to our own address, printed as it would be for a buyer."""
    sample = print_samples.order(context, number, ask.colour, ask.size)
    return Done(message=f"A sample is ordered as {sample.reference}")
