"""What suppliers write about claims: a sheet of answers is done as it says, and words stand in the story of the claim that they name."""

from __future__ import annotations

import re
from itertools import islice

from sqlalchemy import select

from ...connectors.claim_protocol import ClaimAnswer
from ...core.currency import parse_money
from ...core.writing import grouped
from ...data.claims import Claim
from ...data.setup import Supplier
from ...sheets.mapping import read
from ...sheets.opened import NotASheet
from ...sheets.ubl import NotADocument
from ...sheets.ubl_claim import CreditNote, read_credit_note
from ..base.context import Context
from ..base.errors import Invalid
from ..claims import cases
from ..imports.column_memory import read_as
from ..imports.sheet_kinds import kind_of
from .buyer_letters import Mail

KIND, ROWS_MOST, WORDS_MOST = "claim_answers", 5000, 400
# A claim's number as we make it: the order's, and four signs of its own.
_REFERENCE = re.compile(r"[A-Z0-9][A-Z0-9-]{1,40}-C[0-9a-f]{4}\b")


def is_sheet(data: bytes) -> bool:
    """Whether a sheet answers claims, by its columns."""
    try:
        read(data, kind_of(KIND).required, ())
    except NotASheet:
        return False
    return True


def of_sheet(context: Context, supplier: Supplier, data: bytes) -> tuple[int, list[tuple[int, str]]]:
    """Take a supplier's answers to claims of its own: how many were, and the others as (row, why). Invalid where it is too long."""
    kind = kind_of(KIND)
    rows = list(islice(read_as(context.session, kind, data).rows, ROWS_MOST + 1))
    if len(rows) > ROWS_MOST:
        raise Invalid(f"the sheet has more than {grouped(ROWS_MOST)} rows; send it in parts")
    mine = set(context.session.scalars(select(Claim.reference).where(Claim.supplier_id == supplier.id)))
    theirs = [(n, row) for n, row in enumerate(rows, 2) if row.get("claim", "").strip() in mine]
    places = {id(getattr(row, "raw", row)): n for n, row in theirs}
    bad = [(n, "no claim of yours has that number") for n, row in enumerate(rows, 2) if row.get("claim", "").strip() not in mine]
    checked = kind.check(context, [row for _, row in theirs], lambda done: None)
    bad += [(places.get(id(row), 0), reason) for row, reason in checked.bad]
    return (kind.take(context, checked) if checked.good else 0), sorted(bad)


def note_of(data: bytes) -> CreditNote:
    """What a credit note says; looks nothing up. Invalid says why it is none."""
    try:
        return read_credit_note(data)
    except NotADocument as error:
        raise Invalid(str(error)) from error


def of_credit_note(context: Context, supplier: Supplier, note: CreditNote) -> tuple[int, list[str]]:
    """Money back for claims of its own, by a supplier's credit note: for how many, and why not for the others."""
    taken, wrong = 0, []
    for reference, amount in note.amounts.items():
        row = context.session.scalar(select(Claim).where(Claim.reference == reference, Claim.supplier_id == supplier.id))
        if row is None:
            wrong.append(f"no claim of yours is called {reference[:60]}")
            continue
        if row.closed_at is not None:
            wrong.append(f"{reference}: is {row.state} already")
            continue
        try:
            minor = parse_money(f"{amount.normalize():f}", note.currency)
        except ValueError as error:
            wrong.append(f"{reference}: {error}")
            continue
        answer = ClaimAnswer(reference, "paid", note.number, f"credit note {note.number}", minor, note.currency)
        if fault := cases.not_believed(row, answer):
            wrong.append(f"{reference}: {fault}")
            continue
        cases.take_answer(context, answer)
        if row.closed_at is None:
            wrong.append(f"{reference}: nothing was asked of you yet")
            continue
        taken += 1
    return taken, wrong


def note_words(context: Context, supplier: Supplier, mail: Mail) -> list[str]:
    """What a supplier wrote about claims of its own stands in their stories; a person reads it and says what it means. Which they are."""
    named = list(dict.fromkeys(_REFERENCE.findall(f"{mail.subject} {mail.text}")))[:20]
    if not named:
        return []
    query = select(Claim).where(Claim.reference.in_(named), Claim.supplier_id == supplier.id).order_by(Claim.id)
    found = context.session.scalars(query).all()
    words = " ".join(mail.text.split())[:WORDS_MOST]
    for row in found:
        cases.note(context, row, "wrote", f"{supplier.name} wrote: {words or mail.subject}")
    return [row.reference for row in found]
