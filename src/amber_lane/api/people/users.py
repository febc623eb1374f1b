"""Who may sign in, what they may do, and how they have to."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.setup import Person
from ...services.base.context import Context
from ...services.people import invitations, roles, second_step, sessions, users
from ..deps import AppState, ReadContext, TheApp, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done
from .own_work import Days, WorkOut, work_out

router = GuardedRouter("/setup/people", tags=["setup"], read=(P.PEOPLE,), write=(P.PEOPLE,))


class PersonOut(BaseModel):
    """second: whether they sign in with a second step; invited: they have not come in yet."""

    id: int
    name: str
    mail: str
    role: str
    scope: dict[str, list[int] | list[str]]
    version: int
    seen_at: datetime | None
    second: bool
    invited: bool


class ScopeAsk(Ask):
    """A role, and what they are limited to: stores, suppliers, categories of SKUs; none = not limited. An agent has suppliers, an
    assistant stores."""

    role: str = Field(max_length=40)
    suppliers: list[Big] = Field(default_factory=list, max_length=200)
    stores: list[Big] = Field(default_factory=list, max_length=200)
    categories: list[str] = Field(default_factory=list, max_length=200)


class PersonAsk(ScopeAsk):
    """Somebody who is invited: a link goes to their address, under which they say their name and password."""

    name: str = Field("", max_length=80)
    mail: str = Field(max_length=200)


@router.get("")
def people(context: ReadContext) -> list[PersonOut]:
    return [
        PersonOut.model_validate({**vars(row), "second": bool(row.second), "invited": not users.has_password(row)})
        for row in users.present(context)
    ]


class RoleAsk(ScopeAsk):
    """What a person may do from now on."""

    version: int


def _no_more_than_theirs(context: Context, number: int) -> None:
    """Nobody changes somebody who may more than they may themselves."""
    roles.may_grant(context, roles.role_of(context.session, context.get(Person, number, "person").role))


@router.post("/{number}/role")
def change_role(context: WriteContext, number: Big, ask: RoleAsk) -> Done:
    _no_more_than_theirs(context, number)
    scope = roles.scope_of(context, ask.role, ask.suppliers, ask.stores, ask.categories)
    return Done(message=sessions.change_role(context, number, ask.version, ask.role, scope))


@router.delete("/{number}")
def remove_person(context: WriteContext, number: Big, version: int) -> Done:
    """A person does not sign in any more; what they did stays theirs in the log. Cannot be undone: let them in anew."""
    _no_more_than_theirs(context, number)
    return Done(message=sessions.remove(context, number, version))


class Invited(Done):
    """link: to hand over by oneself where there is no mailbox to send it by; '' where it is mailed. It is shown this once."""

    link: str


@router.post("", status_code=201)
def invite(context: WriteContext, app: TheApp, ask: PersonAsk) -> Invited:
    """Let somebody in: a link under which they say a password of their own, good for a week and once."""
    scope = roles.scope_of(context, ask.role, ask.suppliers, ask.stores, ask.categories)
    person = invitations.invite(context, ask.name, ask.mail, ask.role, scope)
    return _invited(context, app, person)


@router.post("/{number}/invite")
def invite_again(context: WriteContext, app: TheApp, number: Big) -> Invited:
    """Another link for somebody who has not come in yet; the one before is good no more."""
    return _invited(context, app, invitations.again(context, number))


def _invited(context: Context, app: AppState, person: Person) -> Invited:
    sent, link = invitations.send(context, person, f"{app.settings.address}/")
    days = invitations.GOOD_FOR.days
    if sent:
        return Invited(message=f"A link is on its way to {person.mail}; it is good for {days} days", link="")
    return Invited(message=f"There is no mailbox to send it by: hand the link over yourself; it is good for {days} days", link=link)


@router.get("/{number}/work")
def work_of(context: ReadContext, number: Big, days: Days = 30) -> WorkOut:
    """What somebody did in the last days, as they see it themselves."""
    return work_out(context, context.get(Person, number, "person"), days)


class AwayAsk(Ask):
    version: int


@router.post("/{number}/second/off")
def take_second_step_away(context: WriteContext, number: Big, ask: AwayAsk) -> Done:
    """For who lost phone and codes: they sign in by password, and set it up anew."""
    _no_more_than_theirs(context, number)
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
