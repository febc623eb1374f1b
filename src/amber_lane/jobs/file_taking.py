"""A file that came from a server or by mail, taken in: by the same way as one that a person brings in, and for its partner alone."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Any, Protocol

from sqlalchemy.orm import Session

from ..connectors.errors import OutsideError
from ..core.states import FILE, FileState
from ..data.files import FileCame, FileRule
from ..data.session import Database
from ..data.setup import Store, Supplier
from ..services.base.context import Context
from ..services.base.errors import UseCaseError
from ..services.base.import_frame import Checked, Row, SheetKind
from ..services.files import arrivals, rules
from ..services.imports import sheet_kinds, stock_sheets
from ..services.imports.column_memory import read_as
from ..services.inbound import claim_replies, mailbox, supplier_replies
from ..services.monitoring import catalogue_sheets
from ..services.purchasing import po_documents
from ..sheets.mapping import MappedRow
from ..sheets.opened import NotASheet, readable

Bad = list[tuple[int, str]]


class Jobs(Protocol):
    """What carries a long job out (see jobs.background_jobs)."""

    db: Database

    def context(self, s: Session, body: Mapping[str, Any], more: bool = False) -> Context: ...
    def progress(self, number: int, done: int, total: int | None = None) -> None: ...
    def take(self, number: int, kind: SheetKind, checked: Checked, body: dict[str, Any]) -> None: ...


@dataclass(frozen=True)
class Outcome:
    """bad: rows that were not taken."""

    message: str
    bad: int = 0


def run(jobs: Jobs, number: int, body: dict[str, Any]) -> dict[str, Any]:
    """Take one file. A file that cannot be taken is kept and shown; the job itself is done with it."""
    with jobs.db.reading() as s:
        context = jobs.context(s, body)
        came = context.get(FileCame, body["file"], "file")
        rule = context.get(FileRule, came.rule_id, "rule of files")
        partner = rules.where(context, rule)[1]
        s.expunge_all()
    if came.state != FileState.here:
        return {"message": came.message}
    path = Path(body["path"])
    try:
        if not path.is_file():
            raise NotASheet("its copy is not here any more; have it sent again")
        out = _TAKE.get(rule.what, _rows)(_Taking(jobs, number, body, path, came, rule, partner))
        _end(jobs, body, "take", out.message, out.bad)
        return {"message": out.message}
    except (UseCaseError, OutsideError) as error:
        message = error.message
    except NotASheet as error:
        message = str(error)
    except Exception:
        _end(jobs, body, "fail", "it was not taken to its end; have it taken again", 0)
        raise
    _end(jobs, body, "fail", message, 0)
    return {"message": message}


def _end(jobs: Jobs, body: dict[str, Any], how: str, message: str, bad: int) -> None:
    with jobs.db.writing() as s:
        _note(jobs.context(s, body), body["file"], how, message, bad)


def _note(context: Context, file: int, how: str, message: str, bad: int) -> None:
    """What came of a file. What was taken in whole needs nobody."""
    row = context.get(FileCame, file, "file")
    if row.state != FileState.here:
        return
    row.state, row.message, row.bad = FILE.step(row.state, how), message[:500], bad
    row.taken_at, row.needs = context.now, how == "fail" or bad > 0
    rule = context.get(FileRule, row.rule_id, "rule of files")
    partner = rules.where(context, rule)[1]
    if rule.newest and how == "take":
        arrivals.overtaken(context, row)
    context.log("file.came", partner.name, f"{row.path} of {partner.name}: {row.message or 'nothing new'}", count=0)


@dataclass(frozen=True)
class _Taking:
    jobs: Jobs
    number: int
    body: dict[str, Any]
    path: Path
    came: FileCame
    rule: FileRule
    partner: Store | Supplier

    @property
    def at(self) -> datetime | None:
        return self.came.changed_at

    def context(self, s: Session) -> Context:
        return self.jobs.context(s, self.body)

    def tell(self, done: int, total: int | None = None) -> None:
        self.jobs.progress(self.number, done, total)


def _catalogue(one: _Taking) -> Outcome:
    out = catalogue_sheets.take_sheet(one.rule.owner_id, one.path.read_bytes(), one.jobs.db, one.context, one.tell, one.at)
    catalogue_sheets.keep_bad(one.path, *out["bad_sheet"])
    message = f"{out['fresh']} new items, {out['known']} known ones looked at"
    message += f"; {'; '.join(out['notices'])}" if out["notices"] else ""
    return Outcome(message + (f"; held: {out['held']}" if out["held"] else ""), out["bad_count"])


def _replies(one: _Taking, take: Callable[[Context, Supplier], tuple[int, Bad]], called: str) -> Outcome:
    """Answers are taken in one transaction with the note that they were, so that after a kill none is taken for one that comes too late."""
    with one.jobs.db.writing(patient=True) as s:
        context = one.context(s)
        n, bad = take(context, context.get(Supplier, one.rule.owner_id, "supplier"))
        message = f"{n} {called}{'' if n == 1 else 's'} taken"
        _note(context, one.came.id, "take", message, len(bad))
    _keep_reasons(one.path, bad)
    return Outcome(message, len(bad))


def _answers(one: _Taking) -> Outcome:
    raw = one.path.read_bytes()
    said = po_documents.read(raw) if is_document(raw) else None

    def take(context: Context, supplier: Supplier) -> tuple[int, Bad]:
        find = partial(mailbox.purchase_of, context, supplier)
        if said is None:
            return supplier_replies.of_sheet(context, one.rule.what, readable(raw), find)
        _, n, wrong = supplier_replies.of_document(context, said, find)
        return n, [(1, wrong)] if wrong else []

    return _replies(one, take, "answer" if one.rule.what == "answers" else "tracking number")


def _claim_answers(one: _Taking) -> Outcome:
    raw = one.path.read_bytes()
    note = claim_replies.note_of(raw) if is_document(raw) else None

    def take(context: Context, supplier: Supplier) -> tuple[int, Bad]:
        if note is None:
            return claim_replies.of_sheet(context, supplier, readable(raw))
        n, wrong = claim_replies.of_credit_note(context, supplier, note)
        return n, list(enumerate(wrong, 1))

    return _replies(one, take, "answer to claims")


def is_document(data: bytes) -> bool:
    """Whether it is a document of the trade (UBL), not a sheet."""
    return data.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"<")


def _rows(one: _Taking) -> Outcome:
    """Every other sheet: rows checked, the good ones taken; whose they are is said by the rule, and a row of another's is refused."""
    kind = sheet_kinds.kind_of(one.rule.what)
    column = one.rule.owner
    with one.jobs.db.reading() as s:
        theirs = replace(
            kind,
            required=tuple(name for name in kind.required if name != column),
            optional=(*kind.optional, column) if column in kind.required else kind.optional,
        )
        sheet = read_as(s, theirs, readable(one.path.read_bytes()))
        rows = list(_of(one.partner, column, sheet.rows))
        checked = kind.check(one.context(s), rows, one.tell)
    if kind.name == "stock":
        kind = replace(kind, carry=partial(stock_sheets.carry, at=one.at))
    one.jobs.take(one.number, kind, checked, one.body)
    one.path.with_suffix(".bad.json").write_text(json.dumps([[sheet.header], *[[row, reason] for row, reason in checked.bad]]))
    counts = checked.counts
    message = f"{counts['new']} new, {counts['changed']} changed, {counts['same']} the same"
    message += f", {counts['wrong']} belong to other orders" if counts.get("wrong") else ""
    return Outcome(f"{message}. {checked.note}".rstrip(". "), counts["bad"])


def _of(partner: Store | Supplier, column: str, rows: Iterable[MappedRow]) -> Iterator[Row]:
    """Rows with their partner filled in where the sheet does not say it."""
    mine = {partner.name.casefold(), partner.code.casefold()}
    for row in rows:
        said = " ".join(row.get(column, "").split()).casefold()
        if said and said not in mine:
            row.wrong = row.wrong or f"{column}: {row[column]!r} is not {partner.name}, whose file this is"
        row[column] = partner.code
        yield row


def _keep_reasons(path: Path, bad: Bad) -> None:
    rows = [[{"row": str(n)}, reason] for n, reason in bad]
    path.with_suffix(".bad.json").write_text(json.dumps([[["row"]], *rows]))


_TAKE: dict[str, Callable[[_Taking], Outcome]] = {
    "catalogue": _catalogue,
    "answers": _answers,
    "tracking": _answers,
    "claim_answers": _claim_answers,
}
