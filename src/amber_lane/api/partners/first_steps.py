"""The house itself: where it is, how long it keeps things, and its first steps."""

from __future__ import annotations

from dataclasses import asdict

from fastapi import APIRouter
from pydantic import BaseModel, Field

from ...services.activity import retention
from ...services.base import regional
from ...services.partners import first_steps
from ..deps import ReadContext, WriteContext
from ..schemas import Ask, Done

router = APIRouter(tags=["house"])


class FirstStepOut(BaseModel):
    """state: done, open, left (not needed, by a person's word) or later (another one comes first)."""

    key: str
    name: str
    state: str
    message: str
    do: str
    go: str
    leave: bool


class LeaveAsk(Ask):
    key: str = Field(max_length=60)
    left: bool


class PlaceOut(BaseModel):
    country: str
    zone: str
    dates: str
    decimal: str
    # What sums over stores are in; home: what that is now, also where nobody said it.
    currency: str
    home: str


class PlaceAsk(Ask):
    country: str = Field(max_length=2)
    zone: str = Field(max_length=60)
    dates: str = Field(max_length=3)
    decimal: str = Field(max_length=1)
    currency: str = Field("", max_length=3)


@router.get("/house/steps")
def steps(context: ReadContext) -> list[FirstStepOut]:
    return [FirstStepOut.model_validate(one, from_attributes=True) for one in first_steps.steps(context)]


@router.post("/house/steps")
def leave(context: WriteContext, ask: LeaveAsk) -> Done:
    return Done(message=first_steps.leave(context, ask.key, ask.left))


class KeepingBody(Ask):
    """Days; 0 = for ever. sightings: all of them until then, later the last of each day. archive: written to a file before it goes."""

    decisions: int = Field(ge=0, le=36_500)
    changes: int = Field(ge=0, le=36_500)
    jobs: int = Field(ge=0, le=36_500)
    log: int = Field(ge=0, le=36_500)
    mails: int = Field(ge=0, le=36_500)
    sheets: int = Field(30, ge=0, le=36_500)
    sightings: int = Field(ge=0, le=36_500)
    archive: bool


@router.get("/house/keeping")
def get_keeping(context: ReadContext) -> KeepingBody:
    return KeepingBody(**asdict(retention.kept(context)))


@router.put("/house/keeping")
def set_keeping(context: WriteContext, ask: KeepingBody) -> Done:
    return Done(message=retention.set_keeping(context, retention.Keeping(**ask.model_dump())))


@router.get("/house/place")
def get_place(context: ReadContext) -> PlaceOut:
    place = regional.place_of(context.session)
    return PlaceOut(**asdict(place), home=regional.home_of(context.session))


@router.put("/house/place")
def set_place(context: WriteContext, ask: PlaceAsk) -> Done:
    return Done(message=regional.set_place(context, regional.Place(**ask.model_dump())))
