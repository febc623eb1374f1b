"""Partners after they were connected: renamed, paused, disconnected, connected again, deleted; carriers' names in stores."""

from __future__ import annotations

from fastapi import Request
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.setup import UNCALLED
from ...services.base.errors import Invalid
from ...services.base.partner_identity import OWNERS
from ...services.fulfilment import carrier_names
from ...services.listings import allowance
from ...services.partners import connections, descriptions, life_cycle, registry
from ..deps import ReadContext, SignedIn, TheApp, WriteContext, context_of
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, minor

router = GuardedRouter(tags=["partners"], read=(P.SETTINGS,), write=(P.SETTINGS,))
AT = "/setup/partners/{owner}/{number}"


def _known(owner: str) -> str:
    if owner not in OWNERS:
        raise Invalid("there is no such kind of partner")
    return owner


class PartnerEffectOut(BaseModel):
    """What disconnecting would do: listings that follow no more, lanes that shut (spared: SKUs that another lane fills), orders that wait
    for it, changes that it has not got, parcels that are followed no more."""

    listings: int
    lanes: int
    spared: int
    orders: int
    unsent: int
    parcels: int
    deletable: bool


class VersionAsk(Ask):
    version: int


class NameAsk(VersionAsk):
    name: str = Field(max_length=200)


class PauseAsk(VersionAsk):
    paused: bool


@router.get(f"{AT}/effect")
def effect(context: ReadContext, owner: str, number: Big) -> PartnerEffectOut:
    return PartnerEffectOut.model_validate(life_cycle.effect(context, _known(owner), number), from_attributes=True)


@router.post(f"{AT}/name")
def rename(context: WriteContext, owner: str, number: Big, ask: NameAsk) -> Done:
    return Done(message=life_cycle.rename(context, _known(owner), number, ask.version, ask.name))


@router.post(f"{AT}/pause")
def pause(context: WriteContext, owner: str, number: Big, ask: PauseAsk) -> Done:
    return Done(message=life_cycle.set_paused(context, _known(owner), number, ask.version, ask.paused))


@router.post(f"{AT}/disconnect")
def disconnect(context: WriteContext, owner: str, number: Big, ask: VersionAsk) -> Done:
    return Done(message=life_cycle.disconnect(context, _known(owner), number, ask.version))


@router.post(f"{AT}/delete")
def delete(context: WriteContext, owner: str, number: Big, ask: VersionAsk) -> Done:
    """Delete a partner that never did anything. Cannot be undone."""
    return Done(message=life_cycle.remove(context, _known(owner), number, ask.version))


class LinkAsk(Ask):
    address: str = Field("", max_length=500)
    key: str = Field("", max_length=8000)


@router.post(f"{AT}/link")
def renew(app: TheApp, request: Request, person: SignedIn, owner: str, number: Big, ask: LinkAsk) -> Done:
    """Ask a link again, with a new address or key if given; one that was disconnected is connected again by it."""
    _known(owner)
    with app.db.reading() as s:
        context = context_of(request, s)
        row = context.get(OWNERS[owner], number, owner)
        kind = getattr(row, "kind", "smtp")
        uncalled = kind in UNCALLED
        if not uncalled:
            link = registry.link_of(context, owner, number)
            key = ask.key.strip() or app.connectors.credentials.open(link.sealed_key)
            given = connections.Join(owner, kind, row.name, ask.address.strip() or link.address, key)
            described = descriptions.text_by(context, link)
    if uncalled:
        with app.db.writing() as s:
            if not (message := life_cycle.connect_again(context_of(request, s), owner, number)):
                raise Invalid(f"{row.name} is never called, so there is nothing to check")
        return Done(message=message)
    try:
        account = connections.ask_account(app.connectors, given, described)
    except Invalid as error:
        if not ask.key and not ask.address:
            with app.db.writing() as s:
                registry.link_of(context_of(request, s), owner, number).message = error.message
        raise
    with app.db.writing() as s:
        context = context_of(request, s)
        connections.renew_key(context, app.connectors, owner, number, ask.address, ask.key, account)
        message = life_cycle.connect_again(context, owner, number)
        if owner == "store":
            carrier_names.take_list(context, context.get(OWNERS[owner], number, owner), account.carriers)
    return Done(message=message or "The link works")


class NamingOut(BaseModel):
    """How a store calls a carrier; list: the names that the store knows, empty where it tells none; waits: numbers not taken for want of
    a name."""

    store: int
    store_name: str
    carrier: int
    carrier_name: str
    name: str
    list: list[str]
    waits: int


@router.get("/setup/carriers/names")
def carrier_table(context: ReadContext) -> list[NamingOut]:
    return [
        NamingOut(
            store=one.store.id,
            store_name=one.store.name,
            carrier=one.carrier.id,
            carrier_name=one.carrier.name,
            name=one.name,
            list=list(one.store.carriers or []),
            waits=one.waits,
        )
        for one in carrier_names.table(context)
    ]


class NamingAsk(Ask):
    store: Big
    carrier: Big
    name: str = Field(max_length=200)


@router.post("/setup/carriers/names")
def name_carrier(context: WriteContext, ask: NamingAsk) -> Done:
    """How a store calls a carrier; what waits for it goes on at once."""
    return Done(message=carrier_names.choose(context, ask.store, ask.carrier, ask.name))


class AllowanceAsk(VersionAsk):
    """What a store lets us show, where it does not tell that itself; None = no limit."""

    units: int | None = Field(None, ge=0, le=100_000_000)
    listings: int | None = Field(None, ge=0, le=100_000_000)
    value: Money | None = None


@router.post("/setup/stores/{number}/limits")
def set_allowance(context: WriteContext, number: Big, ask: AllowanceAsk) -> Done:
    return Done(message=allowance.set_limits(context, number, ask.version, ask.units, ask.listings, minor(ask.value, "value")))
