"""How we order: what goes with a purchase order to each supplier, and each store's word to the receiver."""

from __future__ import annotations

from typing import Any

from ...core.texts import is_mail
from ...data.base import Versioned
from ...data.outbox import AuditEntry
from ...data.setup import Carrier, Mailbox, Store, Supplier
from ..base import undoing
from ..base.context import Context
from ..base.errors import Invalid
from .po_documents import FORMS, ROADS

PHONES = ("buyer", "store", "none")
SUPPLIER = ("parcel_note", "phone_rule", "order_form", "order_road", "mail")
STORE = ("greeting", "phone")
_KINDS: dict[str, tuple[type[Versioned], tuple[str, ...]]] = {
    "supplier": (Supplier, SUPPLIER),
    "store": (Store, STORE),
    "carrier": (Carrier, ("shape", "page")),
    "mailbox": (Mailbox, ("name", "sender")),
}


def save(context: Context, owner: str, number: int, version: int | None, fields: dict[str, Any]) -> str:
    """Set how a supplier is ordered from (parcel_note, phone_rule, order_form, order_road, mail), a store's greeting and phone, or
    whom our mails come from (name, sender)."""
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
    if str(fields.get("mail", "")).strip() and not is_mail(str(fields["mail"]).strip()):
        wrong["mail"] = "must be one mail address such as office@supplier.example"
    if owner == "mailbox":
        if not is_mail(str(fields["sender"]).strip()):
            wrong["sender"] = "must be a mail address such as orders@our-shop.example"
        if not str(fields["name"]).strip() or not str(fields["name"]).isprintable():
            wrong["name"] = "say whom the mails come from"
    if wrong:
        raise Invalid("; ".join(wrong.values()), wrong)
    row: Any = context.get_version(kind, number, version, owner)
    before = {name: getattr(row, name) for name in names}
    for name in names:
        if name in fields:
            setattr(row, name, str(fields[name]).strip())
    kept = {"owner": owner, "id": number, "fields": before}
    context.log("ordering.change", row.name, f"how we order changed: {row.name}", before=kept, undo=True)
    return f"How we order from {row.name} is saved"


def check_carrier_shape(shape: str) -> str:
    """A shape in its plain form; Invalid says what one looks like."""
    text = "".join(shape.split()).upper()
    if text != "*" and (len(text) > 40 or not all(one.isascii() and (one.isalnum() or one in "/.") for one in text)):
        raise Invalid("letters, digits and nothing else, such as GP99999999; * for any", {"shape": "such as GP99999999, or * for any"})
    return text


def check_page(page: str) -> str:
    """The address of a carrier's tracking page with {number} where the number stands, or ''; Invalid where it is none."""
    text = page.strip()
    if text and (not text.startswith(("https://", "http://")) or text.count("{number}") != 1 or len(text) > 500 or " " in text):
        raise Invalid(
            "the tracking page is an address with {number} where the number stands", {"page": "such as https://post.example/track/{number}"}
        )
    return text


def keep_shape(context: Context, number: int, version: int | None, shape: str, page: str = "") -> str:
    """What a carrier's numbers look like: A a letter, 9 a digit, others as they are; empty = as posts number them (UPU S10), * = any.

    page: where its parcels can be followed, with {number}; '' = nowhere. Can be undone.
    """
    text, where = check_carrier_shape(shape), check_page(page)
    row = context.get_version(Carrier, number, version, "carrier")
    kept = {"owner": "carrier", "id": number, "fields": {"shape": row.shape, "page": row.page}}
    row.shape, row.page = text, where
    context.log("ordering.change", row.name, f"numbers of {row.name} look like {text or 'UPU S10'}", before=kept, undo=True)
    return f"Numbers of {row.name} are checked so from now on"


def restore(context: Context, before: dict[str, Any]) -> None:
    """Undo: as it was."""
    kind, _ = _KINDS[before["owner"]]
    row: Any = context.get_version(kind, before["id"], None, before["owner"])
    for name, value in before["fields"].items():
        setattr(row, name, value)


@undoing.undoes("ordering.change")
def undo_ordering_change(context: Context, act: AuditEntry) -> None:
    restore(context, undoing.before(act))
