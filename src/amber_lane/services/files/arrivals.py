"""Files on servers: which of those that lie there are to be fetched, and what became of each that came."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from posixpath import basename

from sqlalchemy import delete, select

from ...connectors.file_servers.protocol import BYTES_MOST, TEMPORARY, FileVisit, RemoteFile
from ...core.file_names import FileNames
from ...core.states import FILE, FileState
from ...data.files import FileCame, FileRule, FileServer
from ...data.setup import Store, Supplier
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict
from ..base.job_queue import start
from . import rules

# A file whose size stood still for so long is whole; so soon it is looked at again.
STANDS = timedelta(seconds=30)
LONG_AGO = datetime.min.replace(tzinfo=UTC)
PASSED = "a newer one came"
GROWS = "it may still grow"
GONE = "it was not fetched"


@dataclass(frozen=True)
class Place:
    """Where to look: a folder, and the one name that can be meant there ('' = any)."""

    folder: str
    exact: str


def due(context: Context, server: int) -> list[int]:
    """Rules of a server whose time has come."""
    now = context.now
    mine = (FileRule.server_id == server, FileRule.is_on, FileRule.is_out.is_(False))
    return [
        row.id
        for row in context.session.scalars(select(FileRule).where(*mine).order_by(FileRule.id))
        if (row.next_at is None or row.next_at <= now) and not _apart(rules.where(context, row)[1])
    ]


def _apart(partner: Store | Supplier) -> bool:
    return partner.paused_at is not None or partner.ended_at is not None


def places(context: Context, rule: FileRule) -> list[Place]:
    """Folders to look into now, by the house's own day."""
    here = house_days.local(context, context.now)
    return [Place(*one) for one in FileNames.of(rule.pattern).places(here)]


def look(there: FileVisit, rule: FileRule, where: Sequence[Place]) -> list[RemoteFile]:
    """What lies there and says anything for a rule. Called outside a transaction."""
    found: dict[str, RemoteFile] = {}
    for folder in dict.fromkeys(one.folder for one in where):
        names = [one.exact for one in where if one.folder == folder]
        for exact in names if there.by_name and all(names) and not rule.marker else [""]:
            found |= {file.path: file for file in there.entries(folder, lambda name: wanted(rule, name), exact)}
    return list(found.values())


def wanted(rule: FileRule, name: str) -> bool:
    """Whether a name on a server says anything for a rule: a file that is meant, or a marker of one."""
    names = FileNames.of(rule.pattern)
    if rule.marker and name.endswith(rule.marker) and names.matches(name.removesuffix(rule.marker)):
        return True
    return names.matches(name) and not name.endswith(TEMPORARY)


def seen(context: Context, rule: FileRule, found: Sequence[RemoteFile]) -> list[FileCame]:
    """Of what lies there now, what is to be fetched, the oldest first; the rest is remembered, and looked at again where it may grow."""
    names, lying = FileNames.of(rule.pattern), meant(rule, found)
    known = {(row.path, row.mark): row for row in context.session.scalars(select(FileCame).where(FileCame.rule_id == rule.id))}
    fresh = [one for one in lying if _state(known, one, context) in ("", FileState.seen, FileState.gone)]
    there = {one.path for one in found}
    for row in known.values():
        if row.state == FileState.seen and row.path not in there:
            row.state, row.message = FILE.step(row.state, "miss"), GONE
    if rule.leave_old:
        rule.leave_old = False
        for one in fresh:
            _enter(context, rule, one, "passed", "it lay there before")
        return []
    if rule.newest:
        fresh = _only_newest(context, rule, names, fresh, known)
    whole: list[FileCame] = []
    waits = False
    for one in fresh:
        row = _waiting(context, rule, one, known)
        row.message = ""
        if one.size > BYTES_MOST:
            row.state, row.needs = FILE.step(FILE.step(row.state, "fetch"), "fail"), True
            row.message = f"it has more than {BYTES_MOST // 1_000_000} MB; ask for it in parts"
        elif rule.marker or context.now - row.seen_at >= STANDS:
            whole.append(row)
        else:
            row.message, waits = GROWS, True
    rule.next_at = context.now + (STANDS if waits else timedelta(minutes=rule.minutes))
    context.session.flush()
    return whole


def meant(rule: FileRule, found: Sequence[RemoteFile]) -> list[RemoteFile]:
    """Of what was found the files that a rule means, and that their markers say are whole; the oldest first."""
    names = FileNames.of(rule.pattern)
    markers = {one.path for one in found if rule.marker and one.name.endswith(rule.marker)}
    files = [one for one in found if names.matches(one.name) and one.path not in markers]
    if rule.marker:
        files = [one for one in files if f"{one.path}{rule.marker}" in markers]
    return sorted(files, key=lambda one: _age(names, one.path, one.changed))


def _age(names: FileNames, path: str, changed: datetime | None) -> tuple[str, datetime, str]:
    """By which of two files is the newer: what its name says, then its server, then its name."""
    return names.stamp(basename(path)), changed or LONG_AGO, path


def _mark(context: Context, one: RemoteFile) -> str:
    """Where a server tells neither age nor content, it may be another one each hour."""
    return one.mark if one.changed or one.tag else f"{one.mark}@{context.now:%Y%m%d%H}"


def _state(known: dict[tuple[str, str], FileCame], one: RemoteFile, context: Context) -> str:
    row = known.get((one.path, _mark(context, one)))
    return row.state if row else ""


def _waiting(context: Context, rule: FileRule, one: RemoteFile, known: dict[tuple[str, str], FileCame]) -> FileCame:
    """What is known of a content that is not fetched yet. What was gone meanwhile begins anew, even where it looks the same: it may be
    written just now."""
    row = known.get((one.path, _mark(context, one)))
    return row if row is not None and row.state != FileState.gone else _enter(context, rule, one, FILE.first, "")


def _enter(context: Context, rule: FileRule, one: RemoteFile, state: str, message: str) -> FileCame:
    """A content that is new; what was seen of the same file and never fetched is forgotten for it."""
    before = (FileCame.rule_id == rule.id, FileCame.path == one.path, FileCame.state.in_((FileState.seen, FileState.gone)))
    context.session.execute(delete(FileCame).where(*before))
    row = FileCame(
        rule_id=rule.id,
        path=one.path,
        mark=_mark(context, one),
        size=one.size,
        changed_at=one.changed,
        seen_at=context.now,
        state=state,
        message=message,
    )
    context.session.add(row)
    context.session.flush()
    return row


def _only_newest(
    context: Context, rule: FileRule, names: FileNames, fresh: list[RemoteFile], known: dict[tuple[str, str], FileCame]
) -> list[RemoteFile]:
    """The newest alone, if it is newer than all that came before. What is older than one that came is passed over for good, so that none
    counts once that one is moved away; what is older than one that is not here yet only waits, for that one may go as it came."""
    had = [row for row in known.values() if row.state not in (FileState.seen, FileState.gone, FileState.passed)]
    last = max((_age(names, row.path, row.changed_at) for row in had), default=None)
    newest = fresh[-1:] if fresh and (last is None or _age(names, fresh[-1].path, fresh[-1].changed) >= last) else []
    for one in fresh:
        if one not in newest:
            row = _waiting(context, rule, one, known)
            row.message = "waits for a newer one"
            if last is not None and _age(names, one.path, one.changed) < last:
                row.state, row.message = FILE.step(row.state, "pass"), PASSED
    return newest


def part_of(row: FileCame) -> str:
    """The name of what is here of a file that is being fetched: of this one content, so that nothing is put behind a piece of another one.
    A number alone does not say it, for it is given anew once its row is deleted."""
    return f"file-{row.id}-{row.seen_at:%Y%m%d%H%M%S%f}.part"


def fetched(context: Context, number: int, kept: Path) -> FileCame:
    """Its copy is here; a job takes it. What came before is not taken twice."""
    row = context.get(FileCame, number, "file")
    if row.state != FILE.first:
        return row
    row.state, row.kept, row.message = FILE.step(row.state, "fetch"), kept.name, ""
    rule = rule_of(context, row)
    if rule.newest:
        _pass_older(context, rule, row)
    _take_soon(context, row, kept)
    return row


def _pass_older(context: Context, rule: FileRule, came: FileCame) -> None:
    """What waited for a newer one is passed over once that one is here."""
    names = FileNames.of(rule.pattern)
    waiting = select(FileCame).where(FileCame.rule_id == rule.id, FileCame.state == FileState.seen)
    for one in context.session.scalars(waiting):
        if _age(names, one.path, one.changed_at) < _age(names, came.path, came.changed_at):
            one.state, one.message = FILE.step(one.state, "pass"), PASSED


def torn(context: Context, number: int) -> None:
    """It did not come as it lies there; it is looked at again soon."""
    row = context.get(FileCame, number, "file")
    row.message = "it came torn, and is fetched once more"
    context.get(FileRule, row.rule_id, "rule of files").next_at = context.now + STANDS


def by_mail(context: Context, supplier: Supplier, name: str, size: int, mark: str) -> FileCame | None:
    """A file that came with a mail of a supplier, where a rule says what such a one is; None where none does.

    The same content once more is the file that came before.
    """
    mine = (FileRule.owner == "supplier", FileRule.owner_id == supplier.id, FileRule.server_id.is_(None), FileRule.is_on)
    for rule in context.session.scalars(select(FileRule).where(*mine).order_by(FileRule.id)):
        if FileNames.of(rule.pattern).matches(name):
            file = RemoteFile(name, size, None, mark)
            known = (FileCame.rule_id == rule.id, FileCame.path == name, FileCame.mark == _mark(context, file))
            if (had := context.session.scalar(select(FileCame).where(*known))) is not None:
                return had
            return _enter(context, rule, file, FILE.first, "")
    return None


def _take_soon(context: Context, row: FileCame, kept: Path) -> None:
    rule = context.get(FileRule, row.rule_id, "rule of files")
    partner = rules.where(context, rule)[1]
    title = f"Taking {basename(row.path)} of {partner.name}"[:100]
    start(context, "file", f"file-{row.id}", title, {"file": row.id, "path": str(kept)})


def may_again(row: FileCame) -> bool:
    return row.state in FILE.sources("again")


def rule_of(context: Context, row: FileCame) -> FileRule:
    return context.get(FileRule, row.rule_id, "rule of files")


def again(context: Context, number: int, folder: Path) -> FileCame:
    """A person has a file taken once more, as when its columns were named since. folder: where copies are kept."""
    row = context.get(FileCame, number, "file")
    if not may_again(row) or not row.kept:
        raise Conflict("there is no copy of this file here any more" if not row.kept else "this file is not to be taken again")
    row.state, row.needs, row.message = FILE.step(row.state, "again"), False, ""
    _take_soon(context, row, folder / row.kept)
    return row


def close(context: Context, number: int) -> None:
    """A person saw it, and leaves it so."""
    row = context.get(FileCame, number, "file")
    if not row.needs:
        raise Conflict("nothing is open with this file")
    row.needs = False
    if row.state == FileState.wrong:
        row.state = FILE.step(row.state, "close")
    context.log("file.close", row.path, f"{row.path}: left as it is", reason=row.message)


def overtaken(context: Context, newer: FileCame) -> None:
    """Where only the newest counts, what was wrong with those before it is nobody's trouble any more."""
    before = (FileCame.rule_id == newer.rule_id, FileCame.id != newer.id, FileCame.needs)
    for row in context.session.scalars(select(FileCame).where(*before)):
        row.needs = False
        if row.state == FileState.wrong:
            row.state = FILE.step(row.state, "close")


def to_move(context: Context, rule: FileRule) -> list[tuple[int, str]]:
    """Files that are done with and still lie where they came from: (number, path)."""
    if not rule.done_folder or rule.server_id is None:
        return []
    done = (
        FileCame.rule_id == rule.id,
        FileCame.state.in_((FileState.taken, FileState.closed)),
        FileCame.moved.is_(False),
        FileCame.kept != "",
    )
    return list(context.session.execute(select(FileCame.id, FileCame.path).where(*done).order_by(FileCame.id)).tuples())


def rules_to_move(context: Context, server: int) -> list[int]:
    """Rules of a server by which something that is done with still lies where it came from."""
    mine = select(FileRule).where(FileRule.server_id == server, FileRule.done_folder != "").order_by(FileRule.id)
    return [row.id for row in context.session.scalars(mine) if to_move(context, row)]


def recent(context: Context, most: int = 60) -> list[tuple[FileCame, FileRule]]:
    """The newest files that came or were passed over."""
    query = select(FileCame, FileRule).join(FileRule, FileRule.id == FileCame.rule_id)
    return list(context.session.execute(query.order_by(FileCame.needs.desc(), FileCame.id.desc()).limit(most)).tuples())


def open_ones(context: Context) -> list[tuple[FileCame, FileRule, FileServer | None, Store | Supplier]]:
    """Files that a person must look at."""
    query = select(FileCame, FileRule).join(FileRule, FileRule.id == FileCame.rule_id).where(FileCame.needs)
    return [(row, rule, *rules.where(context, rule)) for row, rule in context.session.execute(query).tuples()]
