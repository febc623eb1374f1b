"""Which sheets come from a server of files, or by mail, and which of ours go there: said by a person for a store or a supplier."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import delete, select, update

from ...core import file_names
from ...core.file_names import FileNames
from ...data.files import FileCame, FileRule, FileServer
from ...data.outbox import SheetOut
from ...data.setup import BY_SHEETS, Inbox, Store, Supplier
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..monitoring import catalogue_sheets

AnyPartner = Store | Supplier
PARTNERS: dict[str, type[Store] | type[Supplier]] = {"store": Store, "supplier": Supplier}
# What comes in and goes out for whom.
INCOMING = {
    "supplier": ("catalogue", "stock", "answers", "tracking", "claim_answers", "statements"),
    "store": ("orders", "listings", "settlements"),
}
OUTGOING = {"supplier": ("purchases",), "store": ("changes", "tracking")}
# What a partner with an interface of its own may send as sheets all the same.
BESIDE = frozenset(("statements", "settlements"))
# What a supplier may send by mail; its answers and tracking numbers are taken from its mail without being asked.
BY_MAIL = frozenset(("catalogue", "stock", "statements"))
CALLED = {
    "catalogue": "all its items",
    "stock": "stock and cost",
    "answers": "answers to purchase orders",
    "tracking": "tracking numbers",
    "claim_answers": "answers to claims",
    "statements": "statements of what it bills",
    "orders": "orders",
    "listings": "listings",
    "settlements": "settlements",
    "purchases": "purchase orders",
    "changes": "changes of listings",
}
# Servers that only let files be fetched.
FETCH_ONLY = frozenset(("pages",))


@dataclass(frozen=True)
class Said:
    """What a person says of a rule. server 0: by mail."""

    server: int
    owner: str
    owner_id: int
    what: str
    is_out: bool
    pattern: str
    newest: bool = True
    done_folder: str = ""
    marker: str = ""
    each: bool = False
    minutes: int = 15


def check(context: Context, said: Said, besides: int | None = None) -> tuple[FileServer | None, AnyPartner]:
    """Whose and where it is. Invalid names the field that is wrong; Conflict where two rules would do the same."""
    if said.owner not in PARTNERS:
        raise Invalid("sheets are of a store or a supplier", {"owner": "is neither"})
    partner = context.get(PARTNERS[said.owner], said.owner_id, said.owner)
    known = (OUTGOING if said.is_out else INCOMING)[said.owner]
    if said.what not in known:
        raise Invalid(f"there is no such sheet for a {said.owner}", {"what": f"is none of {', '.join(known)}"})
    _check_partner(partner, said)
    try:
        if said.is_out:
            file_names.check_ours(said.pattern, said.each)
            if said.pattern.strip().endswith(".xml") and not (said.each and said.what == "purchases"):
                raise ValueError("only a purchase order goes as a document (UBL), one in each file; else let the name end with .csv")
        else:
            FileNames.of(said.pattern)
        if said.done_folder:
            FileNames.of(f"{said.done_folder.strip('/')}/x")
    except ValueError as error:
        raise Invalid(str(error), {"pattern": str(error)}) from error
    if not said.server:
        _check_mail(context, said)
        return None, partner
    server = context.get(FileServer, said.server, "server of files")
    if server.kind in FETCH_ONLY and (said.is_out or said.done_folder):
        raise Invalid(f"{server.name} only lets files be fetched", {"server": "cannot be written to"})
    _check_crossing(context, said)
    if said.is_out:
        same = (FileRule.owner == said.owner, FileRule.owner_id == said.owner_id, FileRule.what == said.what, FileRule.is_out)
        if other := context.session.scalar(select(FileRule).where(*same, FileRule.id != (besides or 0)).limit(1)):
            raise Conflict(f"{partner.name}'s {CALLED[said.what]} go to {other.pattern} already; change that, or remove it first")
    return server, partner


def _check_crossing(context: Context, said: Said) -> None:
    """No rule takes in what another puts there: they would have our own files before their readers do."""
    there = context.session.scalars(select(FileRule).where(FileRule.server_id == said.server, FileRule.is_out.is_not(said.is_out)))
    for other in there:
        out, incoming = (said.pattern, other.pattern) if said.is_out else (other.pattern, said.pattern)
        name = file_names.ours(out.strip().strip("/"), context.now, 1, "AB-1-1")
        names = FileNames.of(incoming)
        folder, _, last = name.rpartition("/")
        if names.matches(last) and folder in {one for one, _ in names.places(context.now)}:
            raise Conflict(f"{incoming} means our own files too, such as {name}; use another folder or name for one of them")


def can(partner: AnyPartner, what: str) -> bool:
    """Whether a partner tells or takes this by sheets."""
    return what in BESIDE or partner.kind in (catalogue_sheets.BY_SHEETS if what == "catalogue" else BY_SHEETS)


def _check_partner(partner: AnyPartner, said: Said) -> None:
    if not can(partner, said.what):
        raise Invalid(
            f"{partner.name} tells and takes this by its interface; a file too would say it twice", {"owner": "works by an interface"}
        )
    if said.what == "catalogue" and isinstance(partner, Supplier) and not partner.reading:
        raise Invalid(
            f"first bring one sheet of {partner.name} in by hand, so that its columns are named; then they come by themselves",
            {"what": "its columns are not named yet"},
        )


def _check_mail(context: Context, said: Said) -> None:
    if said.is_out:
        raise Invalid("what goes out by mail is said under How we order", {"server": "is needed"})
    if said.owner != "supplier" or said.what not in BY_MAIL:
        raise Invalid("by mail come a supplier's items, stock and statements (its answers are taken anyway); all else comes from a server")
    if context.session.scalar(select(Inbox.id).limit(1)) is None:
        raise Invalid("connect a mailbox to read first", {"server": "no mailbox is read"})
    partner = context.get(Supplier, said.owner_id, "supplier")
    if not partner.mail:
        raise Invalid(f"say {partner.name}'s mail address first, under How we order", {"owner": "has no mail address"})
    if "/" in said.pattern or said.done_folder or said.marker:
        raise Invalid("what comes by mail lies in no folder", {"pattern": "has a folder"})


def add(context: Context, said: Said, leave_old: bool = False) -> FileRule:
    """A new rule. leave_old: what lies there now was there before us, and is left as it is."""
    server, partner = check(context, said)
    row = FileRule(
        server_id=server.id if server else None,
        owner=said.owner,
        owner_id=said.owner_id,
        what=said.what,
        is_out=said.is_out,
        leave_old=leave_old and not said.is_out,
    )
    _put(row, said, context.now)
    context.session.add(row)
    context.session.flush()
    context.log("file.rule", partner.name, f"{sentence(row, server, partner)}: from now on")
    return row


def change(context: Context, number: int, version: int, said: Said) -> FileRule:
    row = context.get_version(FileRule, number, version, "rule of files")
    if (said.owner, said.owner_id, said.what, said.is_out) != (row.owner, row.owner_id, row.what, row.is_out):
        raise Invalid("make another rule for another sheet or partner")
    server, partner = check(context, said, number)
    before = sentence(row, context.session.get(FileServer, row.server_id or 0), partner)
    row.server_id = server.id if server else None
    _put(row, said, context.now)
    context.log("file.rule", partner.name, f"{sentence(row, server, partner)} (before: {before})")
    context.session.flush()
    return row


def _put(row: FileRule, said: Said, now: datetime) -> None:
    row.pattern, row.newest, row.marker = said.pattern.strip().strip("/"), said.newest, said.marker.strip()
    row.done_folder, row.each, row.minutes, row.next_at = said.done_folder.strip().strip("/"), said.each, said.minutes, now


def switch(context: Context, number: int, version: int, on: bool) -> FileRule:
    row = context.get_version(FileRule, number, version, "rule of files")
    if row.is_on == on:
        raise Conflict(f"it is {'on' if on else 'off'} already")
    row.is_on, row.next_at = on, context.now
    server, partner = where(context, row)
    context.log("file.rule", partner.name, f"{sentence(row, server, partner)}: {'on' if on else 'off'}")
    return row


def remove(context: Context, number: int, version: int) -> str:
    """Remove a rule with what is remembered of its files. Cannot be undone."""
    row = context.get_version(FileRule, number, version, "rule of files")
    said = sentence(row, *where(context, row))
    context.session.execute(update(SheetOut).where(SheetOut.file_rule_id == number).values(file_rule_id=None))
    context.session.execute(delete(FileCame).where(FileCame.rule_id == number))
    context.session.delete(row)
    context.log("file.rule", said, f"{said}: removed")
    return said


def soon(context: Context, number: int) -> None:
    """Have its server looked at, or its sheets sent, at the next moment."""
    row = context.get(FileRule, number, "rule of files")
    row.next_at = context.now
    if server := context.session.get(FileServer, row.server_id or 0):
        server.next_read = context.now


def tried(server: int, pattern: str, marker: str) -> FileRule:
    """A rule that is only looked with. Invalid where its pattern is none."""
    try:
        FileNames.of(pattern)
    except ValueError as error:
        raise Invalid(str(error), {"pattern": str(error)}) from error
    return FileRule(server_id=server, pattern=pattern, marker=marker.strip(), newest=False)


def where(context: Context, row: FileRule) -> tuple[FileServer | None, AnyPartner]:
    """A rule's server (None = mail) and partner."""
    partner: Any = context.get(PARTNERS[row.owner], row.owner_id, row.owner)
    return context.session.get(FileServer, row.server_id or 0), partner


def sentence(row: FileRule, server: FileServer | None, partner: AnyPartner) -> str:
    place = f"{server.name}, {row.pattern}" if server else f"mail, {row.pattern}"
    return f"{partner.name}: {CALLED[row.what]} {'to' if row.is_out else 'from'} {place}"


def all_of(context: Context) -> Sequence[FileRule]:
    return context.session.scalars(select(FileRule).order_by(FileRule.owner, FileRule.owner_id, FileRule.is_out, FileRule.id)).all()
