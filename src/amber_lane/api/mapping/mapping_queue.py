"""The mapping desk: what to settle, what might fill it, one key settles each; and what was found wrong with lanes."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import Query
from pydantic import BaseModel, Field

from ...core.likeness import Mark
from ...core.numbers import parse_units, show_units
from ...core.permissions import Permission as P
from ...data.bulk import by_id
from ...data.setup import Origin, Supplier
from ...data.shelf import Sku
from ...services.base.errors import Invalid
from ...services.base.job_queue import start
from ...services.base.regional import home_of
from ...services.mapping import audit, auto_matching, bulk_changes, item_candidates, switch_supplier, variants
from ...services.mapping.landed_cost import UnitLanded
from ...services.mapping.lanes import LaneItem, LaneRequest, supplier_names
from ...services.mapping.mapping_queue import to_settle
from ...services.mapping.scope import own_items, own_sku
from ...services.people import handing_out
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, money, sure

router = GuardedRouter("/lanes", tags=["lanes"], read=(P.SEE_GOODS,), write=(P.MAP,), limited=True)
SHOWN = 500


class ToSettleRow(BaseModel):
    """kind: no lane, lane shut or item gone; told: the reason; waiting: what the orders that wait leave us."""

    sku_id: int
    sku: str
    title: str
    kind: str
    message: str
    orders: int
    since: datetime | None
    waiting: Money | None
    # Whom it is given to, '' = nobody; mine: whoever looks.
    given: str
    mine: bool


class ToSettle(BaseModel):
    """learnt: patterns of numbers that count as evidence, in words."""

    rows: list[ToSettleRow]
    total: int
    faults: int
    learnt: list[str]


class EvidenceOut(BaseModel):
    """weight above nothing: it agrees; below: it differs, or only one side says it."""

    field: str
    ours: str
    theirs: str
    weight: float


class MarkOut(BaseModel):
    """Letters start to end of a title; kind: same, differs, or only (the other is silent)."""

    start: int
    end: int
    kind: str


class OfferOut(BaseModel):
    """One item that might fill the SKU. marks: in its title, our_marks: in ours; decision: open, review, none.

    lane: the lane that this SKU has to it already.
    """

    item_id: int
    number: str
    title: str
    supplier: str
    origin: str
    cost: Money | None
    stock: int
    makes: int | None
    offer: str
    units: str
    landed: Money | None
    reason_not: str
    days_low: int
    days_high: int
    profit: Money | None
    net: Money | None
    score: int
    decision: str
    agrees: list[str]
    differs: list[str]
    doubt: str
    lane: int | None
    lane_version: int
    lane_state: str
    evidence: list[EvidenceOut]
    marks: list[MarkOut]
    our_marks: list[MarkOut]


@router.get("/to-settle")
def queue(context: ReadContext) -> ToSettle:
    """SKUs that need a person, those that orders wait for first, then the dearest."""
    rows, home, has = to_settle(context), home_of(context.session), handing_out.given(context)
    if has:
        # Their own first; the others stay in their order.
        rows.sort(key=lambda one: not ((found := has.get(handing_out.sku_key(one.sku.id))) and found.mine))
    names = supplier_names(context)
    learnt = [f"{names.get(int(one.supplier), '')}: {one.message}, in {one.seen} lanes" for one in auto_matching.patterns(context)]
    shown = [
        ToSettleRow(
            sku_id=one.sku.id,
            sku=one.sku.code,
            title=one.sku.title,
            kind=one.kind,
            message=one.message,
            orders=one.orders,
            since=one.since,
            waiting=sure(one.waiting, home),
            given=has[key].name if (key := handing_out.sku_key(one.sku.id)) in has else "",
            mine=key in has and has[key].mine,
        )
        for one in rows[:SHOWN]
    ]
    return ToSettle(rows=shown, total=len(rows), faults=audit.last_faults(context)["count"], learnt=learnt)


def _marks(found: list[Mark]) -> list[MarkOut]:
    return [MarkOut(start=one.start, end=one.end, kind=one.kind) for one in found]


@router.get("/skus/{sku_id}/candidates")
def candidates(context: ReadContext, sku_id: Big, words: Annotated[str, Query(max_length=200)] = "") -> list[OfferOut]:
    """The likest items for a SKU, or those that hold some words; pairs that were refused are left out."""
    own_sku(context, sku_id)
    row = context.get(Sku, sku_id, "SKU")
    found = item_candidates.offers(context, row, words, limit=9 if words else 6)
    suppliers = by_id(context.session, Supplier, (one.like.item.supplier_id for one in found.rows))
    origins = by_id(context.session, Origin, (one.like.item.origin_id or 0 for one in found.rows))
    cur = found.listing.currency if found.listing else found.store.currency if found.store else home_of(context.session)
    return [
        OfferOut(
            item_id=one.like.item.id,
            number=one.like.item.number,
            title=one.like.item.title,
            supplier=suppliers[one.like.item.supplier_id].name,
            origin=origins[one.like.item.origin_id].name if one.like.item.origin_id else "",
            cost=sure(one.like.item.cost, one.like.item.currency),
            stock=one.like.item.stock,
            makes=one.stock,
            offer=one.like.item.offer,
            units=show_units(one.units.numerator, one.units.denominator),
            landed=None if one.cost.reason else sure(one.cost.landed, cur),
            reason_not=one.cost.reason,
            days_low=one.cost.days_low,
            days_high=one.cost.days_high,
            profit=money(one.profit, cur),
            net=money(one.net, cur),
            score=one.like.score,
            decision=one.like.decision,
            agrees=one.like.agrees,
            differs=one.like.differs,
            doubt=one.doubt,
            lane=one.lane.id if one.lane else None,
            lane_version=one.lane.version if one.lane else 0,
            lane_state=one.lane.state if one.lane else "",
            evidence=[EvidenceOut(field=e.field, ours=e.ours, theirs=e.theirs, weight=round(e.weight, 3)) for e in one.like.evidence],
            marks=_marks(one.theirs),
            our_marks=_marks(one.ours),
        )
        for one in found.rows
    ]


class GiveSkusAsk(Ask):
    """person: to whom; null = to nobody, so that they are everybody's again."""

    skus: list[Big] = Field(min_length=1, max_length=500)
    person: Big | None


@router.post("/give")
def give_skus(context: WriteContext, ask: GiveSkusAsk) -> Done:
    """Give SKUs of the queue to somebody, who sees theirs first."""
    for sku in ask.skus:
        own_sku(context, sku)
        said = handing_out.give(context, handing_out.sku_key(sku), ask.person, (P.SEE_GOODS, P.MAP))
    return Done(message=said, count=len(ask.skus))


class RefuseAsk(Ask):
    items: list[Big] = Field(min_length=1, max_length=50)


@router.post("/skus/{sku_id}/refuse")
def refuse(context: WriteContext, sku_id: Big, ask: RefuseAsk) -> Done:
    """None of these fills the SKU: they are not offered for it again."""
    own_sku(context, sku_id)
    n = bulk_changes.refuse(context, sku_id, ask.items)
    return Done(message=f"{n} item{'s' if n != 1 else ''} will not be offered for it again", count=n)


class CellOut(BaseModel):
    sku_id: int
    supplier_id: int
    item_id: int
    number: str
    title: str
    score: int
    decision: str
    differs: list[str]
    units: str
    landed: Money | None
    stock: int
    offer: str


class VariantMember(BaseModel):
    sku_id: int
    sku: str
    title: str
    has_lane: bool


class SupplierColumn(BaseModel):
    id: int
    name: str


class FamilyOut(BaseModel):
    """Sizes and colours of one thing (rows), suppliers that have some of it (columns), the likest item in each place."""

    members: list[VariantMember]
    suppliers: list[SupplierColumn]
    cells: list[CellOut]


@router.get("/skus/{sku_id}/family")
def family(context: ReadContext, sku_id: Big) -> FamilyOut:
    own_sku(context, sku_id)
    found = variants.family_of(context, sku_id)
    return FamilyOut(
        members=[VariantMember(sku_id=one.id, sku=one.code, title=one.title, has_lane=one.id in found.laned) for one in found.skus],
        suppliers=[SupplierColumn(id=one.id, name=one.name) for one in found.suppliers],
        cells=[
            CellOut(
                sku_id=sku,
                supplier_id=supplier,
                item_id=cell.item.id,
                number=cell.item.number,
                title=cell.item.title,
                score=cell.score,
                decision=cell.decision,
                differs=cell.differs,
                units=show_units(cell.units.numerator, cell.units.denominator),
                landed=money(cell.landed, found.currency),
                stock=cell.item.stock,
                offer=cell.item.offer,
            )
            for (sku, supplier), cell in found.cells.items()
        ],
    )


class PickAsk(Ask):
    sku_id: Big
    item_id: Big
    units: str = Field("1", max_length=20)
    use: int = Field(0, ge=0, le=99)


class PicksAsk(Ask):
    picks: list[PickAsk] = Field(min_length=1, max_length=500)


@router.post("/many", status_code=201)
def open_many(context: WriteContext, ask: PicksAsk) -> Done:
    """Open lanes for several SKUs as one act."""
    for sku in {one.sku_id for one in ask.picks}:
        own_sku(context, sku)
    own_items(context, [one.item_id for one in ask.picks])
    try:
        wishes = [
            LaneRequest(
                one.sku_id,
                [LaneItem(one.item_id, parse_units(one.units))],
                one.use,
                match_evidence=item_candidates.proof_for(context, context.get(Sku, one.sku_id, "SKU"), one.item_id),
            )
            for one in sorted(ask.picks, key=lambda one: (one.sku_id, one.use))
        ]
    except ValueError as error:
        raise Invalid(str(error), {"units": str(error)}) from error
    skus = {one.sku for one in wishes}
    n = len(wishes)
    message = f"{n} lane{'s' if n != 1 else ''} opened for {len(skus)} SKUs together"
    bulk_changes.in_one(context, "lane.many", skus, lambda _: message, wishes)
    return Done(message=message, count=n)


class BulkAsk(Ask):
    ids: list[Big] = Field(min_length=1, max_length=100_000)
    what: str = Field(pattern="^(main|shut|open|slow|close)$")
    reason: str = Field("", max_length=300)


@router.post("/bulk")
@needs(P.MAP)
def bulk(context: WriteContext, ask: BulkAsk) -> Done:
    """Change many lanes as one act: make them main, shut, let be used, close."""
    n = bulk_changes.change_many(context, ask.ids, ask.what, ask.reason)
    return Done(message=f"{n} lane{'s' if n != 1 else ''} changed", count=n)


class MoveFrom(Ask):
    source: Big
    target: Big
    lanes: list[Big] = Field(default_factory=list, max_length=2000)


class MoveOut(BaseModel):
    """One lane and the likest item of the other supplier. has: the SKU has a lane to it already, which would become the main one."""

    lane: int
    sku_id: int
    sku: str
    title: str
    item: str
    item_title: str
    to_id: int | None
    to: str
    to_title: str
    score: int
    decision: str
    agrees: list[str]
    differs: list[str]
    lands: Money | None
    would_land: Money | None
    reason_not: str
    stock: int | None
    has: bool


@router.post("/move/preview")
@needs(P.MAP)
def move_preview(context: ReadContext, ask: MoveFrom) -> list[MoveOut]:
    """What moving a supplier's main lanes to another supplier would mean; nothing is changed."""
    return [
        MoveOut(
            lane=one.lane.id,
            sku_id=one.sku.id,
            sku=one.sku.code,
            title=one.sku.title,
            item=one.old.number,
            item_title=one.old.title,
            to_id=one.item.id if one.item else None,
            to=one.item.number if one.item else "",
            to_title=one.item.title if one.item else "",
            score=one.score,
            decision=one.decision,
            agrees=one.agrees,
            differs=one.differs,
            lands=_landed(one.now, one.currency),
            would_land=_landed(one.then, one.currency),
            reason_not=one.then.reason,
            stock=one.item.stock if one.item else None,
            has=one.has is not None,
        )
        for one in switch_supplier.preview(context, ask.source, ask.target, ask.lanes)
    ]


def _landed(cost: UnitLanded, currency: str) -> Money | None:
    return None if cost.reason else sure(cost.landed, currency)


class MoveAsk(Ask):
    """picks: pairs of SKU and item."""

    source: Big
    picks: list[tuple[Big, Big]] = Field(min_length=1, max_length=2000)
    keep_old: bool = True


@router.post("/move")
@needs(P.MAP)
def move(context: WriteContext, ask: MoveAsk) -> Done:
    picks = dict(ask.picks)
    skus = by_id(context.session, Sku, picks)
    proofs = {}
    for sku, item in picks.items():
        if sku in skus and (proof := item_candidates.proof_for(context, skus[sku], item)):
            proofs[sku] = proof
    n = switch_supplier.move(context, ask.source, picks, proofs, ask.keep_old)
    return Done(message=f"{n} lane{'s' if n != 1 else ''} moved", count=n)


class FaultOut(BaseModel):
    """step: what mends it; act '' = a person looks at the SKU."""

    key: str
    kind: str
    message: str
    reason: str
    sku_id: int
    sku: str
    step: str
    act: str


@router.get("/faults")
@needs(P.SEE_GOODS)
def faults(context: ReadContext) -> list[FaultOut]:
    """Lanes that cannot be right, looked for anew."""
    return [
        FaultOut(
            key=one.key, kind=one.kind, message=one.message, reason=one.reason, sku_id=one.sku, sku=one.code, step=one.step, act=one.act
        )
        for one in audit.faults(context)
    ]


class FaultAsk(Ask):
    key: str = Field(max_length=100)


@router.post("/faults/mend")
@needs(P.MAP)
def mend(context: WriteContext, ask: FaultAsk) -> Done:
    one = audit.mend(context, ask.key)
    return Done(message=f"{one.code}: {one.step[0].lower()}{one.step[1:]}")


@router.post("/faults/aside")
@needs(P.MAP)
def aside(context: WriteContext, ask: FaultAsk) -> Done:
    """It is no fault, and not shown again."""
    audit.set_aside(context, ask.key)
    return Done(message="Set aside; it is not shown again while it stays as it is")


class MatchingStarted(BaseModel):
    job: int


@router.post("/sure", status_code=202)
@needs(P.MAP)
def open_sure(context: WriteContext) -> MatchingStarted:
    """Look over all SKUs without a lane and open the sure ones."""
    return MatchingStarted(job=start(context, "match", "match-all", "Matching SKUs without a lane", {"open": True}).id)
