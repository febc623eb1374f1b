"""What holds of a described partner: it is asked, and what must be so is looked at, one thing after another.

Reads alone touch nothing there. Writes are tried on one chosen listing, which is put back, or at a partner's practice side.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from functools import partial
from itertools import islice
from secrets import token_hex

from ...core.currency import MINOR_DIGITS, show
from ..errors import Denied, Malformed, NotThere, OutsideError, Refused
from ..protocols import Address, ListingChange, Purchase, PurchaseItem
from .caller import DescribedCaller, first_place
from .carrier import DescribedCarrier, DescribedRates
from .fields import FINDS, OPERATIONS
from .make import Described
from .records import Rows
from .store import DescribedStore
from .supplier import DescribedSupplier

# So many portions of a list are read to see that it goes on as it should.
PORTIONS = 40


class Outcome(StrEnum):
    holds = "holds"
    fails = "fails"
    told = "told"
    untried = "untried"


@dataclass(frozen=True)
class Check:
    """One thing that was looked at. told: it is so, and a person has to know what follows."""

    code: str
    about: str
    outcome: Outcome
    message: str = ""


@dataclass(frozen=True)
class Allowed:
    """What may be tried beside reading. listing: a SKU whose quantity may be changed and put back; practice: it is a practice side, where a
    purchase may be sent and let go; to: whom it goes to."""

    listing: str = ""
    practice: bool = False
    to: Address | None = None
    item: str = ""


@dataclass
class _Sheet:
    checks: list[Check] = field(default_factory=list)

    def try_(self, code: str, about: str, do: Callable[[], str]) -> bool:
        """Look at one thing: `do` returns what was seen; what it raises is why it does not hold."""
        try:
            self.checks.append(Check(code, about, Outcome.holds, do()))
        except (OutsideError, _No) as error:
            message = error.message if isinstance(error, OutsideError) else str(error)
            self.checks.append(Check(code, about, Outcome.fails, message))
            return False
        return True

    def left(self, code: str, about: str, why: str) -> None:
        self.checks.append(Check(code, about, Outcome.untried, why))


class _No(Exception):
    """It does not hold, and why."""


def certify(partner: Described, stranger: Described, allowed: Allowed) -> list[Check]:
    """All that can be looked at. stranger: the same with a key that is none."""
    sheet = _Sheet()
    if not sheet.try_("key", "The key is accepted", lambda: _account(partner)):
        return sheet.checks
    sheet.try_("stranger", "A wrong key is refused", lambda: _denied(stranger))
    for name in ("listings", "offers", "items"):
        if partner.call.has(name):
            about = f"The list comes to an end, each row once, all readable: {_about(partner, name)}"
            sheet.try_(f"{name}.whole", about, partial(_list, partner.call, name))
    if partner.call.has("orders"):
        sheet.try_("orders.whole", "Orders are read, and the same again from the same place", partial(_orders, partner.call))
    for name in ("listings", "offers", "orders", "table", "account"):
        if partner.call.has(name):
            about = f"Half an answer, or one of another shape, is noticed: {_about(partner, name)}"
            sheet.try_(f"{name}.torn", about, partial(_torn, partner.call, name))
    _each(sheet, partner, allowed)
    _afterwards(sheet, partner)
    return sheet.checks


def _each(sheet: _Sheet, partner: Described, allowed: Allowed) -> None:
    if isinstance(partner, DescribedSupplier):
        _supplier(sheet, partner, allowed)
    elif isinstance(partner, DescribedStore):
        _store(sheet, partner, allowed)
    elif isinstance(partner, DescribedCarrier):
        sheet.try_("track.nothing", "A number that nobody has tells nothing", lambda: _untracked(partner))
    elif isinstance(partner, DescribedRates):
        sheet.try_("table.same", "The table is read, and twice the same", lambda: _table(partner))


def _about(partner: Described, name: str) -> str:
    return OPERATIONS[partner.description.owner][name].about


def _account(partner: Described) -> str:
    said = partner.account()
    if partner.description.owner in ("store", "supplier") and said.currency and said.currency not in MINOR_DIGITS:
        raise _No(f"its currency, {said.currency}, is none that is known here")
    return f"{said.name}, {said.country or 'country not told'}, {said.currency or 'currency not told'}"


def _denied(stranger: Described) -> str:
    try:
        stranger.account()
    except Denied as error:
        return error.message
    except OutsideError as error:
        raise _No(f"it is not known as a wrong key: {error.message}") from error
    raise _No("it was let in all the same; does the sign-in use the key at all?")


def _portions(call: DescribedCaller, name: str) -> Iterator[Rows]:
    page, cursor = 1, ""
    while page <= PORTIONS:
        found, cursor, _ = call.portion(name, page, cursor)
        yield found
        if not cursor:
            return
        page += 1


def _list(call: DescribedCaller, name: str) -> str:
    label = "sku" if name == "listings" else "number"
    seen: set[str] = set()
    portions = 0
    for found in _portions(call, name):
        portions += 1
        if found.unread:
            raise _No(f"{len(found.unread)} rows cannot be read, the first: {found.bad[0]}")
        for row in found.rows:
            if row[label] in seen:
                raise _No(f"{row[label]} comes twice")
            seen.add(row[label])
    if not seen:
        raise _No("there is not one row to be looked at")
    further = ", looked at no further" if portions == PORTIONS else ""
    return f"{len(seen)} rows in {portions} portion{'' if portions == 1 else 's'}{further}"


def _orders(call: DescribedCaller) -> str:
    cursor, count = "", 0
    for _ in range(PORTIONS):
        first, after, more = call.since("orders", cursor)
        again, _, _ = call.since("orders", cursor)
        if first.unread:
            raise _No(f"{len(first.unread)} orders cannot be read, the first: {first.bad[0]}")
        numbers = {row["number"] for row in first.rows}
        if not numbers <= {row["number"] for row in again.rows}:
            raise _No("read again from the same place, orders were missing")
        count += len(numbers)
        if not more:
            break
        cursor = after
    return f"{count} orders" if count else "no orders there yet; their fields could not be looked at"


def _torn(call: DescribedCaller, name: str) -> str:
    operation = call.operation(name)
    body = call.perform(name, first_place(operation.paging)).content
    reader = call.reader(name)
    for about, part in (("half of it", body[: len(body) // 2]), ("an empty object", b"{}"), ("a page", b"<html><body>Hello</body></html>")):
        try:
            found = reader.read(part, call.currency, call.name)
        except Malformed:
            continue
        if found.rows or (call.specs[name].many and not found.unread):
            raise _No(f"{about} was read as if it were an answer")
    return "noticed"


def _supplier(sheet: _Sheet, partner: DescribedSupplier, allowed: Allowed) -> None:
    call = partner.call
    number = allowed.item
    if not number and (call.has("items") or call.has("offers")):
        name = "items" if call.has("items") else "offers"
        try:
            rows = call.portion(name, 1, "")[0].rows
            number = next((row["number"] for row in rows if row["stock"] > 0), rows[0]["number"] if rows else "")
        except OutsideError:
            number = ""
    if call.has("item"):
        if number:
            sheet.try_("item.same", "An item is told alone as it is in the list", lambda: _item(partner, number))
        else:
            sheet.left("item.same", "An item is told alone as it is in the list", "name an item to be asked for")
        sheet.try_("item.nothing", "An item that is not there is not made up", lambda: _no_item(partner))
    if call.has("origins"):
        sheet.try_("origins.whole", "Warehouses and ways of sending are told", lambda: _origins(partner))
    if call.has("purchases"):
        sheet.try_("purchases.nothing", "A purchase that was never sent is not found", lambda: _no_purchase(partner))
    about = "A purchase is sent, found by our reference, and let go"
    if not call.has("buy"):
        sheet.left("buy.once", about, "the description does not say how to buy")
    elif not allowed.practice:
        sheet.left("buy.once", about, "only at a practice side, since it buys")
    elif not number or allowed.to is None:
        sheet.left("buy.once", about, "name an item, and say in which country your business is")
    else:
        sheet.try_("buy.once", about, lambda: _buy(partner, number, allowed.to))


def _item(partner: DescribedSupplier, number: str) -> str:
    one = partner.item(number)
    if one is None:
        raise _No(f"{number} is in the list, and not there when it is asked for")
    return f"{one.number}: {one.title}, cost {show(one.cost, one.currency)}, stock {one.stock}"


def _no_item(partner: DescribedSupplier) -> str:
    number = f"none-{token_hex(4)}"
    if partner.item(number) is not None:
        raise _No(f"it tells an item {number}, which nobody has")
    return "it says that there is none"


def _origins(partner: DescribedSupplier) -> str:
    found = partner.origins()
    if not found or not any(one.services for one in found):
        raise _No("there is no warehouse with a way of sending")
    ways = sum(len(one.services) for one in found)
    return f"{len(found)} warehouse{'' if len(found) == 1 else 's'}, {ways} way{'' if ways == 1 else 's'} of sending"


def _no_purchase(partner: DescribedSupplier) -> str:
    reference = f"none-{token_hex(4)}"
    if partner.find_purchases([reference]):
        raise _No("it finds a purchase that was never sent")
    return "it says that there is none"


def _buy(partner: DescribedSupplier, number: str, to: Address | None) -> str:
    origins = partner.origins() if partner.call.has("origins") else []
    assert to is not None
    way = next(((one.code, service.code) for one in origins for service in one.services if service.country == to.country), ("", ""))
    wish = Purchase(f"AL-TRY-{token_hex(4)}", *way, to, [PurchaseItem(1, number, 1)])
    partner.buy(wish)
    found = partner.find_purchases([wish.reference])
    if [one.reference for one in found] != [wish.reference]:
        raise _No(f"{wish.reference} was sent, and is found {len(found)} times")
    if not partner.call.has("recall"):
        return f"{wish.reference} was found: {found[0].state}. It cannot be let go by the interface"
    state = partner.recall(wish.reference).state
    if state != "withdrawn":
        raise _No(f"{wish.reference} was found, and when it was to be let go it was {state}")
    return f"{wish.reference} was found, and let go"


def _store(sheet: _Sheet, partner: DescribedStore, allowed: Allowed) -> None:
    call = partner.call
    if call.has("listing"):
        sheet.try_("listing.same", "A listing is told alone as it is in the list", lambda: _listing(partner))
    about = "A listing's quantity is changed, found changed, and put back"
    writes = call.has("change") or call.has("send_batch")
    if not writes or not call.has("listing"):
        sheet.left("change.back", about, "the description says no change, or no way to ask for one listing")
    elif not allowed.listing:
        sheet.left("change.back", about, "choose a listing to try it on")
    elif partner.batch_most:
        sheet.left("change.back", about, "changes go in batches, whose result comes later; it is seen with the first real one")
    else:
        sheet.try_("change.back", about, lambda: _change(partner, allowed.listing))


def _listing(partner: DescribedStore) -> str:
    there = next((one for page in islice(partner.listings(), 1) for one in page.listings), None)
    if there is None:
        raise _No("there is no listing to be looked at")
    wish = ListingChange(there.sku, there.price, there.currency, there.quantity, there.state)
    if not partner.find_change(wish, "look"):
        raise _No(f"{there.sku} is told otherwise alone than in the list")
    return there.sku


def _change(partner: DescribedStore, sku: str) -> str:
    before = next((one for page in partner.listings() for one in page.listings if one.sku == sku), None)
    if before is None:
        raise _No(f"there is no listing {sku}")
    other = ListingChange(sku, None, before.currency, before.quantity + 1, None)
    back = ListingChange(sku, None, before.currency, before.quantity, None)
    key = f"AL-TRY-{token_hex(4)}"
    try:
        for _ in range(2):
            partner.change_listing(other, key)
        if not partner.find_change(other, key):
            raise _No(f"{sku} was changed, and does not show it")
    finally:
        partner.change_listing(back, f"{key}-back")
    if not partner.find_change(back, key):
        raise _No(f"{sku} does not show {before.quantity} again; put it back by hand")
    return f"{sku} showed {before.quantity + 1}, and shows {before.quantity} again"


def _untracked(partner: DescribedCarrier) -> str:
    number = f"NONE{token_hex(4).upper()}"
    try:
        found = partner.track([number])
    except (NotThere, Refused):
        return "it says that there is none"
    if found.get(number):
        raise _No("it tells of a parcel that nobody sent")
    return "it tells nothing"


def _table(partner: DescribedRates) -> str:
    first, again = partner.table(), partner.table()
    if first != again:
        raise _No("asked twice it told two tables")
    return f"{len(first.rates)} currencies as of {first.as_of:%Y-%m-%d}"


def _afterwards(sheet: _Sheet, partner: Described) -> None:
    """What follows after a lost answer, said before anything goes through it."""
    for write, find in FINDS.items():
        if not partner.call.has(write):
            continue
        about = f"After a lost answer it can be asked: {OPERATIONS[partner.description.owner][write].about}"
        if write in partner.description.cannot_find:
            message = "it cannot be asked: after a lost answer you will be asked what you find there"
            sheet.checks.append(Check(f"{write}.lost", about, Outcome.told, message))
        elif partner.call.has(find):
            message = f"by {OPERATIONS[partner.description.owner][find].about}"
            sheet.checks.append(Check(f"{write}.lost", about, Outcome.holds, message))
