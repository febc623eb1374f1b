"""Claims: opened with what is known, asked of the supplier once, answered, and settled with the money that came; each step in its story."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from sqlalchemy import BigInteger, func, select, type_coerce
from sqlalchemy.orm import Session

from ...connectors.abilities import Ability
from ...connectors.claim_payloads import ClaimPayload
from ...connectors.claim_protocol import ClaimAnswer
from ...core.claims import PROVEN, ClaimReason
from ...core.currency import show
from ...core.numbers import half_up
from ...core.states import CLAIM, ClaimState, PurchaseState
from ...data.claims import Claim, ClaimEvent
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.returns import GoodsReturn, ReturnRequest
from ...data.setup import Letter, Store, Supplier
from ...data.shelf import Picture
from ...data.transit import ParcelLine
from ..base import house_days, undoing
from ..base.abilities import able
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..fulfilment.parcel_tracking import take_tracking
from ..outbox import queue
from ..pricing.policy import policy_for
from . import letters
from .letters import WORDS

PICTURES_MOST = 8
# Purchases whose goods a supplier owes us.
CLAIMABLE = (PurchaseState.sent, PurchaseState.accepted, PurchaseState.shipped)


@dataclass(frozen=True)
class Start:
    """What a claim begins with. line: of an order; amount: asked, minor units of the supplier's money, None = what it was paid for."""

    line: int
    reason: ClaimReason
    units: int | None = None
    wish: str = "money"
    amount: int | None = None
    words: str = ""


@dataclass(frozen=True)
class Known:
    """What is known of a line before a claim is opened. paid: what so many units were bought for, sending in it."""

    order: Order
    line: OrderLine
    purchase: PurchaseOrder
    bought: PurchaseLine
    supplier: Supplier
    parcel: int | None
    # Until when its supplier takes claims; None = for ever.
    until: date | None

    def paid(self, units: int) -> int:
        whole = self.purchase.billed
        whole = self.purchase.goods + self.purchase.shipping + self.purchase.handling if whole is None else whole
        goods = max(self.purchase.goods, 1)
        return half_up(whole * self.bought.planned_cost * units, goods * max(self.line.quantity, 1))


def known(context: Context, line: int) -> Known:
    """The newest purchase of an order line that went to a supplier. Conflict where nothing of it was bought."""
    s = context.session
    row = context.get(OrderLine, line, "order line")
    found = s.execute(
        select(PurchaseLine, PurchaseOrder)
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .where(PurchaseLine.order_line_id == line, PurchaseOrder.state.in_(CLAIMABLE), ~PurchaseLine.refused)
        .order_by(PurchaseLine.live.desc(), PurchaseLine.id.desc())
        .limit(1)
    ).first()
    if found is None:
        raise Conflict("nothing of this line has gone to a supplier, so there is nobody to claim it from")
    bought, purchase = found
    parcel = s.scalar(select(ParcelLine.parcel_id).where(ParcelLine.purchase_id == purchase.id).order_by(ParcelLine.id.desc()).limit(1))
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    window = int(policy_for(s, supplier=supplier.code)["claim_window"])
    until = house_days.day_of(context, purchase.made_at) + timedelta(days=window) if window else None
    return Known(context.get(Order, row.order_id, "order"), row, purchase, bought, supplier, parcel, until)


def open_claim(context: Context, start: Start) -> Claim:
    """Open a claim; nothing goes out yet. One of a purchase's line is open at a time. Can be undone until the supplier is asked."""
    of = known(context, start.line)
    units = start.units or of.line.quantity
    paid = of.paid(min(units, of.line.quantity))
    most = min(paid, of.paid(of.line.quantity) - came_for(context, of))
    amount = (0 if start.wish == "again" else max(most, 0)) if start.amount is None else start.amount
    wrong = {}
    if not 0 < units <= of.line.quantity:
        wrong["units"] = f"must be 1 to {of.line.quantity}"
    if not 0 <= amount <= max(most, 0):
        back = f", and {show(paid - most, of.purchase.currency)} of it came back" if most < paid else ""
        wrong["amount"] = f"it was bought for {show(paid, of.purchase.currency)}{back}; no more can be asked back"
    if start.wish not in ("money", "again"):
        wrong["wish"] = "must be money or a new one"
    if wrong:
        raise Invalid("; ".join(wrong.values()), wrong)
    _only_one(context, of.purchase.id, of.line.id)
    store = context.get(Store, of.order.store_id, "store")
    row = Claim(
        reference=f"{store.code}-{of.order.number}-C{secrets.token_hex(2)}",
        order_id=of.order.id,
        order_line_id=of.line.id,
        purchase_id=of.purchase.id,
        supplier_id=of.supplier.id,
        parcel_id=of.parcel,
        reason=start.reason.value,
        units=units,
        wish=start.wish,
        state=CLAIM.first,
        amount=amount,
        currency=of.purchase.currency,
        paid=paid,
        words=start.words.strip()[:2000],
        opened_at=context.now,
    )
    context.session.add(row)
    context.session.flush()
    note(context, row, "open", f"{units} × {of.line.title or of.line.sku_code}: {WORDS[start.reason]}")
    context.log("claim.open", row.reference, f"claim {row.reference} opened: {WORDS[start.reason]}", after={"claim": row.id}, undo=True)
    return row


def _only_one(context: Context, purchase: int, line: int) -> None:
    there = select(Claim.reference).where(Claim.purchase_id == purchase, Claim.order_line_id == line, Claim.closed_at.is_(None))
    if (reference := context.session.scalar(there)) is not None:
        raise Conflict(f"claim {reference} is open for this already")


def came_for(context: Context, of: Known) -> int:
    """What earlier claims for the same line brought, minor units of the supplier's money."""
    rows = select(func.sum(Claim.came_back)).where(Claim.purchase_id == of.purchase.id, Claim.order_line_id == of.line.id)
    return int(context.session.scalar(rows) or 0)


def open_count(context: Context) -> int:
    return int(context.session.scalar(select(func.count()).select_from(Claim).where(Claim.closed_at.is_(None))) or 0)


def open_for(context: Context, line: int) -> int | None:
    """The claim that is open for an order line."""
    return context.session.scalar(select(Claim.id).where(Claim.order_line_id == line, Claim.closed_at.is_(None)).limit(1))


def note(context: Context, row: Claim, kind: str, message: str) -> None:
    """One line of a claim's story."""
    context.session.add(ClaimEvent(claim_id=row.id, at=context.now, who=context.actor, kind=kind, message=message[:500]))
    context.session.flush()


def story(context: Context, number: int) -> Sequence[ClaimEvent]:
    return context.session.scalars(select(ClaimEvent).where(ClaimEvent.claim_id == number).order_by(ClaimEvent.id)).all()


def ask(context: Context, number: int, version: int | None) -> Claim:
    """Ask the supplier: by its interface or by mail, once; where neither is there, a person writes."""
    row = context.get_version(Claim, number, version, "claim")
    if fault := _not_to_ask(row):
        raise Conflict(fault)
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    _asked(context, row)
    _told(context, row, supplier, _send(context, row, supplier))
    return row


def _not_to_ask(row: Claim) -> str:
    """Why a supplier is not to be asked for it; '' = it may be."""
    if row.wish == "again" and row.buyer in ("refund", "again"):
        done = "is refunded" if row.buyer == "refund" else "gets a new one"
        return f"the buyer {done} already, so no other is wanted: let this case go and open one for money"
    return ""


def _asked(context: Context, row: Claim) -> None:
    """From now on the supplier has its time to answer."""
    row.state, row.asked_at, row.answered_at = CLAIM.step(row.state, "ask"), context.now, None
    row.due = house_days.today(context) + timedelta(days=answer_days(context, row))
    context.session.flush()


def answer_days(context: Context, row: Claim) -> int:
    """How many days a claim's supplier has to answer, as the limits say."""
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    return int(policy_for(context.session, supplier=supplier.code)["claim_days"])


def _told(context: Context, row: Claim, supplier: Supplier, how: str) -> None:
    note(context, row, "ask", f"{supplier.name} asked for {_wish(row)}, {how}")
    context.log("claim.ask", row.reference, f"{supplier.name} asked for {_wish(row)}: {WORDS[ClaimReason(row.reason)]}")


def _wish(row: Claim) -> str:
    return show(row.amount, row.currency) if row.wish == "money" else "a new one"


def ask_many(context: Context, numbers: Sequence[int]) -> tuple[int, list[str]]:
    """Ask for many claims at once: a supplier by mail gets one mail over all of its lines, one with an interface each of them. Returns how
    many were asked, and why the others were not."""
    fit: dict[int, list[Claim]] = {}
    left: list[str] = []
    for number in dict.fromkeys(numbers):
        row = context.get(Claim, number, "claim")
        fault = _not_to_ask(row) or ("" if row.state in CLAIM.sources("ask") else f"it is {row.state}")
        if fault:
            left.append(f"{row.reference}: {fault}")
        else:
            fit.setdefault(row.supplier_id, []).append(row)
    for number, rows in fit.items():
        supplier = context.get(Supplier, number, "supplier")
        together = len(rows) > 1 and not able(context, supplier, Ability.claims) and "@" in supplier.mail
        if not together:
            for row in rows:
                ask(context, row.id, None)
            continue
        subject, body = letters.of_many(context, rows, supplier)
        for row in rows:
            row.version += 1
            _asked(context, row)
        key = f"claims-{rows[0].reference}-{len(rows)}-{rows[0].version}"
        files = letters.files(context, rows, supplier)
        sent = queue.mail(context, key, f"claim:{rows[0].id}", supplier.mail, subject, body, files=files, supplier=supplier.id)
        how = f"by {'one mail' if sent else 'hand: copy the text and send it yourself'} with {len(rows) - 1} more"
        for row in rows:
            _told(context, row, supplier, how)
    return sum(map(len, fit.values())), left


def _send(context: Context, row: Claim, supplier: Supplier) -> str:
    """The claim's row in the outbox, in the transaction that decided it. Returns by which road."""
    key = f"claim-{row.reference}-{row.version}"
    if able(context, supplier, Ability.claims):
        bought = context.session.scalars(
            select(PurchaseLine).where(PurchaseLine.purchase_id == row.purchase_id, PurchaseLine.order_line_id == row.order_line_id)
        ).first()
        payload = ClaimPayload(
            reference=row.reference, purchase=context.get(PurchaseOrder, row.purchase_id, "purchase order").reference,
            line_no=bought.line_no if bought else 1, units=row.units, reason=row.reason, wish=row.wish, amount=row.amount,
            currency=row.currency, words=row.words, pictures=tuple(row.evidence),
        )  # fmt: skip
        queue.put(context, f"supplier:{supplier.id}", f"claim:{row.id}", key, payload)
        return "by its interface"
    subject, body = letters.of_one(context, row, supplier)
    files = letters.files(context, [row], supplier)
    about = f"claim:{row.id}"
    if "@" in supplier.mail and queue.mail(context, key, about, supplier.mail, subject, body, files=files, supplier=supplier.id):
        return f"by mail to {supplier.mail}"
    return "by hand: copy the text and send it yourself"


def add(context: Context, number: int, version: int | None, words: str = "", pictures: Sequence[Picture] = ()) -> Claim:
    """More of what shows it. Where the supplier waits for that, it is asked anew with it."""
    row = context.get_version(Claim, number, version, "claim")
    if row.closed_at is not None:
        raise Conflict(f"claim {row.reference} is {row.state}")
    if pictures:
        row.evidence = [*dict.fromkeys([*row.evidence, *(one.id for one in pictures)])]
        if len(row.evidence) > PICTURES_MOST:
            raise Invalid(f"a claim has {PICTURES_MOST} pictures at most")
        note(context, row, "evidence", "a picture added" if len(pictures) == 1 else f"{len(pictures)} pages added")
    if words.strip():
        row.words = f"{row.words}\n{words.strip()}".strip()[:2000]
        note(context, row, "evidence", words.strip())
    if row.state in (ClaimState.question, ClaimState.refused):
        return ask(context, number, None)
    context.session.flush()
    return row


def take_answer(context: Context, answer: ClaimAnswer) -> None:
    """What a supplier says of a claim; a word that comes late or twice changes nothing, and what cannot be is told and not believed."""
    row = context.session.scalar(select(Claim).where(Claim.reference == answer.reference))
    if row is None or row.closed_at is not None:
        return
    row.their_number = answer.their_number or row.their_number
    if fault := not_believed(row, answer):
        if row.answer != fault:
            row.answer = fault
            note(context, row, "doubt", fault)
        return
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    move = {"question": "question", "accepted": "accept", "refused": "refuse"}.get(answer.state)
    if move and row.state in CLAIM.sources(move):
        row.state, row.answered_at, row.answer, row.due = CLAIM.step(row.state, move), context.now, answer.message[:500], None
        row.version += 1
        if answer.state == "accepted":
            row.offered = answer.amount
            # What it promised has to come, too.
            row.due = house_days.today(context) + timedelta(days=2 * answer_days(context, row))
        told = {"question": "wants to see more", "accepted": "will pay" if row.wish == "money" else "sends it again", "refused": "refuses"}
        what = f" {show(answer.amount, row.currency)}" if answer.amount is not None else ""
        message = f"{supplier.name} {told[answer.state]}{what}" + (f": {answer.message}" if answer.message else "")
        note(context, row, answer.state, message)
        context.log("claim.answer", row.reference, f"claim {row.reference}: {message}")
    if answer.state == "paid" and row.state in CLAIM.sources("settle"):
        if answer.tracking and row.wish == "again":
            purchase = context.get(PurchaseOrder, row.purchase_id, "purchase order")
            take_tracking(context, purchase, answer.tracking)
            note(context, row, "parcel", f"sent again: {answer.tracking.carrier} {answer.tracking.number}")
            _settle(context, row, 0)
        elif answer.amount is not None:
            _settle(context, row, answer.amount)


def not_believed(row: Claim, answer: ClaimAnswer) -> str:
    """What speaks against an answer: '' = nothing."""
    if not answer.state:
        return answer.message
    if answer.amount is None:
        return ""
    if answer.currency not in ("", row.currency):
        return f"it says that it pays in {answer.currency}, and was paid in {row.currency}: ask, it is not taken"
    if answer.amount > max(2 * row.paid, row.amount):
        return (
            f"it says that it pays {show(answer.amount, row.currency)} for what cost {show(row.paid, row.currency)}: ask, it is not taken"
        )
    return ""


def _settle(context: Context, row: Claim, amount: int) -> None:
    row.state, row.came_back, row.came_at, row.closed_at, row.due = CLAIM.step(row.state, "settle"), amount, context.now, context.now, None
    row.version += 1
    if amount:
        short = f", {show(row.amount - amount, row.currency)} less than was asked" if amount < row.amount else ""
        note(context, row, "paid", f"{show(amount, row.currency)} came back{short}")
    context.log(
        "claim.settled", row.reference, f"claim {row.reference} settled" + (f": {show(amount, row.currency)} came back" if amount else "")
    )
    context.session.flush()


def money_came(context: Context, number: int, version: int | None, amount: int) -> Claim:
    """Money for a claim is here, by a person's word."""
    row = context.get_version(Claim, number, version, "claim")
    if not 0 < amount <= max(2 * row.paid, row.amount):
        raise Invalid(
            "that cannot come back for it",
            {"amount": f"must be more than 0, and at most {show(max(2 * row.paid, row.amount), row.currency)}"},
        )
    if row.state not in CLAIM.sources("settle"):
        raise Conflict(f"claim {row.reference} is {row.state}")
    _settle(context, row, amount)
    return row


def drop(context: Context, number: int, version: int | None, reason: str) -> Claim:
    """Let a claim go. Can be undone."""
    row = context.get_version(Claim, number, version, "claim")
    row.state, row.closed_at, row.due = CLAIM.step(row.state, "drop"), context.now, None
    note(context, row, "drop", reason.strip() or "let go")
    context.log("claim.drop", row.reference, f"claim {row.reference} let go", reason=reason, before={"claim": row.id}, undo=True)
    return row


@undoing.undoes("claim.drop")
def undo_drop(context: Context, act: AuditEntry) -> None:
    row = context.get(Claim, undoing.before(act)["claim"], "claim")
    _only_one(context, row.purchase_id, row.order_line_id)
    row.state, row.closed_at = CLAIM.step(row.state, "reopen"), None
    row.version += 1
    note(context, row, "open", "taken up again")


@undoing.undoes("claim.open")
def undo_open(context: Context, act: AuditEntry) -> None:
    row = context.get(Claim, undoing.after(act)["claim"], "claim")
    sent_back = context.session.scalar(select(GoodsReturn.id).where(GoodsReturn.claim_id == row.id).limit(1))
    if row.state != CLAIM.first or row.asked_at is not None or row.buyer or sent_back is not None:
        raise Conflict(f"claim {row.reference} is under way; let it go instead")
    for one in story(context, row.id):
        context.session.delete(one)
    for asked in context.session.scalars(select(ReturnRequest).where(ReturnRequest.claim_id == row.id)):
        asked.claim_id, asked.version = None, asked.version + 1
    if row.letter_id and (letter := context.session.get(Letter, row.letter_id)):
        letter.needs, letter.read_at = True, None
    context.session.flush()
    context.session.delete(row)
    context.session.flush()


def under_way(context: Context, supplier: int) -> list[str]:
    """References of claims that a supplier with an interface may have news of."""
    rows = select(Claim.reference).where(
        Claim.supplier_id == supplier, Claim.state.in_((ClaimState.asked, ClaimState.accepted)), Claim.closed_at.is_(None)
    )
    return list(context.session.scalars(rows.order_by(Claim.id)))


def came_back_for(s: Session, purchases: Collection[int]) -> dict[int, tuple[int, int]]:
    """What came back for purchases (as many as fit one question), and when, ms; by the purchase's number."""
    out: dict[int, tuple[int, int]] = {}
    rows = select(Claim.purchase_id, Claim.came_back, type_coerce(Claim.came_at, BigInteger))
    for purchase, came, when in s.execute(rows.where(Claim.purchase_id.in_(purchases), Claim.came_back > 0)):
        amount, at = out.get(purchase, (0, 0))
        out[purchase] = (amount + came, max(at, int(when or 0)))
    return out


def wants_picture(row: Claim) -> bool:
    """Whether its supplier will ask for a picture, and there is none."""
    return ClaimReason(row.reason) in PROVEN and not row.evidence


__all__ = ["WORDS", "ask", "open_claim", "take_answer"]
