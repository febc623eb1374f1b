"""The first steps of a house: what must be there before it can work, each with its state and what to do next."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import func, select

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
    s = context.session
    left = _left(context)

    def one(key: str, name: str, done: bool, message: str, do: str, go: str, ready: bool = True, leave: bool = False) -> FirstStep:
        state = "done" if done else "left" if key in left and leave else "open" if ready else "later"
        return FirstStep(key, name, state, message, do, go, leave)

    stores = list(s.scalars(select(Store).where(Store.ended_at.is_(None)).order_by(Store.id)))
    suppliers = list(s.scalars(select(Supplier).where(Supplier.ended_at.is_(None)).order_by(Supplier.id)))
    listed, items = _by_owner(context, "listings"), _by_owner(context, "items")
    bare_store = next((one for one in stores if not listed.get(one.id)), None)
    bare_supplier = next((one for one in suppliers if not items.get(one.id)), None)
    on_sale = (Listing.state.in_(("live", "paused")),)
    skus = int(s.scalar(select(func.count(Listing.sku_id.distinct())).where(*on_sale)) or 0)
    # What has no lane that works is little, and looked at by itself.
    works = select(Lane.id).where(Lane.sku_id == Listing.sku_id, Lane.closed_at.is_(None), Lane.state != "shut").correlate(Listing).exists()
    bare = select(func.count(Listing.sku_id.distinct())).where(IS_BARE, ~works)
    laned = skus - int(s.scalar(by_index(bare, Listing, "ix_listing_bare")) or 0)
    rules = int(s.scalar(select(func.count(PriceRule.id)).where(PriceRule.rule.is_not(None))) or 0)
    unruled = int(s.scalar(by_index(select(func.count(Listing.id)).where(HAS_NO_RULE), Listing, "ix_listing_no_rule")) or 0)
    paying = {row.store_id for row in s.scalars(select(FeeRow)) if row.percent or row.fixed}
    free = [one for one in stores if one.id not in paying and not one.payment and not one.payment_fixed]
    # Once something goes out, what lacks a lane or a rule is no first step any more, but told on Today like all else.
    live = any(not in_practice(one) for one in stores)
    people = int(s.scalar(select(func.count(Person.id)).where(Person.gone_at.is_(None))) or 0)
    by_sheets = [one for one in stores if one.kind == "sheet"]

    def seen(rows: dict[int, int], what: str) -> str:
        n = sum(rows.values())
        return f"{n:,} {what}{'s' if n != 1 else ''}"

    return [
        one(
            "place",
            "Where you are",
            s.scalar(select(Setting.id).where(Setting.name == PLACE)) is not None,
            "by it dates, numbers and hours in sheets are read",
            "Say country and time zone",
            "/setup/house",
        ),
        one("store", "A store", bool(stores), _names(stores), "Connect a store", "/setup/partners?connect=store"),
        one(
            "listings",
            "Its listings",
            bool(stores) and bare_store is None,
            f"{bare_store.name} has none here yet" if bare_store else seen(listed, "listing") if stores else "",
            "Import listings" if by_sheets and bare_store in by_sheets else "See how its reading went",
            f"/setup/partners?listings={bare_store.id}" if bare_store in by_sheets and bare_store else "/setup/partners",
            bool(stores),
        ),
        one("supplier", "A supplier", bool(suppliers), _names(suppliers), "Connect a supplier", "/setup/partners?connect=supplier"),
        one(
            "items",
            "Its items",
            bool(suppliers) and bare_supplier is None,
            f"{bare_supplier.name} has none here yet" if bare_supplier else seen(items, "item") if suppliers else "",
            "Import its items",
            f"/setup/partners?items={bare_supplier.id}" if bare_supplier else "/setup/partners",
            bool(suppliers),
        ),
        one(
            "lanes",
            "Lanes: which item fills which SKU",
            skus > 0 and (laned == skus or (live and laned > 0)),
            f"{laned:,} of {skus:,} SKUs on sale have one" if skus else "",
            "Open lanes",
            "/lanes",
            skus > 0 and sum(items.values()) > 0,
            leave=laned > 0,
        ),
        one(
            "fees",
            "Store fees",
            bool(stores) and not free,
            f"{free[0].name}: no fee and no payment cost is entered" if free else "fees and payment costs are entered" if stores else "",
            "Enter store fees",
            "/price?view=fees",
            bool(stores),
            leave=bool(stores),
        ),
        one(
            "rules",
            "Price rules",
            rules > 0 and (not unruled or live),
            f"{unruled:,} listings on sale have no rule and keep their own price"
            if rules and unruled
            else f"{rules} set"
            if rules
            else "none yet, so every listing keeps its own price",
            "Set a rule",
            "/price",
            leave=True,
        ),
        one(
            "limits",
            "Your limits",
            s.scalar(select(Policy.id).limit(1)) is not None,
            "how much is let go alone, and what waits for you",
            "Look at the limits",
            "/setup/limits",
            leave=True,
        ),
        one(
            "mail",
            "Mail",
            s.scalar(select(Mailbox.id).where(Mailbox.ended_at.is_(None)).limit(1)) is not None,
            "buyers are told of their parcels by it, and suppliers who work by mail get their orders",
            "Connect a mail server",
            "/setup/partners?connect=mailbox",
            leave=True,
        ),
        one("people", "Who works here", people > 1, f"{people} can sign in", "Add a colleague", "/setup/people", leave=True),
        *(
            one(
                f"{part}-{store.id}",
                f"{store.name}: {name}",
                getattr(store, PARTS[part]),
                "looked at before anything goes out",
                "See what would go out",
                f"/setup/partners?out={part}&store={store.id}",
                bool(listed.get(store.id)) and laned > 0 and (part != "prices" or rules > 0),
                leave=True,
            )
            for store in stores
            for part, name in (("stock", "write stock"), ("prices", "write prices"), ("orders", "buy its orders"))
        ),
    ]


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
