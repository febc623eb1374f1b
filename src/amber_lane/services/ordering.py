"""How we order: what goes with a purchase order to each supplier, and each store's word to the receiver."""

from __future__ import annotations

from typing import Any

from ..data.base import Versioned
from ..data.setup import Store, Supplier
from .desk import Desk, Invalid
from .documents import FORMS, ROADS

PHONES = ("buyer", "store", "none")
SUPPLIER = ("parcel_note", "phone_rule", "order_form", "order_road", "mail")
STORE = ("greeting", "phone")
_KINDS: dict[str, tuple[type[Versioned], tuple[str, ...]]] = {"supplier": (Supplier, SUPPLIER), "store": (Store, STORE)}


def keep(desk: Desk, owner: str, number: int, version: int | None, fields: dict[str, Any]) -> str:
    """Set how a supplier is ordered from (parcel_note, phone_rule, order_form, order_road, mail) or a store's greeting and phone."""
    kind, names = _KINDS[owner]
    wrong: dict[str, str] = {}
    if fields.get("phone_rule", PHONES[0]) not in PHONES:
        wrong["phone_rule"] = f"must be one of {', '.join(PHONES)}"
    if fields.get("order_form", FORMS[0]) not in FORMS:
        wrong["order_form"] = f"must be one of {', '.join(FORMS)}"
    if fields.get("order_road", ROADS[0]) not in ROADS:
        wrong["order_road"] = f"must be one of {', '.join(ROADS)}"
    if fields.get("order_road") == "mail" and "@" not in str(fields.get("mail", "")):
        wrong["mail"] = "orders by mail need the supplier's mail address"
    if wrong:
        raise Invalid("; ".join(wrong.values()), wrong)
    row: Any = desk.get_version(kind, number, version, owner)
    before = {name: getattr(row, name) for name in names}
    for name in names:
        if name in fields:
            setattr(row, name, str(fields[name]).strip())
    kept = {"owner": owner, "id": number, "fields": before}
    desk.log("ordering.change", row.name, f"how we order changed: {row.name}", before=kept, undo=True)
    return f"How we order is kept for {row.name}"


def restore(desk: Desk, before: dict[str, Any]) -> None:
    """Undo: as it was."""
    kind, _ = _KINDS[before["owner"]]
    row: Any = desk.get_version(kind, before["id"], None, before["owner"])
    for name, value in before["fields"].items():
        setattr(row, name, value)
