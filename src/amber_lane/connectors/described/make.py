"""Connectors of descriptions, as what their owners can do."""

from __future__ import annotations

import httpx

from ..abilities import Ability
from ..errors import Refused
from .caller import DescribedCaller
from .carrier import DescribedCarrier, DescribedRates
from .load import BadDescription, load, shipped
from .schema import Description, Owner
from .sign_in import Save
from .store import DescribedStore
from .supplier import DescribedSupplier

Described = DescribedStore | DescribedSupplier | DescribedCarrier | DescribedRates
_MAKES: dict[Owner, type[Described]] = {
    Owner.store: DescribedStore,
    Owner.supplier: DescribedSupplier,
    Owner.carrier: DescribedCarrier,
    Owner.rates: DescribedRates,
}


def make(
    description: Description,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    save: Save | None = None,
) -> Described:
    """The connector of a description."""
    return _MAKES[description.owner](DescribedCaller(description, address, key, deadline, transport, save))


def of_text(text: str) -> Description:
    """A description of its text. Refused where it cannot be used."""
    try:
        return load(text)
    except BadDescription as error:
        raise Refused(f"the description cannot be used: {error}") from error


def shipped_one(name: str) -> Description:
    return load(shipped()[name])


def abilities_of(description: Description) -> frozenset[Ability]:
    """What a partner can do by its description, and others of its kind cannot."""
    has = description.operations.keys()
    told = {
        Ability.answers: "purchases" in has and "buy" not in description.cannot_find,
        Ability.one_by_one: "item" in has and "offers" not in has,
        Ability.recalls: "recall" in has,
        Ability.claims: {"claim", "claims"} <= has,
        Ability.labels: "label" in has,
    }
    return frozenset(one for one, can in told.items() if can)
