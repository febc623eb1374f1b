"""What the views of the depot get. Shares are parts of 1; days are counted from today."""

from __future__ import annotations

from datetime import date, datetime

from pydantic import BaseModel

from ..schemas import Money


class DepotOut(BaseModel):
    """room: litres that it keeps for us, 0 = any; filled: of these; open_: whether it has an interface."""

    id: int
    name: str
    currency: str
    calls: bool
    room: int
    filled: float
    goods: int


class ArrivalOut(BaseModel):
    day: int
    units: int


class AheadOut(BaseModel):
    """By day from today's end: units expected, low and high (one in ten is below, above), and the chance that nothing is left."""

    expected: list[float]
    low: list[int]
    high: list[int]
    out: list[float]


class HeldRow(BaseModel):
    """One SKU that a depot holds. mean: units a day; order: units proposed now; order_in: days until it should be ordered; run_out: the
    chance of running out where it is ordered at the next look only; cover: days that it lasts."""

    id: int
    version: int
    sku: str
    sku_id: int
    title: str
    depot: str
    depot_id: int
    state: str
    there: int
    promised: int
    coming: int
    mean: float
    point: int
    order: int
    order_in: int | None
    order_cost: Money | None
    run_out: float
    cover: float | None
    slow: bool
    main: bool | None
    ahead: AheadOut
    arrivals: list[ArrivalOut]


class DepotView(BaseModel):
    """saving: a month, in the house's money; today: the day of the house that all days are counted from."""

    today: date
    days: int
    depots: list[DepotOut]
    rows: list[HeldRow]
    to_order: int
    spend: Money
    saving: Money | None
    worth: int
    loads: int
    differences: int


class BesideOut(BaseModel):
    name: str
    goods: Money
    stored: Money
    parcel: Money
    landed: Money
    days: int


class SeasonOut(BaseModel):
    """times: how many times as much as usual is sold, in ppm."""

    name: str
    first: date
    last: date
    times: int


class HeldGoodsOut(BaseModel):
    """All of one SKU at a depot. lead: days from ordering to being counted in, seen of so many loads (0 = as they say)."""

    row: HeldRow
    message: str
    answer: str
    lead_days: float
    lead_sd: float
    lead_seen: int
    service: float
    own_service: bool
    carton: int
    own_carton: int
    review: int
    inner: int
    least: int
    sides: list[int]
    weight_g: int
    source: str
    supplier: str
    days_known: int
    unit_cost: Money
    value: Money
    depot_unit: BesideOut | None
    direct_unit: BesideOut | None
    saving: Money | None
    storage_month: Money
    seasons: list[SeasonOut]
    told: int | None
    told_at: datetime | None
    quiet_until: date | None
    with_order: AheadOut | None
    with_arrivals: list[ArrivalOut]


class WorthPart(BaseModel):
    name: str
    amount: Money


class WorthRow(BaseModel):
    """A SKU that would be held. saving: a month; tied: what a first load ties up; dead: chance that a part is unsold after half a year."""

    sku: int
    code: str
    title: str
    depot: int
    depot_name: str
    supplier: str
    pace: float
    sold_days: int
    units: int
    carton: int
    direct: Money
    direct_days: int
    landed: Money
    days: int
    saving: Money
    tied: Money
    payback: float | None
    dead: float
    days_there: float
    guessed: bool
    sides: list[int]
    weight_g: int
    parts: list[WorthPart]
    held: int | None
    state: str


class AskedRow(BaseModel):
    """Goods that a depot was asked to hold and has not agreed to."""

    id: int
    version: int
    sku: str
    title: str
    depot: str
    calls: bool
    state: str
    message: str
    answer: str
    asked_at: datetime


class WorthView(BaseModel):
    """asked: what waits for a depot's yes, or has its no."""

    days: int
    rows: list[WorthRow]
    asked: list[AskedRow]


class LoadLineOut(BaseModel):
    id: int
    version: int
    held: int
    sku: str
    title: str
    units: int
    packs: int
    cost: Money
    lot: str
    best_before: date | None
    counted: int | None
    damaged: int
    difference: str
    lost: Money | None
    picture: int | None
    settled: str
    claimed: Money | None
    came_back: Money | None
    money_back: bool


class CartonOut(BaseModel):
    sscc: str
    weight_g: int
    holds: list[str]


class LoadOut(BaseModel):
    """Steps: planned, ordered, on_the_way, at_gate, counted; at: when each was."""

    id: int
    version: int
    reference: str
    depot: str
    depot_calls: bool
    sender: str
    own: bool
    sender_calls: bool
    state: str
    message: str
    due: date | None
    made_at: datetime
    ordered_at: datetime | None
    left_at: datetime | None
    reached_at: datetime | None
    counted_at: datetime | None
    units: int
    goods: Money
    freight: Money
    taking_in: Money | None
    billed: Money | None
    service: str
    tracking: str
    lines: list[LoadLineOut]
    cartons: list[CartonOut]
    open: int


class StockEntryOut(BaseModel):
    at: datetime
    kind: str
    units: int
    there: int
    worth: Money
    value: Money
    lot: str
    best_before: date | None
    who: str
    reason: str


class LedgerOut(BaseModel):
    """told: what the depot said was there; differs: whether that is otherwise than ours at two looks."""

    held: int
    version: int
    sku: str
    title: str
    depot: str
    there: int
    promised: int
    value: Money
    told: int | None
    told_at: datetime | None
    differs: bool
    entries: list[StockEntryOut]


class SlowRow(BaseModel):
    held: int
    version: int
    sku: str
    sku_id: int
    title: str
    depot: str
    currency: str
    there: int
    days: float | None
    month: Money
    value: Money


class ReorderPlanRow(BaseModel):
    held: int
    sku: str
    title: str
    depot: str
    supplier: str
    wanted: int
    units: int
    cost: Money
    avoided: Money
    litres: float


class ReorderPlanOut(BaseModel):
    """wanted: what all would cost; spent: what fits; avoided: contribution that is expected not to be lost by it."""

    rows: list[ReorderPlanRow]
    wanted: Money
    spent: Money
    avoided: Money
    litres: float


class WishesOut(BaseModel):
    """service, hold: percent."""

    service: float
    review: int
    hold: float
    order_cost: Money
    prefix: str
    warn_to: list[str]
    warn_hours: int
    budget: Money | None


class DepotTermsOut(BaseModel):
    """storage: of a litre for thirty days; sides of a carton in mm. told: its interface says all this. lines_off: of the
    lines that it counted, those that were not what was sent."""

    depot: int
    name: str
    version: int
    told: bool
    storage: Money
    storage_exact: float
    receive: Money
    pick: Money
    weight_most: int
    side_most: int
    value_most: Money
    kinds: list[str]
    carton_weight: int
    carton_sides: list[int]
    days_low: int
    days_high: int
    room: int
    address: dict[str, str]
    lines_counted: int
    lines_off: int
