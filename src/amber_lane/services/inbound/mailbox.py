"""Mail that comes in: suppliers' answers are taken from it by themselves, and what only a person can read is put to one."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from sqlalchemy import func, insert, select

from ...connectors.inbox_protocol import Bounce, IncomingMail
from ...connectors.payloads import MailPayload
from ...core.states import FILE, MESSAGE
from ...data.orders import Order, PurchaseOrder
from ...data.outbox import AuditEntry, Outbox
from ...data.setup import UNCALLED, Inbox, Letter, MailKey, Supplier
from ...data.transit import Message
from ...sheets.opened import NotASheet, readable
from ...sheets.ubl import Answer
from ...sheets.ubl_claim import CreditNote, is_credit_note
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid, NotFound, UseCaseError
from ..files import arrivals, rules
from ..listings import images
from ..purchasing import po_documents
from . import buyer_letters, claim_replies, supplier_replies

# A mailbox that was just joined may hold years of mail: so many of the newest are read, the others are left.
FIRST_MOST = 100
MESSAGE_MOST = 500
PICTURES, PICTURES_MOST = (".jpg", ".jpeg", ".png", ".webp", ".pdf"), 6


def unread(context: Context, inbox: int, uids: Sequence[str]) -> list[str]:
    """Those mails of a mailbox (the oldest first) that nobody has read yet."""
    known = set(context.session.scalars(select(Letter.uid).where(Letter.inbox_id == inbox)))
    return [uid for uid in dict.fromkeys(uids) if uid not in known]


def leave_old(context: Context, inbox: Inbox, uids: Sequence[str]) -> None:
    """Once, as it was when the mailbox was joined: what lies there beyond the newest was there before us, and is left as it is."""
    if inbox.begun:
        return
    inbox.begun = True
    bare = {
        "inbox_id": inbox.id,
        "at": context.now,
        "sender": "",
        "subject": "",
        "body": "",
        "message": "it was there before",
        "needs": False,
    }
    old = [bare | {"uid": uid} for uid in list(dict.fromkeys(uids))[:-FIRST_MOST]]
    if old:
        context.session.execute(insert(Letter), old)
    context.session.flush()


@dataclass(frozen=True)
class OpenedMail:
    """A mail whose files are opened. files: (name, a sheet, or what a document says, or why it is neither); pictures: made anew."""

    mail: IncomingMail
    files: Sequence[tuple[str, bytes | list[Answer] | CreditNote | str]]
    pictures: Sequence[images.Made] = ()


def opened(mail: IncomingMail) -> OpenedMail:
    """Open a mail's sheets and documents, which may take a while, and so is done before anything is written."""
    files: list[tuple[str, bytes | list[Answer] | CreditNote | str]] = []
    pictures: list[images.Made] = []
    for name, data in mail.files:
        if name.lower().endswith(PICTURES):
            # What is none, or as small as a signature's logo, shows nothing and is left out.
            with suppress(Invalid):
                pictures = [*pictures, *(images.evidence(data) if len(pictures) < PICTURES_MOST else [])][:PICTURES_MOST]
            continue
        try:
            if name.lower().endswith(".xml"):
                files.append((name, claim_replies.note_of(data) if is_credit_note(data) else po_documents.read(data)))
            elif name.lower().endswith((".csv", ".xlsx")):
                files.append((name, readable(data)))
        except (Invalid, NotASheet) as error:
            files.append((name, str(error)))
    return OpenedMail(mail, files, pictures)


def _proven(context: Context, inbox: Inbox, supplier: Supplier, mail: IncomingMail) -> bool:
    """Whether a mail is surely of the supplier from whose address it says it is: anybody can write any address there.

    It carries the key of a mail of ours to that supplier, or the receiving server that this mailbox is said to trust vouches for it.
    """
    keys = select(MailKey.id).where(MailKey.key.in_(mail.keys), MailKey.supplier_id == supplier.id)
    if mail.keys and context.session.scalar(keys.limit(1)) is not None:
        return True
    domain = supplier.mail.rpartition("@")[2].strip().lower()
    # The topmost line of that name is the server's own; what stands below may have come with the mail.
    said = next((of for server, of in mail.vouched if inbox.trusts and server == inbox.trusts.lower()), "")
    return bool(domain) and said == domain


def take_in_held(context: Context, number: int, came: OpenedMail, folder: Path) -> Letter:
    """A person says that a mail is of whom it says: what its files say is done now. folder: where copies of sheets are kept."""
    row = context.get(Letter, number, "mail")
    if not row.held or row.supplier_id is None:
        raise Conflict("what this mail says was done already")
    if came.mail.uid != row.uid:
        raise Conflict("this is another mail")
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    message, needs = _read(context, supplier, came, folder)
    row.message, row.needs, row.held, row.read_at = message[:MESSAGE_MOST], needs, False, context.now
    context.log("letter.taken", supplier.name, f"a mail of {supplier.name} taken in by hand: {row.message}", reason=row.subject, count=0)
    return row


def receive(context: Context, inbox: int, came: OpenedMail, folder: Path) -> Letter:
    """Take one mail in (see `opened`), once: the sheets and documents of a supplier we order from by mail are done as they say.

    folder: where copies of sheets are kept.
    """
    mail = came.mail
    box = context.get(Inbox, inbox, "mailbox")
    known = context.session.scalar(select(Letter).where(Letter.inbox_id == inbox, Letter.uid == mail.uid))
    if known:
        return known
    supplier = _sender(context, mail.sender)
    if supplier is None and not mail.bounce and not mail.fault and (about := buyer_letters.find(context, mail)):
        return buyer_letters.keep(context, inbox, came.mail, about, came.pictures)
    held = bool(supplier and came.files and not mail.bounce and not _proven(context, box, supplier, mail))
    if mail.bounce:
        message, needs = _bounced(context, mail.bounce), True
    elif held and supplier:
        message, needs = (
            f"nothing proves that {supplier.name} wrote this, so its files were not taken; take them in if they are theirs",
            True,
        )
    else:
        message, needs = _read(context, supplier, came, folder)
        if supplier and _proven(context, box, supplier, mail) and (named := claim_replies.note_words(context, supplier, mail)):
            message = f"about claim {' and '.join(named)}, where its words stand; {message}"
    row = Letter(
        inbox_id=inbox,
        uid=mail.uid,
        at=min(mail.at or context.now, context.now),
        sender=mail.sender,
        subject=mail.subject,
        body=mail.text,
        supplier_id=supplier.id if supplier else None,
        message=message[:MESSAGE_MOST],
        needs=needs,
        held=held,
    )
    context.session.add(row)
    context.session.flush()
    if supplier:
        # What its files did was written down by each of them already, so it counts for nothing more here.
        kind = "letter.came" if needs else "purchase.answers"
        context.log(kind, supplier.name, f"{supplier.name} wrote: {row.message}", reason=mail.subject, count=0)
    return row


def _bounced(context: Context, bounce: Bounce) -> str:
    """A mail of ours came back: told where it belongs, and what it was about."""
    row = context.session.scalar(select(Outbox).where(Outbox.key == bounce.reference, Outbox.kind == "mail")) if bounce.reference else None
    reason = bounce.reason or "no reason was given"
    if row is None:
        return f"a mail to {bounce.to or 'somebody'} did not arrive: {reason}"
    sent = MailPayload.model_validate(row.body)
    message = context.session.get(Message, sent.message) if sent.message else None
    on = row.subject
    if message is not None:
        message.state = MESSAGE.step(message.state, "bounce") if message.state in MESSAGE.sources("bounce") else message.state
        order = context.session.get(Order, message.order_id)
        on = order.number if order else on
    sentence = f"our mail to {bounce.to or sent.to} did not arrive ({sent.subject}): {reason}"
    context.log("mail.bounced", on, sentence, reason="the mail server there sent it back")
    return sentence


def _sender(context: Context, address: str) -> Supplier | None:
    """Whose address it is; nobody's where two suppliers share it."""
    rows = context.session.scalars(select(Supplier).where(func.lower(Supplier.mail) == address).limit(2)).all() if "@" in address else []
    return rows[0] if len(rows) == 1 else None


def _read(context: Context, supplier: Supplier | None, came: OpenedMail, folder: Path) -> tuple[str, bool]:
    """What was done with a mail, and whether a person must read it."""
    if fault := came.mail.fault:
        return f"it cannot be read: {fault}; see it in the mailbox itself", True
    if supplier is None:
        return "from nobody we order from, so nothing in it was taken", False
    if not came.files:
        return "it has no sheet and no document", True
    done, wrong, left = [], [], []
    for name, data in came.files:
        said = _by_rule(context, supplier, name, data, folder) if isinstance(data, bytes) else ""
        done += [said] if said else []
        left += [] if said else [(name, data)]
    if left and supplier.kind not in UNCALLED:
        return "; ".join([*done, f"{supplier.name} answers by its interface, so its files were not taken"]), True
    for name, data in left:
        if isinstance(data, str):
            wrong.append(f"{name[:60]}: {data}")
            continue
        try:
            # What one file has wrong takes nothing away from the others.
            with context.session.begin_nested():
                message, bad = _file(context, supplier, data)
        except UseCaseError as error:
            wrong.append(f"{name[:60]}: {error.message}")
            continue
        done += [message] if message else []
        wrong += [f"{name[:60]}: {one}" for one in bad]
    return "; ".join([*done, *wrong]) or "its sheet has no answer filled in", bool(wrong) or not done


def _by_rule(context: Context, supplier: Supplier, name: str, data: bytes, folder: Path) -> str:
    """What is done with a file that a rule says the meaning of; '' where none does."""
    came = arrivals.by_mail(context, supplier, name, len(data), hashlib.sha256(data).hexdigest())
    if came is None:
        return ""
    if came.state != FILE.first:
        return f"{name[:60]} came before, and counts once"
    folder.mkdir(parents=True, exist_ok=True)
    kept = folder / f"file-{came.id}.sheet"
    kept.write_bytes(data)
    arrivals.fetched(context, came.id, kept)
    return f"{name[:60]} is taken as {rules.CALLED[arrivals.rule_of(context, came).what]}"


def _file(context: Context, supplier: Supplier, data: bytes | list[Answer] | CreditNote) -> tuple[str, list[str]]:
    """One sheet, or what one document says: what was taken, and what was not with why."""
    find = partial(purchase_of, context, supplier)
    if isinstance(data, CreditNote):
        taken, wrong_claims = claim_replies.of_credit_note(context, supplier, data)
        return f"credit note {data.number} for {taken} claim{'' if taken == 1 else 's'} taken" if taken else "", wrong_claims
    if not isinstance(data, list) and claim_replies.is_sheet(data):
        n, bad = claim_replies.of_sheet(context, supplier, data)
        return f"{n} answer{'' if n == 1 else 's'} to claims taken" if n else "", [f"row {row}: {reason}" for row, reason in bad]
    if isinstance(data, list):
        message, _, wrong = supplier_replies.of_document(context, data, find)
        return message, [wrong] if wrong else []
    n, bad = supplier_replies.of_sheet(context, supplier_replies.name_of(data), data, find)
    return f"{n} answer{'' if n == 1 else 's'} taken" if n else "", [f"row {row}: {reason}" for row, reason in bad]


def purchase_of(context: Context, supplier: Supplier, reference: str) -> PurchaseOrder:
    """A purchase order of the supplier who writes; NotFound for any other, so that nobody answers for others."""
    found = context.session.scalar(
        select(PurchaseOrder).where(PurchaseOrder.reference == reference, PurchaseOrder.supplier_id == supplier.id)
    )
    if found is None:
        raise NotFound(f"there is no purchase order {reference!r} to {supplier.name}")
    return found


def to_read(context: Context) -> list[tuple[Letter, str]]:
    """Mails that a person must read, each with its supplier's name; those of buyers are looked at with their orders."""
    query = select(Letter, Supplier.name).outerjoin(Supplier, Supplier.id == Letter.supplier_id)
    rows = context.session.execute(query.where(Letter.needs, Letter.order_id.is_(None)))
    return [(row, name or row.sender or "somebody") for row, name in rows.tuples()]


def recent(context: Context, most: int = 50) -> Iterable[tuple[Letter, str]]:
    """The newest mails that are of suppliers or need a person, with the supplier's name."""
    ours = Letter.supplier_id.is_not(None) | Letter.needs | Letter.read_at.is_not(None)
    rows = select(Letter, Supplier.name).outerjoin(Supplier, Supplier.id == Letter.supplier_id).where(ours)
    return [(row, name or row.sender) for row, name in context.session.execute(rows.order_by(Letter.id.desc()).limit(most)).tuples()]


def close_letter(context: Context, number: int) -> None:
    """A person has read it."""
    row = context.get(Letter, number, "mail")
    if not row.needs:
        raise Conflict("this mail was read already")
    row.needs, row.read_at = False, context.now
    context.log("letter.read", row.sender, f"read: {row.subject or 'a mail'}", after={"letter": number}, undo=True)


def reopen_letter(context: Context, number: int) -> None:
    row = context.get(Letter, number, "mail")
    row.needs, row.read_at = True, None


def trust(context: Context, number: int, server: str) -> str:
    """Say which receiving server's word on who wrote a mail counts for a mailbox; '' = none."""
    box = context.get(Inbox, number, "mailbox")
    box.trusts = server.strip().lower()
    message = (
        f"{box.name} believes {box.trusts} on who wrote a mail" if box.trusts else f"{box.name} believes no server on who wrote a mail"
    )
    context.log("inbox.trust", box.name, message)
    return message


@undoing.undoes("letter.read")
def undo_letter_read(context: Context, act: AuditEntry) -> None:
    reopen_letter(context, undoing.after(act)["letter"])
