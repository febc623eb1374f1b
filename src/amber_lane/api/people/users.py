"""Who may sign in, what they may do, and how they have to."""

from __future__ import annotations

from datetime import datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from ...services.inbound import agent_portal
from ...services.people import second_step, sessions, users
from ..deps import ReadContext, WriteContext
from ..schemas import Ask, Big, Done

router = APIRouter(prefix="/setup/people", tags=["setup"])


class PersonOut(BaseModel):
    """second: whether they sign in with a second step."""

    id: int
    name: str
    mail: str
    role: str
    scope: dict[str, list[int]]
    version: int
    seen_at: datetime | None
    second: bool


class PersonAsk(Ask):
    """role: manager, agent (of suppliers) or assistant (for stores)."""

    name: str = Field(max_length=80)
    mail: str = Field(max_length=200)
    password: str = Field(max_length=500)
    role: str = Field("manager", max_length=20)
    suppliers: list[Big] = Field(default_factory=list, max_length=200)
    stores: list[Big] = Field(default_factory=list, max_length=200)


@router.get("")
def people(context: ReadContext) -> list[PersonOut]:
    return [PersonOut.model_validate({**vars(row), "second": bool(row.second)}) for row in users.present(context)]


class RoleAsk(Ask):
    """What a person may do from now on; see PersonAsk."""

    version: int
    role: str = Field(max_length=20)
    suppliers: list[Big] = Field(default_factory=list, max_length=200)
    stores: list[Big] = Field(default_factory=list, max_length=200)


@router.post("/{number}/role")
def change_role(context: WriteContext, number: Big, ask: RoleAsk) -> Done:
    scope = agent_portal.scope_of(context, ask.role, ask.suppliers, ask.stores)
    return Done(message=sessions.change_role(context, number, ask.version, ask.role, scope))


@router.delete("/{number}")
def remove_person(context: WriteContext, number: Big, version: int) -> Done:
    """A person does not sign in any more; what they did stays theirs in the log. Cannot be undone: let them in anew."""
    return Done(message=sessions.remove(context, number, version))


@router.post("", status_code=201)
def add_person(context: WriteContext, ask: PersonAsk) -> Done:
    scope = agent_portal.scope_of(context, ask.role, ask.suppliers, ask.stores)
    return Done(message=f"{users.make_person(context, ask.name, ask.mail, ask.password, ask.role, scope).name} can sign in")


class AwayAsk(Ask):
    version: int


@router.post("/{number}/second/off")
def take_second_step_away(context: WriteContext, number: Big, ask: AwayAsk) -> Done:
    """For who lost phone and codes: they sign in by password, and set it up anew."""
    return Done(message=second_step.take_away(context, number, ask.version))


class Rule(Ask):
    """managers: whether each manager must have a second step."""

    managers: bool


@router.get("/rule")
def rule(context: ReadContext) -> Rule:
    return Rule(managers=second_step.required(context.session))


@router.put("/rule")
def set_rule(context: WriteContext, ask: Rule) -> Done:
    return Done(message=second_step.set_required(context, ask.managers))
