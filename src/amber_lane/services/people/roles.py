"""Roles: what each may do. Those of every house (core.permissions), some with limits that this one changed, and its own."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.permissions import AGENT, ASSISTANT, MANAGER, Allowed, Permission, Role, Scope, built_in, whole
from ...data.people import RoleRow
from ...data.setup import Person, Store, Supplier
from ...data.shelf import Sku
from ..base.context import Context
from ..base.errors import Conflict, Invalid, MayNot
from ..base.regional import home_of

MOST_SAVED = 10**12


@dataclass(frozen=True)
class Known:
    """A role with how many have it. own: the house made it; version: of its row, 0 = it is as every house has it."""

    role: Role
    people: int
    own: bool
    version: int


def _read(one: RoleRow, words: str = "") -> Role:
    known = {one.value for one in Permission}
    permissions = frozenset(Permission(name) for name in one.permissions if name in known)
    return Role(one.name, permissions, one.spend, one.refund, words=words)


def role_of(s: Session, name: str) -> Role:
    """What a role may do now; nothing at all by one that is not there any more."""
    usual = built_in(home_of(s)).get(name)
    if usual is not None and is_fixed(usual):
        return usual
    row = s.scalar(select(RoleRow).where(RoleRow.name == name))
    if row is None:
        return usual or Role(name)
    return _read(row, usual.words if usual else "")


def allowed(s: Session, person: Person) -> Allowed:
    """What a person may do now."""
    return Allowed(role_of(s, person.role), Scope.of(person.scope or {}))


def all_roles(context: Context) -> list[Known]:
    """Every role, those of all houses first."""
    s = context.session
    usual, rows = built_in(home_of(s)), {one.name: one for one in s.scalars(select(RoleRow).order_by(RoleRow.id))}
    names = [*usual, *(name for name in rows if name not in usual)]
    query = select(Person.role, func.count()).where(Person.gone_at.is_(None)).group_by(Person.role)
    people: dict[str, int] = dict(s.execute(query).tuples().all())
    return [Known(role_of(s, name), people.get(name, 0), name not in usual, rows[name].version if name in rows else 0) for name in names]


def is_fixed(role: Role) -> bool:
    """Whether what it may do is the same in every house."""
    return role.name == MANAGER or role.own_page


def may_grant(context: Context, *granted: Role) -> None:
    """MayNot where somebody would give, or take from somebody, more than they may themselves: so nobody makes more of themselves."""
    own = context.allowed.role if context.allowed else None
    if own is None or own.name == MANAGER:
        return
    for role in granted:
        above = any(
            mine is not None and (theirs is None or theirs > mine) for mine, theirs in ((own.spend, role.spend), (own.refund, role.refund))
        )
        if above or not role.permissions <= own.permissions:
            raise MayNot(f"a {role.name} may more than you; a manager does this")


def keep(context: Context, role: Role, version: int | None = None) -> str:
    """Make a role, or change what one may do; it holds at once for whoever has it. version: of its row as it was seen, None = a new one."""
    name, usual = " ".join(role.name.split()), built_in(home_of(context.session))
    row = context.session.scalar(select(RoleRow).where(RoleRow.name == name))
    if not name or len(name) > 40:
        raise Invalid("give it a name of at most 40 letters", {"name": "is empty" if not name else "is too long"})
    if name in usual and is_fixed(usual[name]):
        raise Conflict(f"what a {name} may do is the same in every house")
    if version is None and (row is not None or name in usual):
        raise Conflict(f"there is a role called {name} already")
    if any(amount is not None and not 0 <= amount <= MOST_SAVED for amount in (role.spend, role.refund)):
        raise Invalid("a limit is an amount, or none at all", {"spend": "is no amount"})
    before = role_of(context.session, name)
    may_grant(context, before, replace(role, permissions=whole(role.permissions)))
    if row is None:
        row = RoleRow(name=name)
        context.session.add(row)
    elif row.version != version:
        raise Conflict("somebody changed this role while you had it open; look at it again, nothing was overwritten")
    else:
        row.version += 1
    row.permissions = sorted(one.value for one in whole(role.permissions))
    row.spend, row.refund = role.spend, role.refund
    context.session.flush()
    message = f"{name}: what they may do is changed" if version is not None else f"the role {name} is made"
    context.log("role.keep", name, message, before=_told(before), after=_told(replace(role, permissions=whole(role.permissions))))
    return message


def _told(role: Role) -> dict[str, object]:
    return {"permissions": sorted(role.permissions), "spend": role.spend, "refund": role.refund}


def remove(context: Context, name: str, version: int) -> str:
    """A role that nobody has goes; one of every house is as it was in the beginning again."""
    row = context.session.scalar(select(RoleRow).where(RoleRow.name == name))
    if row is None or row.version != version:
        raise Conflict("somebody changed this role while you had it open; look at it again")
    usual = name in built_in(home_of(context.session))
    n = context.session.scalar(select(func.count()).where(Person.role == name, Person.gone_at.is_(None))) or 0
    may_grant(context, role_of(context.session, name), *(one for one in [built_in(home_of(context.session)).get(name)] if one))
    if n and not usual:
        raise Conflict(f"{n} {'person has' if n == 1 else 'people have'} this role; give them another one first")
    context.session.delete(row)
    message = f"{name}: as in the beginning" if usual else f"the role {name} is removed"
    context.log("role.remove", name, message, before=_told(_read(row)))
    return message


def scope_of(context: Context, role: str, suppliers: Iterable[int], stores: Iterable[int], categories: Iterable[str]) -> Scope:
    """What somebody of a role is limited to, checked. Invalid where the role is none, or needs to be limited and is not."""
    may_grant(context, role_of(context.session, role))
    scope = Scope(frozenset(stores), frozenset(suppliers), frozenset(one.strip() for one in categories if one.strip()))
    known = {one.role.name for one in all_roles(context)}
    if role not in known:
        raise Invalid(f"role must be one of {', '.join(sorted(known))}", {"role": "is none that we know"})
    if role == AGENT and not scope.suppliers:
        raise Invalid("say for which suppliers the agent works", {"suppliers": "choose at least one"})
    if role == ASSISTANT and not scope.stores:
        raise Invalid("say for which stores the assistant works", {"stores": "choose at least one"})
    for number in scope.suppliers:
        context.get(Supplier, number, "supplier")
    for number in scope.stores:
        context.get(Store, number, "store")
    there = set(context.session.scalars(select(Sku.category).where(Sku.category.in_(scope.categories)).distinct()))
    if lacks := sorted(scope.categories - there):
        raise Invalid(f"no SKU is in the category {lacks[0]}", {"categories": "has one that there is not"})
    if role == MANAGER:
        return Scope()
    return {AGENT: Scope(suppliers=scope.suppliers), ASSISTANT: Scope(stores=scope.stores)}.get(role, scope)
