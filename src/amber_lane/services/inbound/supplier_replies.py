"""What suppliers write back to purchase orders, from wherever it comes: an agent's page, a mail, a person's hand."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import islice
from typing import Any

from sqlalchemy import select

from ...connectors.protocols import PurchaseAnswer
from ...core.permissions import AGENT
from ...core.states import PURCHASE, OutboxState, PurchaseState
from ...core.writing import grouped
from ...data.orders import PurchaseOrder
from ...data.outbox import Outbox
from ...data.setup import UNCALLED, Person, Supplier
from ...sheets.mapping import read
from ...sheets.opened import NotASheet
from ...sheets.ubl import Answer
from ..base.context import Context
from ..base.errors import Conflict, Invalid, UseCaseError
from ..delivery import sheet_export
from ..imports.column_memory import read_as
from ..imports.sheet_kinds import kind_of
from ..purchasing import po_documents, supplier_answers

ROWS_MOST = 5000
SHEETS = ("answers", "tracking")
# Purchase orders that may still be accepted or refused.
OPEN = (PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted)
# Whose purchase order a reference is: NotFound where it is not theirs who write.
Find = Callable[[str], PurchaseOrder]


def may_say(context: Context, purchase: PurchaseOrder, answer: str, person: Person | None = None) -> None:
    """The one rule of who may say what of a purchase order, by whatever door it comes: page, sheet, document or mail. Conflict if not.

    answer: accepted, refused, or shipped (a tracking number); person: an agent or an assistant who says it, None = the supplier itself.
    """
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    if supplier.kind not in UNCALLED:
        raise Conflict(f"{supplier.name} answers by its interface")
    if person is not None and person.role != AGENT and answer != "shipped":
        raise Conflict("only the supplier's agent answers for it")
    if purchase.state not in (OPEN if answer != "shipped" else (*OPEN, "shipped")):
        raise Conflict(f"{purchase.reference} is {purchase.state}, so this answer comes too late")


def as_taken(context: Context, reference: str) -> None:
    """What was answered is out of the outbox: no sheet has it again as new."""
    row = context.session.scalar(select(Outbox).where(Outbox.key == reference, Outbox.state == OutboxState.waiting))
    purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == reference))
    # What goes by an interface goes by it all the same: what is said beforehand is no purchase.
    if row and purchase and context.get(Supplier, purchase.supplier_id, "supplier").kind in UNCALLED:
        sheet_export.confirm(context, row, "answered by the supplier")
        purchase.state = PURCHASE.step(purchase.state, "send")


def of_sheet(context: Context, name: str, data: bytes, find: Find, person: Person | None = None) -> tuple[int, list[tuple[int, str]]]:
    """A tracking or answers sheet: how many rows were taken, and the others as (row, why). Invalid where it is no such sheet."""
    if name not in SHEETS:
        raise Invalid("a sheet of tracking numbers or of answers is taken here")
    kind = kind_of(name)
    try:
        rows = list(islice(read_as(context.session, kind, data).rows, ROWS_MOST + 1))
    except NotASheet as error:
        raise Invalid(str(error)) from error
    if len(rows) > ROWS_MOST:
        raise Invalid(f"the sheet has more than {grouped(ROWS_MOST)} rows; send it in parts")
    bad: list[tuple[int, str]] = []
    good = []
    for n, row in enumerate(rows, 2):
        try:
            purchase = find(row.get("purchase_order", "").strip())
            said = "shipped" if name == "tracking" or row.get("tracking_number") else row.get("answer", "").strip().lower()
            if said:
                may_say(context, purchase, said, person)
            good.append((n, row))
        except UseCaseError as error:
            bad.append((n, error.message))
    checked = kind.check(context, [row for _, row in good], lambda done: None)
    places = {id(getattr(row, "raw", row)): n for n, row in good}
    bad += [(places.get(id(row), 0), reason) for row, reason in checked.bad]
    # A row that was not taken leaves its purchase order where it is.
    for one in checked.good:
        as_taken(context, one.reference if isinstance(one, PurchaseAnswer) else one[0])
    return kind.take(context, checked), sorted(bad)


def name_of(data: bytes) -> str:
    """Which sheet it is by its columns: answers, else tracking. Invalid in the words of the first."""
    fault: Any = None
    for name in SHEETS:
        try:
            read(data, kind_of(name).required, ())
            return name
        except NotASheet as error:
            fault = fault or error
    raise Invalid(str(fault))


def of_document(context: Context, said: Sequence[Answer], find: Find | None = None) -> tuple[str, int, str]:
    """A UBL document: which purchase orders it is about and what it says, how many they are, and what is wrong with its numbers."""
    answers = po_documents.answers_of(context, said)
    for one in answers:
        if find:
            may_say(context, find(one.reference), one.state)
        as_taken(context, one.reference)
    wrong = supplier_answers.take_answers(context, answers)
    names = ", ".join(one.reference for one in answers)
    context.log("purchase.answers", names, f"a document brought in: {names} {answers[0].state}")
    return f"{names} {answers[0].state}", len(answers), wrong
