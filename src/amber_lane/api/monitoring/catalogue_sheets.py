"""The sheets of suppliers that tell nothing by themselves: looked at, their columns named, taken in."""

from __future__ import annotations

import hashlib
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

from fastapi import Query, Request, Response
from pydantic import BaseModel, Field

from ...connectors.errors import OutsideError
from ...core.permissions import Permission as P
from ...data.setup import Supplier
from ...services.base.context import Context
from ...services.base.errors import Invalid, NotFound
from ...services.base.job_queue import start
from ...services.base.regional import place_of
from ...services.monitoring import catalogue_sheets
from ...sheets.mapped import FIELDS, NEEDED, Reading, look
from ..deps import AppState, ReadContext, SignedIn, TheApp, WriteContext
from ..files import SheetFile
from ..guard import GuardedRouter
from ..imports.sheets import bad_rows_of
from ..schemas import SHEET, Ask, Big, Form, Money, sure

router = GuardedRouter("/suppliers", tags=["catalogues"], read=(P.SETTINGS,), write=(P.SETTINGS,))
Token = Annotated[str, Query(pattern="^([0-9a-f]{24})?$")]


class Uploaded(BaseModel):
    token: str


class FieldOut(BaseModel):
    name: str
    needed: bool


class ReadingShape(Ask):
    """How a sheet is read. columns: ours -> the column's name in the sheet."""

    columns: dict[str, str] = Field(max_length=40)
    encoding: str = Field(max_length=20)
    separator: str = Field(max_length=1)
    decimal: str = Field(max_length=1)
    header: list[str] = Field(default_factory=list, max_length=500)
    tab: str = Field("", max_length=200)
    pieces: str = Field(".", max_length=1)


class LookOut(BaseModel):
    reading: ReadingShape
    rows: list[list[str]]
    missing: list[str]
    fields: list[FieldOut]
    # Whether the columns are as they were named before, or guessed now.
    remembered: bool
    also: list[str]
    # Whether its sheets list all that it sells; None = nobody was asked. asks_whole: that matters for this supplier.
    whole: bool | None
    asks_whole: bool
    # Columns that could be meant as well; the sheets of the workbook; rows above the header.
    doubts: dict[str, list[str]]
    tabs: list[str]
    above: int
    made_at: datetime | None


class ItemOut(BaseModel):
    number: str
    title: str
    cost: Money
    stock: int
    pack_size: int
    gtin: str
    options: str


class TriedOut(BaseModel):
    items: list[ItemOut]
    good: int
    bad: list[str]
    bad_count: int
    notices: list[str]
    # Currencies beside the supplier's own that the sheet names, and in how many rows.
    monies: dict[str, int]


class TryAsk(Ask):
    """also: currencies beside the supplier's own that its items may cost in; None as agreed before."""

    reading: ReadingShape
    also: list[Annotated[str, Field(pattern="^[A-Z]{3}$")]] | None = Field(None, max_length=10)
    token: str = Field("", pattern="^([0-9a-f]{24})?$")
    # Whether its sheets list all that it sells; None = as was said before.
    whole: bool | None = None


class ReadingStarted(BaseModel):
    job: int
    message: str


@router.post("/{number}/sheet", status_code=201)
def upload(data: SheetFile, context: ReadContext, app: TheApp, number: Big) -> Uploaded:
    """Hand in a supplier's catalogue sheet; nothing is read of it yet."""
    catalogue_sheets.supplier_by_sheets(context, number)
    token = hashlib.sha256(data).hexdigest()[:24]
    path = _path(app, number, token)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    return Uploaded(token=token)


def _path(app: AppState, number: int, token: str) -> Path:
    return app.settings.data / "sheets" / f"catalogue-{number}-{token}.sheet"


def _sheet(app: AppState, supplier: Supplier, token: str) -> tuple[bytes, datetime | None]:
    """A sheet that was handed in, or the newest in the supplier's folder. The call is outside any transaction."""
    if token:
        path = _path(app, supplier.id, token)
        if not path.is_file():
            raise NotFound("that sheet is not here any more; bring it in again")
        return path.read_bytes(), None
    if supplier.kind != "folder":
        raise Invalid("bring a sheet in first")
    with app.db.reading() as s:
        fetch = app.connectors.sheet(Context(s, app.clock, ""), supplier.id)
    try:
        data, at = fetch()
    except OutsideError as error:
        raise Invalid(error.message) from error
    return data, at


def _supplier(app: AppState, number: int) -> Supplier:
    with app.db.reading() as s:
        return catalogue_sheets.supplier_by_sheets(Context(s, app.clock, ""), number)


@router.get("/{number}/sheet")
def see(
    app: TheApp,
    person: SignedIn,
    number: Big,
    token: Token = "",
    encoding: Annotated[str, Query(max_length=20)] = "",
    tab: Annotated[str, Query(max_length=200)] = "",
) -> LookOut:
    """How the sheet seems to be made, its first rows, and which of its columns seem to be ours."""
    supplier = _supplier(app, number)
    data, at = _sheet(app, supplier, token)
    with app.db.reading() as s:
        manner = place_of(s).manner
    found = look(data, encoding, tab=tab, house=manner.decimal)
    kept = supplier.reading or {}
    # What was named before is offered again, as far as the columns are still there.
    named = {ours: theirs for ours, theirs in kept.get("columns", {}).items() if theirs in found.reading.header}
    reading = Reading(**{**found.reading.kept(), "columns": named or found.reading.columns})
    return LookOut(
        reading=ReadingShape(**reading.kept()),
        rows=found.rows,
        missing=[name for name in NEEDED if name not in reading.columns],
        fields=[FieldOut(name=name, needed=name in NEEDED) for name in FIELDS],
        remembered=bool(named),
        also=supplier.also or [],
        whole=supplier.sheet_whole,
        asks_whole=supplier.kind == "sheet",
        doubts={} if named else found.doubts,
        tabs=found.tabs,
        above=found.above,
        made_at=at,
    )


@router.post("/{number}/sheet/try")
def try_it(app: TheApp, person: SignedIn, number: Big, ask: TryAsk) -> TriedOut:
    """What the sheet would give with its columns named so; nothing is kept."""
    supplier = _supplier(app, number)
    data, _ = _sheet(app, supplier, ask.token)
    tried = catalogue_sheets.try_reading(supplier, data, catalogue_sheets.check_reading(_reading(ask)), ask.also)
    if ask.token:
        catalogue_sheets.keep_bad(_path(app, number, ask.token), tried.header, tried.bad_rows)
    items = [
        ItemOut(
            number=one.number,
            title=one.title,
            cost=sure(one.cost, one.currency),
            stock=one.stock,
            pack_size=one.pack_size,
            gtin=one.gtin,
            options=one.options,
        )
        for one in tried.items[:8]
    ]
    return TriedOut(
        items=items, good=len(tried.items), bad=tried.bad[:50], bad_count=len(tried.bad), notices=tried.notices, monies=tried.monies
    )


def _also(context: Context, number: int, ask: TryAsk) -> list[str]:
    return list(ask.also if ask.also is not None else context.get(Supplier, number, "supplier").also or [])


def _reading(ask: TryAsk) -> Reading:
    return Reading(**ask.reading.model_dump())


@router.post("/{number}/sheet/keep", status_code=202)
def keep(app: TheApp, context: WriteContext, request: Request, number: Big, ask: TryAsk) -> ReadingStarted:
    """Remember the columns and take the sheet in, as a job."""
    supplier = catalogue_sheets.keep_reading(context, number, _reading(ask), _also(context, number, ask), ask.whole)
    body: dict[str, Any] = {"owner": "supplier", "id": number}
    if ask.token:
        body["path"] = str(_path(app, number, ask.token))
    kind = "catalogue" if ask.token else "join"
    job = start(context, kind, f"{kind}-supplier-{number}", f"Bringing in {supplier.name}'s items", body)
    return ReadingStarted(job=job.id, message=f"{supplier.name}'s columns are saved; its items are being imported")


@router.get("/{number}/sheet/bad/{token}.{form}", response_class=Response, responses=SHEET)
def bad_rows(app: TheApp, person: SignedIn, number: Big, token: str, form: Form) -> Response:
    """The rows of a catalogue sheet that could not be read, as they stood, each with why."""
    if not token.isalnum() or len(token) != 24:
        raise NotFound("that sheet is not here any more; bring it in again")
    return bad_rows_of(_path(app, number, token).with_suffix(".bad.json"), "items", form)
