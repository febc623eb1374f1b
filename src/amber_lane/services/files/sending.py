"""Sheets of ours that go to a server of files by themselves: made, written to the outbox in the same transaction, and put there once."""

from __future__ import annotations

import secrets
from datetime import timedelta

from sqlalchemy import select

from ...connectors.file_servers.payload import FilePayload
from ...core import file_names
from ...data.bulk import by_id
from ...data.files import FileRule
from ...data.orders import PurchaseOrder
from ...data.outbox import Outbox, SheetOut
from ...data.tallies import tally
from ...sheets.table import csv_bytes
from ..base import house_days
from ..base.context import Context
from ..delivery import sheet_export
from ..outbox import queue
from ..purchasing import po_documents
from . import rules

# So many sheets of one purchase order each are made in one go.
EACH_MOST = 200
# How a file is called that is a document, not a sheet.
DOCUMENT = ".xml"


def due(context: Context) -> list[int]:
    """Rules by which something waits to go out now."""
    now, waits = context.now, tally(context.session, "changes")
    found = []
    for row in context.session.scalars(select(FileRule).where(FileRule.is_out, FileRule.is_on).order_by(FileRule.id)):
        kinds = sheet_export.WHATS[row.what][1]
        if (row.next_at is None or row.next_at <= now) and any(
            waits.get((f"{row.owner}:{row.owner_id}", kind, "waiting")) for kind in kinds
        ):
            server, partner = rules.where(context, row)
            if server is not None and all(one.paused_at is None and one.ended_at is None for one in (server, partner)):
                found.append(row.id)
    return found


def send_out(context: Context, number: int) -> list[SheetOut]:
    """What waits for a rule's partner, as sheets that go to its server."""
    rule = context.get(FileRule, number, "rule of files")
    partner = rules.where(context, rule)[1]
    rule.next_at = context.now + timedelta(minutes=rule.minutes)
    made: list[SheetOut] = []
    while (not made or (rule.each and len(made) < EACH_MOST)) and sheet_export.is_waiting(context, rule.owner, rule.owner_id, rule.what):
        sheet = sheet_export.take_out(context, rule.owner, rule.owner_id, rule.what, 1 if rule.each else None)
        row = next(iter(by_id(context.session, Outbox, sheet.outbox[:1]).values()))
        here = house_days.local(context, context.now)
        sheet.file_rule_id = rule.id
        path = file_names.ours(rule.pattern, here, sheet.id, row.key if rule.each else "")
        # A sample, or a load for a depot, is no document of the trade; it goes as a sheet.
        sheet.path = f"{path.removesuffix(DOCUMENT)}.csv" if path.endswith(DOCUMENT) and row.kind != "purchase" else path
        said = FilePayload(sheet=sheet.id, path=sheet.path, partner=partner.name, count=len(sheet.rows))
        queue.put(context, f"files:{rule.server_id}", f"sheet:{sheet.id}", f"file-{sheet.id}-{secrets.token_hex(3)}", said)
        made.append(sheet)
    context.session.flush()
    return made


def content(context: Context, sheet: int) -> bytes:
    """A sheet as it is put there, or the one purchase order in it as a UBL document, by its name."""
    row = context.get(SheetOut, sheet, "sheet")
    if row.path.endswith(DOCUMENT):
        (change,) = by_id(context.session, Outbox, row.outbox).values()
        purchase = context.session.scalars(select(PurchaseOrder.id).where(PurchaseOrder.reference == change.key)).one()
        return po_documents.ubl_file(context, purchase).data
    return csv_bytes(row.header, row.rows)


def began(context: Context, sheet: int) -> bool:
    return context.get(SheetOut, sheet, "sheet").placing_at is not None


def begin(context: Context, sheet: int) -> None:
    """The last step begins, by which it gets its name there: from now on it may have been taken."""
    context.get(SheetOut, sheet, "sheet").placing_at = context.now


def sent(context: Context, rule: FileRule, most: int = 20) -> list[tuple[SheetOut, Outbox | None]]:
    """A rule's newest sheets, each with what is known of its way."""
    sheets = list(
        context.session.scalars(select(SheetOut).where(SheetOut.file_rule_id == rule.id).order_by(SheetOut.id.desc()).limit(most))
    )
    subjects = [f"sheet:{one.id}" for one in sheets]
    rows = context.session.scalars(queue.of_subjects(select(Outbox).where(Outbox.subject.in_(subjects), Outbox.kind == "file")))
    by_subject = {row.subject: row for row in rows}
    return [(one, by_subject.get(f"sheet:{one.id}")) for one in sheets]
