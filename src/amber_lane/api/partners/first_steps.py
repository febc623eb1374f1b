"""The house itself: where it is, how long it keeps things, and its first steps."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

from fastapi import Query
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...services.activity import retention
from ...services.base import regional
from ...services.base.errors import Invalid
from ...services.partners import first_steps, place_changes
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Done

router = GuardedRouter(tags=["house"], read=(P.SETTINGS,), write=(P.SETTINGS,))


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
    """group: between thousands, '' = as is usual with that decimal mark; sign_after: 12.50 € instead of €12.50."""

    country: str
    zone: str
    dates: str
    decimal: str
    group: str
    sign_after: bool
    # What sums over stores are in; home: what that is now, also where nobody said it.
    currency: str
    home: str


class PlaceAsk(Ask):
    country: str = Field(max_length=2)
    zone: str = Field(max_length=60)
    dates: str = Field(max_length=3)
    decimal: str = Field(max_length=1)
    group: str = Field("", max_length=1)
    sign_after: bool = False
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
    return KeepingBody(**asdict(retention.settings(context)))


@router.put("/house/keeping")
def set_keeping(context: WriteContext, ask: KeepingBody) -> Done:
    return Done(message=retention.set_keeping(context, retention.Keeping(**ask.model_dump())))


@router.get("/house/place")
def get_place(context: ReadContext) -> PlaceOut:
    place = regional.place_of(context.session)
    return PlaceOut(**asdict(place), home=regional.home_of(context.session))


class PlaceChangeOut(BaseModel):
    """What another place changes: as it is, and as it would be."""

    name: str
    now: str
    then: str


@router.get("/house/usual")
def usual_place(context: ReadContext, country: Annotated[str, Query(max_length=2)]) -> PlaceOut:
    """How dates and amounts are usually written in a country, and what is paid with there."""
    try:
        place = regional.usual(country, regional.place_of(context.session).zone)
    except ValueError as error:
        raise Invalid(f"country {error}", {"country": str(error)}) from error
    return PlaceOut(**asdict(place), home=regional.home_of(context.session))


@router.post("/house/place/changes")
def place_changes_of(context: ReadContext, ask: PlaceAsk) -> list[PlaceChangeOut]:
    """What would change, before it is kept."""
    found = place_changes.changes(context, regional.Place(**ask.model_dump()))
    return [PlaceChangeOut.model_validate(one, from_attributes=True) for one in found]


@router.put("/house/place")
def set_place(context: WriteContext, ask: PlaceAsk) -> Done:
    return Done(message=regional.set_place(context, regional.Place(**ask.model_dump())))
