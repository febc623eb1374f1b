"""Inheritance: house, supplier, category, store, SKU; the nearest that says something wins, field by field."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

SCOPES = ("house", "supplier", "category", "store", "sku")


@dataclass(frozen=True)
class Layer:
    """The fields that one scope sets; `name` says whose they are, for the bench."""

    scope: str
    name: str
    fields: Mapping[str, Any]


@dataclass(frozen=True)
class Resolved:
    """Each field's value and the layer that gave it."""

    values: dict[str, Any]
    source: dict[str, str]


def resolve(layers: Iterable[Layer]) -> Resolved:
    """Lay the scopes over each other, widest first.

    >>> r = resolve([Layer("sku", "DD-1", {"ceiling": 2195}), Layer("house", "house", {"ceiling": None, "step": 8})])
    >>> r.values, r.source
    ({'ceiling': 2195, 'step': 8}, {'step': 'house', 'ceiling': 'DD-1'})
    """
    values: dict[str, Any] = {}
    source: dict[str, str] = {}
    for layer in sorted(layers, key=lambda one: SCOPES.index(one.scope)):
        for field, value in layer.fields.items():
            if value is None:
                values.setdefault(field, None)
            else:
                values[field], source[field] = value, layer.name
    return Resolved(values, source)
