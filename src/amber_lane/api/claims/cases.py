"""Cases: claims to suppliers with what is done for the buyer, as a list and one by one."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from typing import Annotated, Literal

from fastapi import Response
from pydantic import BaseModel, Field

from ...connectors.abilities import Ability
from ...connectors.claim_protocol import ClaimAnswer
from ...connectors.protocols import Tracking
from ...core.claims import ClaimReason, Record, Way
from ...core.currency import parse_money, plain
from ...core.permissions import Permission as P
from ...core.states import ClaimState
from ...data.claims import Claim
from ...data.orders import Order, OrderLine, PurchaseOrder
from ...data.setup import Store, Supplier
from ...data.shelf import Picture
from ...data.transit import Parcel
from ...services.base import house_days
from ...services.base.abilities import able
from ...services.base.context import Context
from ...services.base.errors import Conflict, Invalid, NotFound
from ...services.claims import buyer_side, cases, clock, letters
from ...services.inbound import buyer_letters
from ...services.listings import images
from ...services.mapping.scope import own_sku
from ..deps import ReadContext, TheApp, WriteContext
from ..files import EvidenceFile
from ..guard import GuardedRouter
from ..imports.sheets import as_file
from ..schemas import SHEET, Ask, Big, Done, Form, Money, money, sure

router = GuardedRouter("/claims", tags=["claims"], read=(P.SEE_ORDERS, P.SEE_MONEY), write=(P.CLAIM,), limited=True)
Words = Annotated[str, Field(max_length=2000)]


class ClaimVersionAsk(Ask):
    version: int


class OpenClaimAsk(Ask):
    """line: of an order; amount: what is asked, null = what it was bought for."""

    line: Big
    reason: ClaimReason
    units: Annotated[int, Field(gt=0, le=100_000)] | None = None
    wish: Literal["money", "again"] = "money"
    amount: Money | None = None
    words: Words = ""
    # The buyer's mail that it begins with.
    mail: Big | None = None


class MoreAsk(ClaimVersionAsk):
    words: Words


class BuyerAsk(ClaimVersionAsk):
    """amount: of a part refund, null = the usual one."""

    way: Way
    amount: Money | None = None


class AnswerAsk(ClaimVersionAsk):
    """What a supplier without an interface says. amount: what it pays; tracking: of what it sends again."""

    state: Literal["question", "accepted", "refused"]
    message: Annotated[str, Field(max_length=500)] = ""
    amount: Money | None = None
    tracking_number: Annotated[str, Field(max_length=60)] = ""
    carrier: Annotated[str, Field(max_length=100)] = ""


class CameAsk(ClaimVersionAsk):
    amount: Money


class LetGoAsk(ClaimVersionAsk):
    reason: Annotated[str, Field(max_length=300)] = ""


class ClaimRow(BaseModel):
    """waits_for: supplier, us or nobody; until: by when."""

    id: int
    version: int
    reference: str
    order: str
    order_id: int
    store: str
    title: str
    units: int
    supplier: str
    reason: str
    state: str
    wish: str
    amount: Money
    came_back: Money | None
    opened_at: datetime
    until: date | None
    waits_for: str
    buyer: str
    # What they got back.
    buyer_amount: Money | None
    buyer_name: str


class BuyerWayOut(BaseModel):
    """terms: they add up to the cost; a negative one is a gain. reason_not: why it cannot be done here."""

    way: str
    cost: Money
    terms: dict[str, Money]
    may: bool
    reason_not: str


class ClaimEventOut(BaseModel):
    at: datetime
    who: str
    kind: str
    message: str


class ClaimOut(BaseModel):
    """chance: that it is paid; share: what then comes of what was asked; both by so many answers of this supplier.
    letter: what to send where it has neither interface nor mail."""

    row: ClaimRow
    purchase: str
    words: str
    evidence: list[int]
    wants_picture: bool
    paid: Money
    offered: Money | None
    answer: str
    their_number: str
    reminded: int
    by: str
    letter: str
    chance: float
    share: float
    answers: int
    ways: list[BuyerWayOut]
    story: list[ClaimEventOut]
    calls: bool
    # Who else looks at it now.
    others: list[str]


class CanClaimOut(BaseModel):
    """What a claim of an order line would begin with; why: '' where there is somebody to claim it from.

    until: the supplier takes claims so long, null = for ever; over: that was before today. days_late: past the promise, 0 = none; parcel:
    its number with the carrier's last word of it. answers: of claims before; chance: that one is paid.
    """

    line: int
    title: str
    units: int
    supplier: str
    paid: Money | None
    why: str
    bought_on: date | None = None
    until: date | None = None
    over: bool = False
    days_late: int = 0
    parcel: str = ""
    last_word: str = ""
    answers: int = 0
    chance: float = 0.0


@router.get("")
def all_cases(context: ReadContext, show: Literal["open", "done", "all"] = "open") -> list[ClaimRow]:
    """What waits for whom, since when, until when, how much."""
    return [_row(context, one) for one in buyer_side.listed(context, show)]


def _row(context: Context, one: Claim) -> ClaimRow:
    order, line = context.get(Order, one.order_id, "order"), context.get(OrderLine, one.order_line_id, "order line")
    waits = "nobody" if one.closed_at else "supplier" if one.state in (ClaimState.asked, ClaimState.accepted) else "us"
    return ClaimRow(
        id=one.id,
        version=one.version,
        reference=one.reference,
        order=order.number,
        order_id=order.id,
        store=context.get(Store, order.store_id, "store").name,
        title=line.title or line.sku_code,
        units=one.units,
        supplier=context.get(Supplier, one.supplier_id, "supplier").name,
        reason=clock.said(one),
        state=one.state,
        wish=one.wish,
        amount=sure(one.amount, one.currency),
        came_back=sure(one.came_back, one.currency) if one.came_back else None,
        opened_at=one.opened_at,
        until=one.due,
        waits_for=waits,
        buyer=one.buyer,
        buyer_amount=money(one.buyer_amount, order.currency),
        buyer_name=order.buyer,
    )


def _own_line(context: Context, number: int) -> OrderLine:
    """An order line that whoever acts works for."""
    line, scope = context.get(OrderLine, number, "order line"), context.scope
    if scope.stores and context.get(Order, line.order_id, "order").store_id not in scope.stores:
        raise NotFound(f"there is no order line {number} among those that you work for")
    if line.sku_id and scope.categories:
        own_sku(context, line.sku_id)
    return line


@router.get("/lines/{number}")
def can_claim(context: ReadContext, number: Big) -> CanClaimOut:
    """What is known of an order line before a claim is opened."""
    line = _own_line(context, number)
    title = line.title or line.sku_code
    try:
        of = cases.known(context, number)
    except Conflict as error:
        return CanClaimOut(line=number, title=title, units=line.quantity, supplier="", paid=None, why=error.message)
    paid = sure(of.paid(line.quantity), of.purchase.currency)
    today, promised = house_days.today(context), of.order.promised_by
    parcel = context.session.get(Parcel, of.parcel or 0)
    record = buyer_side.records(context, of.supplier.id).get("", Record())
    # Late it is while nobody has it, or by the day on which it came.
    came = house_days.day_of(context, parcel.ended_at) if parcel and parcel.ended_at else today
    return CanClaimOut(
        line=number,
        title=title,
        units=line.quantity,
        supplier=of.supplier.name,
        paid=paid,
        why="",
        bought_on=house_days.day_of(context, of.purchase.made_at),
        until=of.until,
        over=of.until is not None and today > of.until,
        days_late=max((came - promised).days, 0) if promised else 0,
        parcel=parcel.number if parcel else "",
        last_word=parcel.last_word if parcel else "",
        answers=record.paid + record.refused,
        chance=round(float(record.chance), 3),
    )


SHEET_HEADER = (
    "case", "order", "store", "supplier", "purchase_order", "title", "units", "what_is_wrong", "state", "waits_for", "opened", "until",
    "asked_for", "came_back", "currency", "their_number", "answer",
)  # fmt: skip


@router.get("/sheet.{form}", response_class=Response, responses=SHEET)
def cases_sheet(context: ReadContext, form: Form, show: Literal["open", "done", "all"] = "open") -> Response:
    """The cases of a view as a table."""
    rows = []
    for one in buyer_side.listed(context, show, most=100_000):
        row = _row(context, one)
        purchase = context.get(PurchaseOrder, one.purchase_id, "purchase order").reference
        rows.append([
            row.reference, row.order, row.store, row.supplier, purchase, row.title, row.units, row.reason, row.state, row.waits_for,
            house_days.day_of(context, row.opened_at).isoformat(), row.until.isoformat() if row.until else "",
            plain(one.amount, one.currency) if one.wish == "money" else "a new one", plain(one.came_back, one.currency), one.currency,
            one.their_number, one.answer,
        ])  # fmt: skip
    return as_file("cases", form, SHEET_HEADER, rows)


@router.get("/{number}")
def case(context: ReadContext, app: TheApp, number: Big) -> ClaimOut:
    """One case with its story, and each way for the buyer with what it is expected to cost."""
    row = buyer_side.own(context, number)
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    found = buyer_side.ways(context, row)
    currency = context.get(Order, row.order_id, "order").currency
    calls = able(context, supplier, Ability.claims)
    by = "its interface" if calls else f"mail to {supplier.mail}" if "@" in supplier.mail else ""
    return ClaimOut(
        row=_row(context, row),
        purchase=context.get(PurchaseOrder, row.purchase_id, "purchase order").reference,
        words=row.words,
        evidence=row.evidence,
        wants_picture=cases.wants_picture(row),
        paid=sure(row.paid, row.currency),
        offered=money(row.offered, row.currency),
        answer=row.answer,
        their_number=row.their_number,
        reminded=row.reminded,
        by=by,
        letter="" if by else "\n\n".join(letters.of_one(context, row, supplier)),
        chance=round(float(found.record.chance), 3),
        share=round(float(found.record.share), 3),
        answers=found.record.paid + found.record.refused,
        ways=[
            BuyerWayOut(
                way=one.way.value,
                cost=sure(one.cost, currency),
                terms={name: sure(value, currency) for name, value in one.terms.items()},
                may=one.way in found.may,
                reason_not=found.reason_not.get(one.way, ""),
            )
            for one in found.costs
        ],
        story=[ClaimEventOut(at=one.at, who=one.who, kind=one.kind, message=one.message) for one in cases.story(context, number)],
        calls=calls,
        others=app.presence.look(f"claim:{number}", context.actor),
    )


class Opened(BaseModel):
    message: str
    id: int


@router.post("", status_code=201)
def open_case(context: WriteContext, ask: OpenClaimAsk) -> Opened:
    """Open a case; nothing goes out yet."""
    _own_line(context, ask.line)
    amount = None
    if ask.amount is not None:
        amount = _amount(ask.amount, cases.known(context, ask.line).purchase.currency)
    start = cases.Start(ask.line, ask.reason, ask.units, ask.wish, amount, ask.words)
    row = cases.open_claim(context, start) if ask.mail is None else buyer_letters.open_case(context, ask.mail, start)
    return Opened(message=f"case {row.reference} is open", id=row.id)


def _amount(given: Money, currency: str) -> int:
    if given.currency != currency:
        raise Invalid(f"it was paid for in {currency}", {"amount": f"must be in {currency}"})
    try:
        return parse_money(given.amount, currency)
    except ValueError as error:
        raise Invalid(str(error), {"amount": str(error)}) from error


class ManyClaimsAsk(Ask):
    claims: list[Big] = Field(min_length=1, max_length=500)


@router.post("/ask-many")
def ask_many(context: WriteContext, ask: ManyClaimsAsk) -> Done:
    """Ask for many at once: who is written to gets one mail over all of theirs."""
    for number in ask.claims:
        buyer_side.own(context, number)
    n, left = cases.ask_many(context, ask.claims)
    if not n:
        raise Conflict(left[0] if left else "none of these can be asked for")
    more = f"; {len(left)} {'was' if len(left) == 1 else 'were'} not, the first: {left[0]}" if left else ""
    return Done(message=f"{n} claim{'' if n == 1 else 's'} asked for{more}", count=n)


@router.post("/{number}/ask")
def ask_supplier(context: WriteContext, number: Big, ask: ClaimVersionAsk) -> Done:
    """Ask the supplier, once."""
    buyer_side.own(context, number)
    row = cases.ask(context, number, ask.version)
    return Done(message=f"{context.get(Supplier, row.supplier_id, 'supplier').name} is asked")


@router.post("/{number}/more")
def more(context: WriteContext, number: Big, ask: MoreAsk) -> Done:
    """Say more; a supplier that waits for it, or refused, is asked anew with it."""
    if not ask.words.strip():
        raise Invalid("say what is new", {"words": "is empty"})
    return Done(message=_added(context, number, ask.version, ask.words))


@router.post("/{number}/pictures", status_code=201)
def add_picture(made: EvidenceFile, context: WriteContext, number: Big) -> Done:
    """A picture that shows it, or a PDF, of which the first pages are kept as pictures; a supplier that waits for one is asked anew."""
    return Done(message=_added(context, number, None, pictures=[images.keep(context, one, is_evidence=True) for one in made]))


def _added(context: Context, number: int, version: int | None, words: str = "", pictures: Sequence[Picture] = ()) -> str:
    before = buyer_side.own(context, number).state
    after = cases.add(context, number, version, words, pictures).state
    if after == ClaimState.asked:
        return (
            "the supplier is asked again, with it"
            if before != ClaimState.asked
            else "it is in the case, and goes along when they are asked again"
        )
    return "it is in the case"


@router.post("/{number}/buyer")
def for_the_buyer(context: WriteContext, number: Big, ask: BuyerAsk) -> Done:
    """Do one thing for the buyer, once."""
    buyer_side.own(context, number)
    amount = None
    if ask.amount is not None:
        amount = _amount(ask.amount, context.get(Order, context.get(Claim, number, "claim").order_id, "order").currency)
    row = buyer_side.do(context, number, ask.version, ask.way, amount)
    told = {"refund": "the buyer is refunded", "part": "the buyer gets a part back", "again": "it is sent again"}
    return Done(message=told.get(row.buyer, "it is noted"))


@router.post("/{number}/answer")
def answer(context: WriteContext, number: Big, ask: AnswerAsk) -> Done:
    """What a supplier without an interface said."""
    buyer_side.own(context, number)
    row = context.get_version(Claim, number, ask.version, "claim")
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    if able(context, supplier, Ability.claims):
        raise Conflict(f"{supplier.name} answers by its interface")
    sent = ask.state == "accepted" and row.wish == "again" and bool(ask.tracking_number.strip())
    if row.state not in (ClaimState.asked, ClaimState.question) and not (sent and row.state == ClaimState.accepted):
        raise Conflict(f"claim {row.reference} is {row.state}")
    said = ClaimAnswer(
        row.reference, ask.state, "", ask.message, None if ask.amount is None else _amount(ask.amount, row.currency), row.currency
    )
    if fault := cases.not_believed(row, said):
        raise Invalid(fault, {"amount": fault})
    cases.take_answer(context, said)
    if sent:
        tracking = Tracking(ask.tracking_number.strip(), ask.carrier.strip())
        cases.take_answer(context, ClaimAnswer(row.reference, "paid", "", "", None, row.currency, tracking))
    return Done(message=f"{supplier.name}'s answer is in the case")


@router.post("/{number}/came")
def came(context: WriteContext, number: Big, ask: CameAsk) -> Done:
    """Money for it is here."""
    row = buyer_side.own(context, number)
    cases.money_came(context, number, ask.version, _amount(ask.amount, row.currency))
    return Done(message="it is in the books")


@router.post("/{number}/drop")
def drop(context: WriteContext, number: Big, ask: LetGoAsk) -> Done:
    """Let it go."""
    buyer_side.own(context, number)
    return Done(message=f"case {cases.drop(context, number, ask.version, ask.reason).reference} is let go")
