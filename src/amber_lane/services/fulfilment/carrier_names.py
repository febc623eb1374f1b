"""How each store calls each carrier: matched by words where the store tells its list, chosen once by a person where it does not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rapidfuzz.fuzz import partial_ratio
from sqlalchemy import select

from ...connectors.payloads import FulfilmentPayload
from ...core.states import OUTBOX, OutboxState
from ...data.bulk import by_id
from ...data.outbox import AuditEntry, Outbox
from ...data.setup import Carrier, Store
from ...data.transit import Parcel
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid

NAME_MOST = 100
OPEN = (OutboxState.waiting, OutboxState.unknown, OutboxState.dead)


@dataclass(frozen=True)
class Naming:
    """A carrier in a store. name: as the store calls it, '' = not known; waits: tracking numbers of it that the store has not taken."""

    store: Store
    carrier: Carrier
    name: str
    waits: int


def take_list(context: Context, store: Store, names: Sequence[str]) -> None:
    """A store tells the carriers that it knows. Who fits by its words is named; what waited for a name goes on."""
    listed = list(dict.fromkeys(name.strip() for name in names if name.strip()))
    if listed != list(store.carriers or []):
        store.carriers = listed
        store.version += 1
    match(context)


def match(context: Context) -> None:
    """Name every carrier that has no name in a store by the one of the store's list that shares its words."""
    context.session.flush()
    stores = [store for store in context.session.scalars(select(Store).order_by(Store.id)) if store.carriers]
    for carrier in context.session.scalars(select(Carrier).order_by(Carrier.id)).all():
        words = {word for name in (carrier.name, *carrier.also_called) for word in name.casefold().split()}
        for store in stores:
            fits = [name for name in store.carriers if set(name.casefold().split()) <= words]
            if fits and str(store.id) not in carrier.store_names:
                _name(context, store.id, carrier, max(fits, key=len))


def _name(context: Context, store: int, carrier: Carrier, name: str) -> None:
    """Write a name down; every number that the store has not taken goes under it, at once."""
    names = {key: value for key, value in carrier.store_names.items() if key != str(store)}
    carrier.store_names = {**names, str(store): name} if name else names
    context.session.flush()
    if not name:
        return
    for row in _untaken(context, store, carrier.id):
        row.body = FulfilmentPayload.model_validate(row.body).model_copy(update={"carrier": name}).stored()
        if row.state == OutboxState.dead:
            # Whether the store has it after all is asked first, as after every loss.
            row.state, row.tries, row.claimed_at = OUTBOX.step(row.state, "retry"), 0, context.now
        row.after, row.fault = context.now, ""
    context.session.flush()


def _untaken(context: Context, store: int, carrier: int) -> list[Outbox]:
    query = select(Outbox).where(Outbox.target == f"store:{store}", Outbox.kind == "fulfilment", Outbox.state.in_(OPEN))
    rows = list(context.session.scalars(query.order_by(Outbox.id)))
    of = {row.id: FulfilmentPayload.model_validate(row.body).parcel for row in rows}
    parcels = by_id(context.session, Parcel, of.values())
    return [row for row in rows if (parcel := parcels.get(of[row.id])) is not None and parcel.carrier_id == carrier]


def choose(context: Context, store_id: int, carrier_id: int, name: str) -> str:
    """A person says how a store calls a carrier ('' = it is not known again). Can be undone for what has not gone yet."""
    store, carrier = context.get(Store, store_id, "store"), context.get(Carrier, carrier_id, "carrier")
    name = " ".join(name.split())
    if len(name) > NAME_MOST:
        raise Invalid(f"a carrier's name has up to {NAME_MOST} letters", {"name": "is too long"})
    if store.carriers and name and name not in store.carriers:
        raise Invalid(
            f"{store.name} does not know {name!r}; choose one of {', '.join(store.carriers)}", {"name": "is not on the store's list"}
        )
    old = carrier.store_names.get(str(store_id), "")
    if name == old and not any(row.state == OutboxState.dead for row in _untaken(context, store_id, carrier_id)):
        raise Conflict(f"{store.name} calls {carrier.name} {old or 'nothing yet'} already; nothing was changed")
    _name(context, store_id, carrier, name)
    carrier.version += 1
    message = f"{store.name} calls {carrier.name} {name!r}" if name else f"how {store.name} calls {carrier.name} is not known"
    context.log(
        "carrier.name",
        f"{store.code}:{carrier.code}",
        message,
        before={"store": store_id, "carrier": carrier_id, "name": old},
        undo=name != old,
    )
    return message


def restore(context: Context, before: dict[str, int | str]) -> None:
    """Undo a choice: the name is as it was; numbers that went meanwhile are in the store."""
    carrier = context.get(Carrier, int(before["carrier"]), "carrier")
    _name(context, int(before["store"]), carrier, str(before["name"]))
    carrier.version += 1


def likeliest(one: Naming) -> list[str]:
    """The names that a store knows, the one most like the carrier's first.

    >>> likeliest(Naming(Store(carriers=["Greenway", "swift wing"]), Carrier(name="Swiftwing Post", also_called=[]), "", 1))
    ['swift wing', 'Greenway']
    """
    called = [name.casefold() for name in (one.carrier.name, *one.carrier.also_called)]
    return sorted(one.store.carriers or [], key=lambda name: -max(partial_ratio(name.casefold(), ours) for ours in called))


def table(context: Context) -> list[Naming]:
    """All stores that take tracking numbers by all carriers."""
    stores = context.session.scalars(select(Store).where(Store.kind != "sheet", Store.ended_at.is_(None)).order_by(Store.id)).all()
    carriers = context.session.scalars(select(Carrier).where(Carrier.ended_at.is_(None)).order_by(Carrier.id)).all()
    query = select(Outbox.target, Outbox.body).where(
        Outbox.kind == "fulfilment", Outbox.state == OutboxState.dead, Outbox.fault == "carrier"
    )
    rows = [(target, FulfilmentPayload.model_validate(body).parcel) for target, body in context.session.execute(query).tuples()]
    parcels = by_id(context.session, Parcel, (number for _, number in rows))
    waits: dict[tuple[str, int], int] = {}
    for target, number in rows:
        if (parcel := parcels.get(number)) is not None:
            waits[target, parcel.carrier_id] = waits.get((target, parcel.carrier_id), 0) + 1
    return [
        Naming(store, carrier, carrier.store_names.get(str(store.id), ""), waits.get((f"store:{store.id}", carrier.id), 0))
        for store in stores
        for carrier in carriers
    ]


@undoing.undoes("carrier.name", whole=True)
def undo_carrier_name(context: Context, act: AuditEntry) -> None:
    restore(context, undoing.before(act))
