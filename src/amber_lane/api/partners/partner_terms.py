"""How suppliers send: origins with their cut-off hours, holidays and return addresses, and services by weight or piece."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from ...connectors.protocols import OriginTerms, ServiceTerms
from ...core.permissions import Permission as P
from ...data.setup import Supplier
from ...services.base.errors import Invalid
from ...services.monitoring import catalogue_sheets
from ...services.partners import partner_terms
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, minor, sure

router = GuardedRouter("/setup/suppliers", tags=["sending"], read=(P.SETTINGS,), write=(P.SETTINGS,))
Short = Annotated[str, Field(max_length=60)]
Days = Annotated[int, Field(ge=0, le=120)]


class BandShape(Ask):
    up_to_g: int = Field(gt=0, le=1_000_000)
    first: Money
    following: Money


class ServiceShape(Ask):
    code: Short
    name: Short
    country: str = Field(min_length=2, max_length=2)
    first: Money
    following: Money
    free_over: Money | None = None
    days_low: Days
    days_high: Days
    tracked: bool = True
    bands: list[BandShape] = Field(default_factory=list, max_length=20)


class OriginShape(Ask):
    code: Short
    name: Short
    country: str = Field(min_length=2, max_length=2)
    cut_off: str = Field("16:00", max_length=5)
    handling: Money
    return_address: str = Field("", max_length=400)
    holidays: list[str] = Field(default_factory=list, max_length=60)
    services: list[ServiceShape] = Field(max_length=200)


class SendingOut(BaseModel):
    """version: of the supplier. editable: a person says how it sends; elsewhere the supplier tells it itself."""

    version: int
    currency: str
    editable: bool
    origins: list[OriginShape]


class SendingAsk(Ask):
    version: int
    origins: list[OriginShape] = Field(max_length=40)


@router.get("/{number}/sending")
def sending(context: ReadContext, number: Big) -> SendingOut:
    supplier = context.get(Supplier, number, "supplier")
    cur = supplier.currency
    return SendingOut(
        version=supplier.version,
        currency=cur,
        editable=supplier.kind in catalogue_sheets.BY_SHEETS,
        origins=[
            OriginShape(
                code=o.code,
                name=o.name,
                country=o.country,
                cut_off=o.cut_off,
                handling=sure(o.handling, cur),
                return_address=o.return_address,
                holidays=list(o.holidays),
                services=[
                    ServiceShape(
                        code=v.code,
                        name=v.name,
                        country=v.country,
                        first=sure(v.first, cur),
                        following=sure(v.following, cur),
                        free_over=None if v.free_over is None else sure(v.free_over, cur),
                        days_low=v.days_low,
                        days_high=v.days_high,
                        tracked=v.tracked,
                        bands=[BandShape(up_to_g=g, first=sure(first, cur), following=sure(more, cur)) for g, first, more in v.bands],
                    )
                    for v in o.services
                ],
            )
            for o in partner_terms.origins_of(context, supplier)
        ],
    )


@router.put("/{number}/sending")
def set_sending(context: WriteContext, number: Big, ask: SendingAsk) -> Done:
    """How a supplier sends, all of it anew; prices follow. Can be undone."""
    supplier = catalogue_sheets.supplier_by_sheets(context, number)

    def cash(given: Money | None, what: str) -> int:
        if given is not None and given.currency != supplier.currency:
            raise Invalid(f"{what}: {supplier.name} works in {supplier.currency}")
        return minor(given, what) or 0

    terms = [
        OriginTerms(
            o.code,
            o.name,
            o.country.upper(),
            o.cut_off,
            cash(o.handling, "handling"),
            [
                ServiceTerms(
                    v.code,
                    v.name,
                    v.country.upper(),
                    cash(v.first, "first unit"),
                    cash(v.following, "each next"),
                    None if v.free_over is None else cash(v.free_over, "free over"),
                    v.days_low,
                    v.days_high,
                    v.tracked,
                    tuple(sorted((band.up_to_g, cash(band.first, "first unit"), cash(band.following, "each next")) for band in v.bands)),
                )
                for v in o.services
            ],
            o.return_address,
            tuple(o.holidays),
        )
        for o in ask.origins
    ]
    return Done(message=f"How {partner_terms.set_origins(context, number, ask.version, terms).name} sends is saved")
