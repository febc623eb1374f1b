"""What is counted of one's own work: the very same that is shown to whoever lets people in."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from pydantic import BaseModel

from ...data.setup import Person
from ...services.base.context import Context
from ...services.people import work_done
from ..deps import ReadContext, SignedIn, person_of
from ..guard import GuardedRouter, for_everyone

router = GuardedRouter("/my-work", tags=["people"], read=(), write=())
Days = Annotated[int, Query(ge=1, le=366)]


class WorkRow(BaseModel):
    """count: things, as the log counts them; undone: of these, taken back since."""

    name: str
    acts: int
    count: int
    undone: int


class WorkOut(BaseModel):
    """lanes_wrong: of the lanes opened in these days, those that were found wrong since."""

    name: str
    days: int
    rows: list[WorkRow]
    lanes_opened: int
    lanes_wrong: int


def work_out(context: Context, person: Person, days: int) -> WorkOut:
    found = work_done.of_person(context, person, days)
    rows = [WorkRow(name=one.name, acts=one.acts, count=one.count, undone=one.undone) for one in found.rows]
    return WorkOut(name=person.name, days=days, rows=rows, lanes_opened=found.lanes_opened, lanes_wrong=found.lanes_wrong)


@router.get("")
@for_everyone
def my_work(context: ReadContext, number: SignedIn, days: Days = 30) -> WorkOut:
    """What is counted of one's own work."""
    return work_out(context, person_of(context, number), days)
