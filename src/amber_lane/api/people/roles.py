"""Roles: what each may do, and the limits of it; the same in every part of the house."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...core.permissions import Role, whole
from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.base.regional import home_of
from ...services.partners import rosters
from ...services.people import roles
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Done, Money, minor, money

router = GuardedRouter("/setup/roles", tags=["people"], read=(P.PEOPLE,), write=(P.PEOPLE,))


class RoleOut(BaseModel):
    """spend, refund: a day; null = no limit. version 0: as every house has it. fixed: it is the same everywhere."""

    name: str
    words: str
    permissions: list[P]
    spend: Money | None
    refund: Money | None
    people: int
    own: bool
    own_page: bool
    fixed: bool
    version: int


class PermissionOut(BaseModel):
    """needs: what it brings along, as nobody does what they cannot see."""

    name: P
    needs: list[P]


class Choice(BaseModel):
    id: int
    name: str


class RolesOut(BaseModel):
    """stores, suppliers, categories: what people can be limited to."""

    roles: list[RoleOut]
    permissions: list[PermissionOut]
    stores: list[Choice]
    suppliers: list[Choice]
    categories: list[str]


@router.get("")
def all_roles(context: ReadContext) -> RolesOut:
    home = home_of(context.session)
    return RolesOut(
        roles=[
            RoleOut(
                name=one.role.name,
                words=one.role.words,
                permissions=[p for p in P if p in one.role.permissions],
                spend=money(one.role.spend, home),
                refund=money(one.role.refund, home),
                people=one.people,
                own=one.own,
                own_page=one.role.own_page,
                fixed=roles.is_fixed(one.role),
                version=one.version,
            )
            for one in roles.all_roles(context)
        ],
        permissions=[PermissionOut(name=one, needs=sorted(whole({one}) - {one})) for one in P],
        stores=[Choice(id=one.id, name=one.name) for one in rosters.of_kind(context, "store")],
        suppliers=[Choice(id=one.id, name=one.name) for one in rosters.of_kind(context, "supplier")],
        categories=[name for name, *_ in rosters.scopes(context)["category"]],
    )


class RoleKeepAsk(Ask):
    """version: as it was seen (0 where it is as every house has it), null = a new one. spend, refund: null = no limit."""

    name: str = Field(max_length=80)
    permissions: list[P] = Field(max_length=40)
    spend: Money | None = None
    refund: Money | None = None
    version: int | None = None


def _home_amount(context: Context, given: Money | None, field: str) -> int | None:
    home = home_of(context.session)
    if given is not None and given.currency != home:
        raise Invalid(f"limits are in {home}", {field: f"must be in {home}"})
    return minor(given, field)


@router.put("")
def keep_role(context: WriteContext, ask: RoleKeepAsk) -> Done:
    """Make a role, or change what one may do; it holds at once."""
    role = Role(
        ask.name, frozenset(ask.permissions), _home_amount(context, ask.spend, "spend"), _home_amount(context, ask.refund, "refund")
    )
    return Done(message=roles.keep(context, role, ask.version))


@router.delete("/{name}")
def remove_role(context: WriteContext, name: str, version: int) -> Done:
    """A role that nobody has goes; one of every house is as in the beginning again."""
    return Done(message=roles.remove(context, name, version))
