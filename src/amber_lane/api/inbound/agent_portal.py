"""The pages of agents and assistants: their purchase orders, as a list and a sheet, and the numbers that they give back."""

from __future__ import annotations

from datetime import date, datetime

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from ...data.setup import Person
from ...services.base.errors import Invalid
from ...services.inbound import agent_portal
from ..deps import ReadContext, SignedIn, WriteContext, person_of
from ..files import SheetFile
from ..imports.sheets import as_file
from ..schemas import SHEET, Ask, Done, Form

router = APIRouter(prefix="/mine", tags=["agents"])
BYTES_MAX = 5_000_000


class MineLine(BaseModel):
    line_no: int
    item: str
    title: str
    quantity: int


class MineOut(BaseModel):
    id: int
    reference: str
    supplier: str
    state: str
    made_at: datetime
    promised_by: date | None
    lines: list[MineLine]
    address: dict[str, str]
    service: str
    note: str
    greeting: str
    numbers: list[str]
    message: str


@router.get("/purchases")
def mine(context: ReadContext, number: SignedIn) -> list[MineOut]:
    person: Person = person_of(context, number)
    return [
        MineOut(**{**vars(one), "lines": [MineLine(line_no=a, item=b, title=c, quantity=d) for a, b, c, d in one.lines]})
        for one in agent_portal.mine(context, person)
    ]


@router.post("/purchases.{form}", response_class=Response, responses=SHEET)
def take_out(context: WriteContext, number: SignedIn, form: Form) -> Response:
    """Open purchase orders as a sheet; an agent who takes it says by it that they are accepted."""
    header, rows = agent_portal.take_out(context, person_of(context, number))
    return as_file("purchase-orders", form, header, rows)


class AgentAnswerAsk(Ask):
    reference: str = Field(max_length=100)
    state: str
    message: str = Field("", max_length=300)


@router.post("/answers")
def answer(context: WriteContext, number: SignedIn, ask: AgentAnswerAsk) -> Done:
    agent_portal.answer(context, person_of(context, number), ask.reference, ask.state, ask.message)
    return Done(message=f"{ask.reference} {ask.state}")


class NumberAsk(Ask):
    reference: str = Field(max_length=100)
    number: str = Field(max_length=60)
    carrier: str = Field("", max_length=80)


@router.post("/numbers")
def give_number(context: WriteContext, number: SignedIn, ask: NumberAsk) -> Done:
    found = agent_portal.number(context, person_of(context, number), ask.reference, ask.number, ask.carrier)
    return Done(message=f"{found} is passed on")


class BadRow(BaseModel):
    """A row that was not taken. row: its number in the sheet."""

    row: int
    reason: str


class TakenOut(BaseModel):
    taken: int
    bad: list[BadRow]


@router.post("/sheets/{name}")
def take_in(number: SignedIn, data: SheetFile, context: WriteContext, name: str) -> TakenOut:
    if len(data) > BYTES_MAX:
        raise Invalid("the sheet is larger than 5 MB; send it in parts")
    taken, bad = agent_portal.take_in(context, person_of(context, number), name, data)
    return TakenOut(taken=taken, bad=[BadRow(row=row, reason=reason) for row, reason in bad])
