"""The first steps of a house: what must be there before it can work, each with its state and what to do next."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Select, func, select

from ...core.states import LaneState, ListingState
from ...core.writing import grouped
from ...data.base import by_index
from ...data.lanes import Lane
from ...data.prices import Policy, PriceRule
from ...data.setup import FeeRow, Mailbox, Person, Setting, Store, Supplier
from ...data.shelf import HAS_NO_RULE, IS_BARE, Listing
from ...data.tallies import tally
from ..base.context import Context
from ..base.errors import NotFound
from ..base.regional import PLACE
from ..outbox.store_switches import PARTS, in_practice

LEFT = "first-steps-left"


@dataclass(frozen=True)
class FirstStep:
    """state: done, open, left (a person said it is not needed) or later (another one comes first). told: how it stands; do: what to do
    next, and `go` where; leave: whether a person may say that it is not needed."""

    key: str
    name: str
    state: str
    message: str
    do: str
    go: str
    leave: bool = False


def steps(context: Context) -> list[FirstStep]:
    """All first steps in their order."""
    return context.kept("first steps", _steps)


def _steps(context: Context) -> list[FirstStep]:
    house = _House(context)
    return [*_connecting(house), *_working(house), *_going_out(house)]


class _House:
    """How far a house has come, read once for all steps."""

    def __init__(self, context: Context) -> None:
        s = self.s = context.session
        self.left = _left(context)
        self.stores = list(s.scalars(select(Store).where(Store.ended_at.is_(None)).order_by(Store.id)))
        self.suppliers = list(s.scalars(select(Supplier).where(Supplier.ended_at.is_(None)).order_by(Supplier.id)))
        self.listed, self.items = _by_owner(context, "listings"), _by_owner(context, "items")
        on_sale = Listing.state.in_((ListingState.live, ListingState.paused))
        self.skus = self.count(select(func.count(Listing.sku_id.distinct())).where(on_sale))
        # What has no lane that works is little, and looked at by itself.
        works = (
            select(Lane.id)
            .where(Lane.sku_id == Listing.sku_id, Lane.closed_at.is_(None), Lane.state != LaneState.shut)
            .correlate(Listing)
            .exists()
        )
        bare = select(func.count(Listing.sku_id.distinct())).where(IS_BARE, ~works)
        self.laned = self.skus - self.count(by_index(bare, Listing, "ix_listing_bare"))
        self.rules = self.count(select(func.count(PriceRule.id)).where(PriceRule.rule.is_not(None)))
        self.unruled = self.count(by_index(select(func.count(Listing.id)).where(HAS_NO_RULE), Listing, "ix_listing_no_rule"))
        paying = {row.store_id for row in s.scalars(select(FeeRow)) if row.percent or row.fixed}
        self.free = [one for one in self.stores if one.id not in paying and not one.payment and not one.payment_fixed]
        # Once something goes out, what lacks a lane or a rule is no first step any more, but told on Today like all else.
        self.live = any(not in_practice(one) for one in self.stores)
        self.people = self.count(select(func.count(Person.id)).where(Person.gone_at.is_(None)))

    def count(self, query: Select[int]) -> int:
        return int(self.s.scalar(query) or 0)

    def there(self, query: Select[Any]) -> bool:
        return self.s.scalar(query.limit(1)) is not None

    def step(  # noqa: PLR0913 - one row of the list, as it stands there
        self, key: str, name: str, done: bool, message: str, do: str, go: str, *, ready: bool = True, leave: bool = False
    ) -> FirstStep:
        state = "done" if done else "left" if key in self.left and leave else "open" if ready else "later"
        return FirstStep(key, name, state, message, do, go, leave)


def _seen(rows: dict[int, int], what: str) -> str:
    n = sum(rows.values())
    return f"{grouped(n)} {what}{'s' if n != 1 else ''}"


def _connecting(house: _House) -> Iterator[FirstStep]:
    """Where the house is, and who it sells by and buys from, each with its goods."""
    stores, suppliers, one = house.stores, house.suppliers, house.step
    bare_store = next((row for row in stores if not house.listed.get(row.id)), None)
    bare_supplier = next((row for row in suppliers if not house.items.get(row.id)), None)
    placed = house.there(select(Setting.id).where(Setting.name == PLACE))
    yield one("place", "Where you are", placed, "days begin and dates are read by it", "Say country and time zone", "/setup/house")
    yield one("store", "A store", bool(stores), _names(stores), "Connect a store", "/setup/partners?connect=store")
    by_sheet = bare_store is not None and bare_store.kind == "sheet"
    yield one(
        "listings",
        "Its listings",
        bool(stores) and bare_store is None,
        f"{bare_store.name} has none here yet" if bare_store else _seen(house.listed, "listing") if stores else "",
        "Import listings" if by_sheet else "See how its reading went",
        f"/setup/partners?listings={bare_store.id}" if by_sheet and bare_store else "/setup/partners",
        ready=bool(stores),
    )
    yield one("supplier", "A supplier", bool(suppliers), _names(suppliers), "Connect a supplier", "/setup/partners?connect=supplier")
    yield one(
        "items",
        "Its items",
        bool(suppliers) and bare_supplier is None,
        f"{bare_supplier.name} has none here yet" if bare_supplier else _seen(house.items, "item") if suppliers else "",
        "Import its items",
        f"/setup/partners?items={bare_supplier.id}" if bare_supplier else "/setup/partners",
        ready=bool(suppliers),
    )


def _working(house: _House) -> Iterator[FirstStep]:
    """What must be said before prices and orders are right."""
    skus, laned, rules, unruled, stores, one = house.skus, house.laned, house.rules, house.unruled, house.stores, house.step
    yield one(
        "lanes",
        "Lanes: which item fills which SKU",
        skus > 0 and (laned == skus or (house.live and laned > 0)),
        f"{grouped(laned)} of {grouped(skus)} SKUs on sale have one" if skus else "",
        "Open lanes",
        "/lanes",
        ready=skus > 0 and sum(house.items.values()) > 0,
        leave=laned > 0,
    )
    entered = "fees and payment costs are entered" if stores else ""
    message = f"{house.free[0].name}: no fee and no payment cost is entered" if house.free else entered
    done = bool(stores) and not house.free
    yield one("fees", "Store fees", done, message, "Enter store fees", "/price?view=fees", ready=bool(stores), leave=bool(stores))
    still = f"{grouped(unruled)} listings on sale have no rule and keep their own price" if unruled else f"{rules} set"
    message = still if rules else "none yet, so every listing keeps its own price"
    yield one("rules", "Price rules", rules > 0 and (not unruled or house.live), message, "Set a rule", "/price", leave=True)
    message = "how much is let go alone, and what waits for you"
    yield one("limits", "Your limits", house.there(select(Policy.id)), message, "Look at the limits", "/setup/limits", leave=True)
    message = "buyers are told of their parcels by it, and suppliers who work by mail get their orders"
    mailed = house.there(select(Mailbox.id).where(Mailbox.ended_at.is_(None)))
    yield one("mail", "Mail", mailed, message, "Connect a mail server", "/setup/partners?connect=mailbox", leave=True)
    people = house.people
    yield one("people", "Who works here", people > 1, f"{people} can sign in", "Add a colleague", "/setup/people", leave=True)


def _going_out(house: _House) -> Iterator[FirstStep]:
    """Each store's switches: what it may be told, and whether its orders are bought."""
    for store in house.stores:
        for part, name in (("stock", "write stock"), ("prices", "write prices"), ("orders", "buy its orders")):
            ready = bool(house.listed.get(store.id)) and house.laned > 0 and (part != "prices" or house.rules > 0)
            yield house.step(
                f"{part}-{store.id}",
                f"{store.name}: {name}",
                getattr(store, PARTS[part]),
                "looked at before anything goes out",
                "See what would go out",
                f"/setup/partners?out={part}&store={store.id}",
                ready=ready,
                leave=True,
            )


def open_steps(context: Context) -> list[FirstStep]:
    return [one for one in steps(context) if one.state in ("open", "later")]


def leave(context: Context, key: str, left: bool) -> str:
    """A person's word that a step is not needed, or is after all."""
    found = next((one for one in steps(context) if one.key == key and one.leave), None)
    if found is None:
        raise NotFound("there is no such step to leave out")
    row = context.session.scalar(select(Setting).where(Setting.name == LEFT))
    if row is None:
        row = Setting(name=LEFT, value={"keys": []})
        context.session.add(row)
    keys = {one for one in row.value["keys"] if one != key} | ({key} if left else set())
    row.value = {"keys": sorted(keys)}
    message = f"{found.name}: {'not needed here' if left else 'to be done'}"
    context.log("step.leave", "first steps", message)
    context.session.flush()
    return message


def _by_owner(context: Context, name: str) -> dict[int, int]:
    """Rows of a tally by the partner that they belong to."""
    found: dict[int, int] = {}
    for (owner, _), n in tally(context.session, name).items():
        found[int(owner)] = found.get(int(owner), 0) + n
    return found


def _left(context: Context) -> set[str]:
    row = context.session.scalar(select(Setting).where(Setting.name == LEFT))
    return set(row.value["keys"]) if row else set()


def _names(rows: list[Store] | list[Supplier]) -> str:
    names = [row.name for row in rows[:3]]
    return ", ".join(names) + (f" and {len(rows) - 3} more" if len(rows) > 3 else "")
