"""Sheets in and out: templates, checking, taking, bad rows handed back; lists and purchase orders taken out."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, tzinfo
from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import Depends, File, Request, Response, UploadFile
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field
from sqlalchemy import Row
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from ...core.currency import plain
from ...core.numbers import PPM
from ...core.permissions import Permission as P
from ...core.price import Outcome, SetBy
from ...core.writing import grouped
from ...data.outbox import SheetOut
from ...data.turns import TooLong
from ...services.base import regional
from ...services.base.context import Context
from ...services.base.errors import Invalid, NotFound
from ...services.base.import_frame import SheetKind
from ...services.base.job_queue import start
from ...services.delivery import sheet_export
from ...services.grids import goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.imports import column_memory, sheet_kinds
from ...services.pricing.decide import CROWD
from ...sheets.mapping import Columns
from ...sheets.opened import plain_name
from ...sheets.table import XLSX_MOST, csv_bytes, csv_parts, xlsx_bytes
from ..deps import AppState, Heavy, ReadContext, SignedIn, TheApp, WriteContext, context_of, seated
from ..files import SheetFile
from ..guard import GuardedRouter, require
from ..schemas import SHEET, Ask, Big, Done, Form, IdsOut, wish

# What a sheet, or a list taken out, needs beside seeing money.
NEEDS: dict[str, tuple[P, ...]] = {
    "lanes": (P.MAP,), "print_lanes": (P.MAP,), "items": (P.LIST,), "listings": (P.LIST,), "prices": (P.PRICE,), "rates": (P.PRICE,),
    "orders": (P.ORDER,), "tracking": (P.ORDER,), "answers": (P.ORDER,), "claim_answers": (P.CLAIM,),
    "settlements": (P.KEEP_BOOKS,), "statements": (P.KEEP_BOOKS,), "overheads": (P.KEEP_BOOKS,),
}  # fmt: skip
LISTED: dict[str, tuple[P, ...]] = {
    "shelf": (P.SEE_GOODS,), "listings": (P.SEE_GOODS,), "lanes": (P.SEE_GOODS,), "responses": (P.SEE_GOODS,),
    "orders": (P.SEE_ORDERS,), "parcels": (P.SEE_ORDERS,),
}  # fmt: skip


def _may(request: Request) -> None:
    """403 for whoever may not do with this sheet or list what it is for; sheets for partners are of whoever orders."""
    here, name = seated(request), request.path_params.get("name")
    if here is not None:
        listed = "/sheets/lists/" in request.url.path
        asked = (LISTED if listed else NEEDS).get(name, (P.SETTINGS,)) if name else (P.ORDER,)
        require(here, P.SEE_MONEY, *asked)


router = GuardedRouter("/sheets", tags=["sheets"], read=(), write=(), dependencies=[Depends(_may)])
_OURS = ("id", "version")
_MONEY = {"price", "landed", "profit", "net", "hand_price", "old_price", "new_price", "paid", "kept", "cost"}


def as_file(
    name: str, form: Form, header: Sequence[str], rows: Iterable[Sequence[Any]], lists: Mapping[str, Sequence[str]] | None = None
) -> Response:
    """A table as a download. lists: what a workbook offers in the cells of some columns."""
    body = csv_bytes(header, rows) if form == "csv" else xlsx_bytes(header, rows, name, lists)
    kind = "text/csv; charset=utf-8" if form == "csv" else "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
    return Response(body, media_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}.{form}"'})


@router.get("/{name}/template.{form}", response_class=Response, responses=SHEET)
def template(context: ReadContext, name: str, form: Form) -> Response:
    kind = sheet_kinds.kind_of(name)
    example = [*sheet_kinds.example_of(context, kind), *[""] * (len(kind.required) + len(kind.optional) - len(kind.example))]
    return as_file(f"{name}-template", form, [*kind.required, *kind.optional], [example], sheet_kinds.lists_of(context, name))


def streamed(
    request: Request, app: AppState, name: str, form: Form, header: Sequence[str], rows: Callable[[Context], Iterable[Sequence[Any]]]
) -> Response:
    """A table of any length as a download: CSV as it is read, in one look at the data. Who took it out stands in the log."""
    # Where that cannot be written now, as on a full disk, it can still be taken out.
    with contextlib.suppress(OperationalError, TooLong), app.db.writing() as s:
        context = context_of(request, s)
        context.log("list.out", name, f"{context.actor} took {name} out as {form.upper()}", count=0)
    if form != "csv":
        with app.db.reading() as s:
            return as_file(name, form, header, rows(context_of(request, s)))

    def parts() -> Iterator[bytes]:
        with app.db.reading() as s:
            yield from csv_parts(header, rows(context_of(request, s)))

    headers = {"Content-Disposition": f'attachment; filename="{name}.csv"'}
    return StreamingResponse(parts(), media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/{name}/ours.{form}", dependencies=[Heavy], response_class=Response, responses=SHEET)
def ours(request: Request, app: TheApp, number: SignedIn, name: str, form: Form) -> Response:
    """What we have, in the columns of the sheet brought in."""
    kind = sheet_kinds.kind_of(name)
    return streamed(request, app, name, form, [*kind.required, *kind.optional], lambda context: sheet_kinds.out_rows(context, name))


class JobStarted(BaseModel):
    job: int
    token: str


class ColumnsAsk(Ask):
    """columns: ours -> the sheet's name, or = and a value for every row."""

    columns: dict[str, Annotated[str, Field(max_length=300)]] = Field(max_length=40)
    tab: str = Field("", max_length=200)
    encoding: str = Field("", max_length=20)


class SheetSeen(BaseModel):
    """columns as they seem to be; missing: of ours that are needed; doubts: ours -> the columns that it could be; rows as they would be
    read; plain: its columns are surely ours, so nobody need be asked."""

    token: str
    columns: dict[str, str]
    tab: str
    tabs: list[str]
    encoding: str
    header: list[str]
    above: int
    needed: list[str]
    optional: list[str]
    missing: list[str]
    doubts: dict[str, list[str]]
    rows: list[dict[str, str]]
    plain: bool


def _kept_file(app: AppState, name: str, data: bytes) -> tuple[Path, str]:
    token = hashlib.sha256(data).hexdigest()[:24]
    folder = app.settings.data / "sheets"
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{name}-{token}.sheet"
    path.write_bytes(data)
    return path, token


def _seen(s: Session, kind: SheetKind, token: str, data: bytes, ask: ColumnsAsk | None) -> SheetSeen:
    found = column_memory.see(s, kind, data, Columns(ask.columns, ask.tab, ask.encoding) if ask else None)
    surely = all(ours in (theirs, theirs.replace(" ", "_")) for ours, theirs in found.columns.columns.items())
    return SheetSeen(
        token=token,
        columns=found.columns.columns,
        tab=found.columns.tab,
        tabs=found.tabs,
        encoding=found.columns.encoding,
        header=[plain_name(one) for one in found.header if one],
        above=found.above,
        needed=list(kind.required),
        optional=list(kind.optional),
        missing=found.missing,
        doubts=found.doubts,
        rows=found.rows,
        plain=surely and not found.missing and not found.doubts,
    )


@router.post("/{name}/look")
def look(data: SheetFile, app: TheApp, name: str) -> SheetSeen:
    """Hand in a sheet and see how it seems to be made. Nothing is changed by it."""
    kind = sheet_kinds.kind_of(name)
    _, token = _kept_file(app, name, data)
    with app.db.reading() as s:
        return _seen(s, kind, token, data, None)


@router.post("/{name}/look/{token}")
def look_again(context: ReadContext, app: TheApp, name: str, token: str, ask: ColumnsAsk) -> SheetSeen:
    """The same sheet with its columns named so."""
    return _seen(context.session, sheet_kinds.kind_of(name), token, _path(app, name, token).read_bytes(), ask)


class CheckAsk(ColumnsAsk):
    """remember: the columns are remembered for sheets of that make."""

    remember: bool = True


@router.post("/{name}/check/{token}", status_code=202)
def check_as(context: WriteContext, app: TheApp, name: str, token: str, ask: CheckAsk) -> JobStarted:
    """Check a sheet that was looked at, by these columns. The job's result says what it would do."""
    kind, path = sheet_kinds.kind_of(name), _path(app, name, token)
    how = Columns(ask.columns, ask.tab, ask.encoding)
    if ask.remember:
        data = path.read_bytes()
        column_memory.remember(context, kind, column_memory.see(context.session, kind, data, how).mark, how)
    key = hashlib.sha256(json.dumps(how.kept(), sort_keys=True).encode()).hexdigest()[:8]
    body = {"sheet": name, "path": str(path), "how": how.kept()}
    return JobStarted(job=start(context, "sheet.check", f"check-{name}-{token}-{key}", f"Checking {name}", body).id, token=token)


@router.post("/{name}/check", status_code=202)
def check(data: SheetFile, context: WriteContext, app: TheApp, name: str, file: Annotated[UploadFile, File()]) -> JobStarted:
    """Check a sheet: nothing is changed by it. The job's result says what it would do."""
    kind = sheet_kinds.kind_of(name)
    path, token = _kept_file(app, name, data)
    job = start(
        context, "sheet.check", f"check-{name}-{token}", f"Checking {file.filename or kind.name}"[:100], {"sheet": name, "path": str(path)}
    )
    return JobStarted(job=job.id, token=token)


class TakeAsk(Ask):
    """how: the columns by which the sheet was checked, where a person named them."""

    token: str = Field(pattern="^[0-9a-f]{24}$")
    how: ColumnsAsk | None = None


def _path(app: AppState, name: str, token: str) -> Path:
    path: Path = app.settings.data / "sheets" / f"{sheet_kinds.kind_of(name).name}-{token}.sheet"
    if len(token) != 24 or not token.isalnum() or not path.is_file():
        raise NotFound("that sheet is not here any more; bring it in again")
    return path


@router.post("/{name}/take", status_code=202)
def take(context: WriteContext, app: TheApp, name: str, ask: TakeAsk) -> JobStarted:
    """Take the good rows of a checked sheet, all in one step."""
    path = _path(app, name, ask.token)
    body = {"sheet": name, "path": str(path), **({"how": ask.how.model_dump()} if ask.how else {})}
    job = start(context, "sheet.take", f"take-{name}-{ask.token}", f"Taking in {name}", body)
    return JobStarted(job=job.id, token=ask.token)


def bad_rows_of(path: Path, name: str, form: Form) -> Response:
    """The rows that a check or a taking in left, as they were, with the reason in a last column."""
    if not path.is_file():
        raise NotFound("this sheet has not been checked yet")
    (header,), *rows = json.loads(path.read_text())
    return as_file(
        f"{name}-bad-rows", form, [*header, "reason"], ([*(row.get(column, "") for column in header), reason] for row, reason in rows)
    )


@router.get("/{name}/bad/{token}.{form}", response_class=Response, responses=SHEET)
def bad_rows(context: ReadContext, app: TheApp, name: str, token: str, form: Form) -> Response:
    return bad_rows_of(_path(app, name, token).with_suffix(".bad.json"), name, form)


@router.get("/lists/{name}/ids")
def list_ids(context: ReadContext, name: str, ask: Annotated[GridQuery, Depends(wish)], most: int = 0) -> IdsOut:
    """The numbers of a stretch of a list, as filtered and sorted, whether a page has shown them or not. most 0: all from there on."""
    if name not in goods_grids.LISTS:
        raise NotFound(f"there is no list called {name}")
    ids, total = goods_grids.ids(context, name, GridQuery(ask.words, ask.sort, ask.down, ask.offset, most or 1_000_000, ask.filters))
    return IdsOut(ids=ids, total=total)


@router.get("/lists/{name}.{form}", dependencies=[Heavy], response_class=Response, responses=SHEET)
def list_out(
    request: Request, app: TheApp, context: ReadContext, name: str, form: Form, ask: Annotated[GridQuery, Depends(wish)]
) -> Response:
    """Exactly the rows of a list as filtered and sorted, all pages of them."""
    if name not in goods_grids.LISTS:
        raise NotFound(f"there is no list called {name}")
    if form == "xlsx" and (n := goods_grids.ids(context, name, replace(ask, offset=0, limit=1))[1]) > XLSX_MOST:
        raise Invalid(
            f"a workbook holds {grouped(XLSX_MOST)} rows and this list has {grouped(n)}; take it out as CSV, which holds all of them"
        )
    # What is a number of ours alone says nothing to anybody else.
    header = [key for key in goods_grids.LISTS[name].columns if key not in _OURS and not key.endswith("_id")]
    zone, home = regional.place_of(context.session).manner.tz, regional.home_of(context.session)

    def rows(context: Context) -> Iterator[list[Any]]:
        for row in goods_grids.every(context, name, ask):
            yield [_cell(key, row._mapping[key], row, zone, home) for key in header]

    return streamed(request, app, name, form, header, rows)


def _cell(key: str, value: Any, row: Row[Any], zone: tzinfo, home: str) -> object:  # noqa: ANN401 - a value of any column
    """A value of a list as a person reads it: money with its decimals, times of the house, words for our own codes."""
    if value is None:
        return ""
    if key in _MONEY:
        return plain(value, row._mapping.get("cost_currency" if key == "cost" else "currency") or home)
    if key == "set_by":
        return SetBy(value).name.replace("_", " ") if value >= 0 else ""
    if key == "outcome":
        return "waits for a look at many" if value == CROWD else Outcome(value).name.replace("_", " ")
    if key == "pace":
        return round(value / PPM, 3)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return ", ".join(str(one) for one in value)
    if isinstance(value, dict):
        return "; ".join(f"{name.replace('_', ' ')}: {one}" for name, one in value.items())
    if isinstance(value, datetime):
        return value.astimezone(zone).isoformat(sep=" ", timespec="minutes")[:16]
    return value.isoformat() if hasattr(value, "isoformat") else value


class SheetOutRow(BaseModel):
    """A sheet that was taken out. rows: how many lines it has; back_at: when it was taken back."""

    id: int
    what: str
    at: datetime
    who: str
    rows: int
    back_at: datetime | None


class WaitingOut(BaseModel):
    what: str
    count: int
    since: datetime


class SheetsOut(BaseModel):
    waiting: list[WaitingOut]
    sheets: list[SheetOutRow]


class SheetTaken(Done):
    sheet: int


Owner = Literal["store", "supplier"]


@router.get("/out/{owner}/{number}")
def sheets_out(context: ReadContext, owner: Owner, number: Big) -> SheetsOut:
    """What waits for a partner who works by sheets, and every sheet that was taken out for it."""
    waits = [one for one in sheet_export.waiting(context) if (one.owner, one.number) == (owner, number)]
    kept = [
        SheetOutRow(id=one.id, what=one.what, at=one.at, who=one.who, rows=len(one.rows), back_at=one.back_at)
        for one in sheet_export.sheets_out(context, owner, number)
    ]
    return SheetsOut(waiting=[WaitingOut(what=one.what, count=one.count, since=one.since) for one in waits], sheets=kept)


@router.post("/out/{owner}/{number}/{what}", status_code=201)
def take_out(context: WriteContext, owner: Owner, number: Big, what: str) -> SheetTaken:
    """Export what waits. Each row is in one sheet; the sheet is kept, and can be had again or taken back."""
    kept = sheet_export.take_out(context, owner, number, what)
    return SheetTaken(message="The sheet is made; hand it over", sheet=kept.id, count=len(kept.rows))


@router.get("/out/sheet/{number}.{form}", response_class=Response, responses=SHEET)
def sheet_out(context: ReadContext, number: Big, form: Form) -> Response:
    """A sheet as it was taken out, as often as wanted."""
    kept = context.get(SheetOut, number, "sheet")
    return as_file(f"{kept.what}-{kept.at:%Y-%m-%d-%H%M}", form, kept.header, kept.rows)


@router.post("/out/sheet/{number}/back")
def take_sheet_back(context: WriteContext, number: Big) -> Done:
    """Take a sheet back: what nobody answered since waits again."""
    return Done(message=sheet_export.take_back(context, number))
