"""Keys of programs of one's own: made with what each may do, shown once, ended at once. A program sends Authorization: Bearer alk_…"""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.people import ProgramKey
from ...services.people import program_keys
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter, for_everyone
from ..schemas import Ask, Big, Done

router = GuardedRouter("/my-keys", tags=["people"], read=(), write=())


class KeyOut(BaseModel):
    """used_at: last, to a few minutes."""

    id: int
    name: str
    permissions: list[P]
    made_at: datetime
    used_at: datetime | None


class KeysOut(BaseModel):
    """may: what can be chosen for a new one."""

    keys: list[KeyOut]
    may: list[P]


def _key(row: ProgramKey) -> KeyOut:
    return KeyOut.model_validate(row, from_attributes=True)


@router.get("")
@for_everyone
def my_keys(context: ReadContext) -> KeysOut:
    """One's own keys that still open."""
    own = context.allowed.role.permissions if context.allowed else frozenset()
    return KeysOut(keys=[_key(one) for one in program_keys.mine(context)], may=[one for one in P if one in own - program_keys.NEVER])


class KeyAsk(Ask):
    name: str = Field(max_length=60)
    permissions: list[P] = Field(max_length=40)


class KeyMade(Done):
    """secret: shown this once."""

    secret: str


@router.post("", status_code=201)
@for_everyone
def make_key(context: WriteContext, ask: KeyAsk) -> KeyMade:
    """A key for a program, that does what is chosen for it, and never more than its person may."""
    row, secret = program_keys.make(context, ask.name, ask.permissions)
    return KeyMade(message=f"The key {row.name} is made; keep it now, it is shown this once", secret=secret)


@router.delete("/{number}")
@for_everyone
def end_key(context: WriteContext, number: Big) -> Done:
    """It opens nothing any more, at once."""
    return Done(message=f"The key {program_keys.end(context, number).name} opens nothing any more")
