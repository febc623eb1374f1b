"""Buying accounts: what may be bought by each in a day, and whether its orders go by themselves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy import select

from ...data.orders import PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import BuyingAccount, Supplier
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..orders.routing_inputs import room_of
from ..pricing.policy import SENDS

MINUTES_MOST = 7 * 24 * 60


@dataclass
class Rooms:
    """What is still free today by every account, as purchases are made."""

    accounts: dict[int, list[BuyingAccount]]
    free: dict[int, tuple[int | None, int | None]] = field(default_factory=dict)

    @classmethod
    def read(cls, context: Context) -> Rooms:
        found: dict[int, list[BuyingAccount]] = {}
        for one in context.session.scalars(select(BuyingAccount).order_by(BuyingAccount.id)):
            found.setdefault(one.supplier_id, []).append(one)
        return cls(found, {one.id: room_of(context, one) for rows in found.values() for one in rows})

    def take(self, asked: Sequence[tuple[int, int]], over: bool = False) -> list[int | None] | None:
        """An account for every purchase of an order (supplier, money in its currency), or None where one of them finds no room.

        over: a person lets it go beyond the limits.
        """
        free, picked = dict(self.free), list[int | None]()
        for supplier, amount in asked:
            rows = self.accounts.get(supplier)
            fits = next((one for one in rows or () if _fits(free[one.id], amount)), None)
            if rows and fits is None and not over:
                return None
            if rows and fits is None:
                fits = rows[0]
            if fits:
                money, count = free[fits.id]
                free[fits.id] = (None if money is None else money - amount, None if count is None else count - 1)
            picked.append(fits.id if fits else None)
        self.free = free
        return picked


def _fits(room: tuple[int | None, int | None], amount: int) -> bool:
    money, count = room
    return (money is None or amount <= money) and (count is None or count > 0)


def check(name: str, cap_money: int | None, cap_orders: int | None, send: str | None, send_minutes: int | None) -> None:
    """Invalid where a limit makes no sense."""
    wrong: dict[str, str] = {}
    if not name.strip():
        wrong["name"] = "give the account a name"
    for label, value in (("cap_money", cap_money), ("cap_orders", cap_orders)):
        if value is not None and value < 0:
            wrong[label] = "a limit is 0 or more; leave it empty for none"
    if send is not None and send not in SENDS:
        wrong["send"] = "by hand, at once or after so many minutes"
    if send == "after" and not 0 <= (send_minutes or 0) <= MINUTES_MOST:
        wrong["send_minutes"] = "at most a week"
    if wrong:
        raise Invalid("; ".join(wrong.values()), wrong)


def save_account(  # noqa: PLR0913 - the fields of a form, by name
    context: Context,
    supplier_id: int,
    number: int | None,
    version: int | None,
    *,
    name: str,
    cap_money: int | None,
    cap_orders: int | None,
    send: str | None,
    send_minutes: int | None,
) -> BuyingAccount:
    """Make or change an account. cap_money: minor units of the supplier's currency, a day; None = none."""
    check(name, cap_money, cap_orders, send, send_minutes)
    supplier = context.get(Supplier, supplier_id, "supplier")
    if number is None:
        row = BuyingAccount(supplier_id=supplier.id, name=name.strip())
        context.session.add(row)
        before = None
    else:
        row = context.get_version(BuyingAccount, number, version, "buying account")
        before = as_kept(row)
    row.name, row.cap_money, row.cap_orders, row.send, row.send_minutes = name.strip(), cap_money, cap_orders, send, send_minutes
    context.session.flush()
    context.log(
        "account.keep", supplier.name, f"{supplier.name}: limits of {row.name} set", before=before, after={"account": row.id}, undo=True
    )
    context.reroute()
    return row


def as_kept(row: BuyingAccount) -> dict[str, object]:
    names = ("supplier_id", "name", "cap_money", "cap_orders", "send", "send_minutes")
    return {name: getattr(row, name) for name in names}


def remove(context: Context, number: int, version: int | None) -> None:
    """Take an account away that nothing was bought by."""
    row = context.get_version(BuyingAccount, number, version, "buying account")
    if context.session.scalar(select(PurchaseOrder.id).where(PurchaseOrder.account_id == number).limit(1)):
        raise Conflict("purchase orders went by this account, so it stays for the books; set its limits to 0 instead")
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    context.log("account.remove", supplier.name, f"{supplier.name}: account {row.name} taken away", before=as_kept(row), undo=True)
    context.session.delete(row)
    context.session.flush()
    context.reroute()


def restore(context: Context, account: int | None, before: dict[str, object] | None) -> None:
    """Undo: an account as it was; None: it is taken away again."""
    row = context.session.get(BuyingAccount, account) if account else None
    if before is None:
        if row:
            remove(context, row.id, None)
        return
    if row is None:
        row = BuyingAccount(supplier_id=before["supplier_id"], name=before["name"])
        context.session.add(row)
    for name, value in before.items():
        setattr(row, name, value)
    row.version = (row.version or 0) + 1
    context.session.flush()
    context.reroute()


@undoing.undoes("account.keep", "account.remove")
def undo_account_keep(context: Context, act: AuditEntry) -> None:
    restore(context, undoing.after(act).get("account"), act.before)


def every(context: Context) -> Sequence[BuyingAccount]:
    return context.session.scalars(select(BuyingAccount).order_by(BuyingAccount.supplier_id, BuyingAccount.id)).all()
