"""Every kind of act that can be taken back. Its handler stands beside what does the act, and is entered here by its kind."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from typing import Any

from ... import services
from ...data.outbox import AuditEntry
from .context import Context

Handler = Callable[[Context, AuditEntry], object]


@dataclass(frozen=True)
class Undoing:
    """How one kind of act is taken back. whole: what stood before is put back whole, and a newer change of the same thing would go with
    it, so that one must be undone first."""

    kind: str
    take_back: Handler
    whole: bool = False


_KNOWN: dict[str, Undoing] = {}


def undoes(*kinds: str, whole: bool = False) -> Callable[[Handler], Handler]:
    """Enters a function as what takes back acts of these kinds."""

    def enter(handler: Handler) -> Handler:
        for kind in kinds:
            _KNOWN[kind] = Undoing(kind, handler, whole)
        return handler

    return enter


@cache
def known() -> dict[str, Undoing]:
    """All kinds. Every part of the work is loaded first, since each enters its own."""
    for module in pkgutil.walk_packages(services.__path__, f"{services.__name__}."):
        importlib.import_module(module.name)
    return _KNOWN


def before(act: AuditEntry) -> dict[str, Any]:
    """How it stood before an act, as the act wrote it down."""
    return act.before or {}


def after(act: AuditEntry) -> dict[str, Any]:
    """What an act did, as it wrote it down."""
    return act.after or {}
