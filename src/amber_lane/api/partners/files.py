"""Sheets that come from a server of files or by mail, and ours that go there: what is said of them, and what came of each."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from fastapi import Request, Response
from pydantic import BaseModel, Field

from ...connectors.errors import OutsideError
from ...core.permissions import Permission as P
from ...core.states import OutboxState
from ...data.files import FileCame, FileRule
from ...data.outbox import Outbox, SheetOut
from ...services.base.context import Context
from ...services.base.errors import Invalid, NotFound
from ...services.files import arrivals, rules, sending
from ...services.partners import rosters
from ..deps import AppState, ReadContext, SignedIn, TheApp, WriteContext, context_of
from ..guard import GuardedRouter
from ..imports.sheets import bad_rows_of
from ..schemas import SHEET, Ask, Big, Done, Form, download

router = GuardedRouter(tags=["setup"], read=(P.SETTINGS,), write=(P.SETTINGS,))


class FileServerOut(BaseModel):
    """writes: we may put files there and move them."""

    id: int
    name: str
    writes: bool


class SheetOfPartner(BaseModel):
    """is_out: it goes there; by_mail: it may come by mail."""

    what: str
    called: str
    is_out: bool
    by_mail: bool


class FilePartner(BaseModel):
    owner: str
    id: int
    name: str
    sheets: list[SheetOfPartner]


class FileSentOut(BaseModel):
    path: str
    at: datetime
    state: str
    message: str


class FileRuleOut(BaseModel):
    """server 0: by mail. sent: of a rule that goes out, its newest files."""

    id: int
    version: int
    server: int
    place: str
    owner: str
    owner_id: int
    partner: str
    what: str
    called: str
    is_out: bool
    pattern: str
    newest: bool
    done_folder: str
    marker: str
    each: bool
    minutes: int
    is_on: bool
    next_at: datetime | None
    sent: list[FileSentOut]


class FileCameOut(BaseModel):
    """copy_kept: a copy of it is here; again: it may be taken once more."""

    id: int
    rule: int
    partner: str
    called: str
    path: str
    size: int
    changed_at: datetime | None
    seen_at: datetime
    taken_at: datetime | None
    state: str
    message: str
    bad: int
    needs: bool
    copy_kept: bool
    again: bool


class FilesOut(BaseModel):
    servers: list[FileServerOut]
    partners: list[FilePartner]
    mail: bool
    rules: list[FileRuleOut]
    came: list[FileCameOut]


@router.get("/setup/files")
def files(context: ReadContext, app: TheApp) -> FilesOut:
    """All rules, and the newest files that came."""
    here = _folder(app)
    return FilesOut(
        servers=[
            FileServerOut(id=one.id, name=one.name, writes=one.kind not in rules.FETCH_ONLY)
            for one in rosters.of_kind(context, "files")
            if one.ended_at is None
        ],
        partners=_partners(context),
        mail=bool(rosters.inboxes(context)),
        rules=[_rule(context, one) for one in rules.all_of(context)],
        came=[_came(context, row, rule, here) for row, rule in arrivals.recent(context)],
    )


def _partners(context: Context) -> list[FilePartner]:
    rows = [("supplier", one) for one in rosters.suppliers(context, True)] + [("store", one) for one in rosters.stores(context, True)]
    found = [FilePartner(owner=owner, id=one.id, name=one.name, sheets=_sheets(owner, one)) for owner, one in rows if one.ended_at is None]
    return [one for one in found if one.sheets]


def _sheets(owner: str, partner: rules.AnyPartner) -> list[SheetOfPartner]:
    whats = [(what, False) for what in rules.INCOMING[owner]] + [(what, True) for what in rules.OUTGOING[owner]]
    return [
        SheetOfPartner(what=what, called=rules.CALLED[what], is_out=out, by_mail=not out and owner == "supplier" and what in rules.BY_MAIL)
        for what, out in whats
        if rules.can(partner, what)
    ]


def _rule(context: Context, row: FileRule) -> FileRuleOut:
    server, partner = rules.where(context, row)
    sent = sending.sent(context, row, 5) if row.is_out else []
    return FileRuleOut(
        server=row.server_id or 0,
        place=server.name if server else "mail",
        partner=partner.name,
        called=rules.CALLED[row.what],
        sent=[_sent(sheet, change) for sheet, change in sent],
        **{name: getattr(row, name) for name in FileRuleOut.model_fields if hasattr(row, name) and name != "server"},
    )


def _sent(sheet: SheetOut, change: Outbox | None) -> FileSentOut:
    state = "taken back" if sheet.back_at else change.state if change else "done"
    return FileSentOut(
        path=sheet.path, at=sheet.at, state=state, message=change.answer if change and change.state != OutboxState.done else ""
    )


def _came(context: Context, row: FileCame, rule: FileRule, folder: Path) -> FileCameOut:
    kept = bool(row.kept) and (folder / row.kept).is_file()
    return FileCameOut(
        rule=rule.id,
        partner=rules.where(context, rule)[1].name,
        called=rules.CALLED[rule.what],
        copy_kept=kept,
        again=kept and arrivals.may_again(row),
        **{name: getattr(row, name) for name in FileCameOut.model_fields if hasattr(row, name)},
    )


def _folder(app: AppState) -> Path:
    folder: Path = app.settings.data / "sheets"
    return folder


class FileRuleAsk(Ask):
    """server 0: by mail. leave_old: what lies there now is left as it is."""

    server: int = Field(ge=0)
    owner: str = Field(pattern="^(store|supplier)$")
    owner_id: int = Field(ge=1)
    what: str = Field(max_length=40)
    is_out: bool = False
    pattern: str = Field(max_length=200)
    newest: bool = True
    done_folder: str = Field("", max_length=200)
    marker: str = Field("", max_length=40, pattern=r"^[^/\\]*$")
    each: bool = False
    minutes: int = Field(15, ge=1, le=60 * 24 * 7)
    leave_old: bool = False
    version: int = 0

    @property
    def said(self) -> rules.Said:
        return rules.Said(**self.model_dump(exclude={"leave_old", "version"}))


@router.post("/setup/files/rules", status_code=201)
def add_rule(context: WriteContext, ask: FileRuleAsk) -> Done:
    row = rules.add(context, ask.said, ask.leave_old)
    return Done(message=f"{rules.sentence(row, *rules.where(context, row))}: from now on")


@router.put("/setup/files/rules/{number}")
def change_rule(context: WriteContext, number: Big, ask: FileRuleAsk) -> Done:
    row = rules.change(context, number, ask.version, ask.said)
    return Done(message=f"{rules.sentence(row, *rules.where(context, row))}: from now on")


class FileRuleSwitch(Ask):
    version: int
    on: bool


@router.post("/setup/files/rules/{number}/switch")
def switch_rule(context: WriteContext, number: Big, ask: FileRuleSwitch) -> Done:
    row = rules.switch(context, number, ask.version, ask.on)
    return Done(message=f"{rules.sentence(row, *rules.where(context, row))}: {'on' if ask.on else 'off'}")


@router.delete("/setup/files/rules/{number}")
def remove_rule(context: WriteContext, number: Big, version: int) -> Done:
    """Remove a rule, with what is remembered of its files. Cannot be undone."""
    return Done(message=f"{rules.remove(context, number, version)}: removed")


@router.post("/setup/files/rules/{number}/now")
def look_now(context: WriteContext, number: Big) -> Done:
    """Look there at the next moment, whatever its time."""
    rules.soon(context, number)
    return Done(message="It is looked at now")


class FilesLookAsk(Ask):
    server: int = Field(ge=1)
    pattern: str = Field(max_length=200)
    marker: str = Field("", max_length=40, pattern=r"^[^/\\]*$")


class FileThere(BaseModel):
    path: str
    size: int
    changed: datetime | None


class FilesSeenOut(BaseModel):
    """found: files that are meant now, the newest first, a hundred at most; count: how many there are; folders: where it was looked."""

    found: list[FileThere]
    count: int
    folders: list[str]


@router.post("/setup/files/look")
def look(app: TheApp, number: SignedIn, request: Request, ask: FilesLookAsk) -> FilesSeenOut:
    """What lies there now and is meant by a pattern. Nothing is fetched by it."""
    with app.db.reading() as s:
        context = context_of(request, s)
        tried = rules.tried(ask.server, ask.pattern, ask.marker)
        places = arrivals.places(context, tried)
        link = app.connectors.files(context, ask.server)
    try:
        with link.visit() as there:
            found = arrivals.look(there, tried, places)
    except OutsideError as error:
        raise Invalid(error.message, {"server": error.message}) from error
    meant = arrivals.meant(tried, found)
    return FilesSeenOut(
        found=[FileThere(path=one.path, size=one.size, changed=one.changed) for one in meant[::-1][:100]],
        count=len(meant),
        folders=list(dict.fromkeys(one.folder or "/" for one in places)),
    )


@router.post("/setup/files/came/{number}/again")
def take_again(context: WriteContext, app: TheApp, number: Big) -> Done:
    """Take a file once more, as when its columns were named since."""
    arrivals.again(context, number, _folder(app))
    return Done(message="It is taken once more")


@router.post("/setup/files/came/{number}/close")
def leave_it(context: WriteContext, number: Big) -> Done:
    arrivals.close(context, number)
    return Done(message="It is left as it is")


def _copy(app: AppState, context: Context, number: int) -> tuple[FileCame, Path]:
    row = context.get(FileCame, number, "file")
    path = _folder(app) / row.kept
    if not row.kept or not path.is_file():
        raise NotFound("there is no copy of this file here any more")
    return row, path


@router.get("/setup/files/came/{number}/file", response_class=Response, responses=download("application/octet-stream"))
def copy_of(context: ReadContext, app: TheApp, number: Big) -> Response:
    """A file as it came."""
    row, path = _copy(app, context, number)
    name = "".join(sign if sign.isalnum() or sign in "._- " else "_" for sign in row.path.rpartition("/")[2]) or "sheet"
    heads = {"content-disposition": f'attachment; filename="{name.encode("ascii", "replace").decode()}"'}
    return Response(path.read_bytes(), media_type="application/octet-stream", headers=heads)


@router.get("/setup/files/came/{number}/bad.{form}", response_class=Response, responses=SHEET)
def bad_of(context: ReadContext, app: TheApp, number: Big, form: Form) -> Response:
    """The rows of a file that were not taken, each with why."""
    _, path = _copy(app, context, number)
    return bad_rows_of(path.with_suffix(".bad.json"), "file", form)
