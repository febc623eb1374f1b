"""The house itself: where it is, and its first steps."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from ..services import first_steps, place
from .deps import ReadDesk, WriteDesk
from .shapes import Ask, Done

router = APIRouter(tags=["house"])


class FirstStepOut(BaseModel):
    """state: done, open, left (not needed, by a person's word) or later (another one comes first)."""

    key: str
    name: str
    state: str
    told: str
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


class PlaceAsk(Ask):
    country: str = Field(max_length=2)
    zone: str = Field(max_length=60)
    dates: str = Field(max_length=3)
    decimal: str = Field(max_length=1)


@router.get("/house/steps")
def steps(desk: ReadDesk) -> list[FirstStepOut]:
    return [FirstStepOut.model_validate(one, from_attributes=True) for one in first_steps.steps(desk)]


@router.post("/house/steps")
def leave(desk: WriteDesk, ask: LeaveAsk) -> Done:
    return Done(told=first_steps.leave(desk, ask.key, ask.left))


@router.get("/house/place")
def get_place(desk: ReadDesk) -> PlaceOut:
    return PlaceOut.model_validate(place.place_of(desk.s), from_attributes=True)


@router.put("/house/place")
def set_place(desk: WriteDesk, ask: PlaceAsk) -> Done:
    return Done(told=place.set_place(desk, place.Place(**ask.model_dump())))
