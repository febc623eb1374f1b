"""Sizes, colours and other options of one thing as a matrix: every combination with its item, cost, price, quantity and picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select

from ...core import options as choices
from ...core.options import Option
from ...core.writing import grouped
from ...data.bulk import by_id
from ...data.lanes import Lane, LanePart
from ...data.setup import Store
from ...data.shelf import Listing, Sku, Variant
from ...data.source import Item
from ..base.context import Context
from ..base.errors import Invalid
from ..catalogue.search import Finder, ItemWorth

MOST = 200
OPTIONS_MOST = 4


@dataclass(frozen=True)
class Combination:
    """One combination of values. sku and listing None: none of ours yet; item None: nobody known has it.

    part: it belongs to the family now. Amounts in the store's money, None where not known.
    """

    values: tuple[str, ...]
    part: bool
    sku: Sku | None
    listing: Listing | None
    item: Item | None
    worth: ItemWorth | None


@dataclass(frozen=True)
class Matrix:
    """title: what all of them have in common; items: what the supplier has of the same thing."""

    listing: Listing
    store: Store
    title: str
    options: list[Option]
    rows: list[Combination]
    items: list[Item]
    worth: dict[int, ItemWorth]
    pictures: list[int]


def build(context: Context, finder: Finder, number: int, options: Sequence[Option] | None = None, numbers: Sequence[str] = ()) -> Matrix:
    """The matrix of a listing; options None: those it has, or else those that its supplier's items differ in.

    numbers: items of any supplier that a person names, to choose from as well.
    """
    row = context.get(Listing, number, "listing")
    store, sku = context.get(Store, row.store_id, "store"), context.get(Sku, row.sku_id, "SKU")
    mine = context.session.scalar(select(Variant).where(Variant.sku_id == sku.id))
    members = list(context.session.scalars(select(Variant).where(Variant.family == mine.family).order_by(Variant.id))) if mine else []
    main = _main_items(context, [sku.id, *(one.sku_id for one in members)])
    own = main.get(sku.id)
    sisters = _sisters(context, own)
    if numbers:
        named = context.session.scalars(select(Item).where(Item.number.in_(list(numbers)), Item.offer != "gone").limit(MOST))
        sisters += [one for one in named if one.id not in {other.id for other in sisters}]
    if options is None:
        options = _options_of(members) if members else choices.read_options([one.options for one in sisters] or [sku.options])
    if not options:
        options = [Option("Kind", (sku.options or "one",))]
    combos = choices.combinations(_checked(options))
    by_item = _skus_of(context, [one.id for one in sisters])
    known = by_id(context.session, Sku, {sku.id, *(one.sku_id for one in members), *by_item.values()})
    listed = {
        one.sku_id: one for one in context.session.scalars(select(Listing).where(Listing.store_id == store.id, Listing.sku_id.in_(known)))
    }
    names = [one.name for one in options]
    taken = _place(combos, [(one.sku_id, tuple(str(one.options.get(name, "")) for name in names)) for one in members], known)
    left = [combo for combo in combos if combo not in taken]
    ours = [one for one in known.values() if one.id not in taken.values() and (one.id == sku.id or one.id in listed)]
    taken |= _match(left, ours)
    offered = _match(left, [one for one in sisters if one.offer != "gone"])
    if sku.id not in taken.values():
        # What it comes in says none of these: it is the first one that nothing else stands for.
        free = [combo for combo in combos if combo not in taken]
        taken |= dict.fromkeys(([one for one in free if one not in offered] or free)[:1], sku.id)
    items = {one.id: one for one in [*sisters, *main.values()]}
    chosen = {combo: main.get(taken[combo]) if combo in taken and taken[combo] in main else None for combo in combos}
    back = {sku_id: items[item] for item, sku_id in by_item.items() if item in items}
    found = {
        combo: chosen[combo] or (back.get(taken[combo]) if combo in taken else None) or items.get(offered.get(combo, 0)) for combo in combos
    }
    worth = finder.worth(context, store.id, [*(one.id for one in found.values() if one), *(one.id for one in sisters)])
    part = {one.sku_id for one in members} or {sku.id}
    rows = []
    for combo in combos:
        one, item = taken.get(combo), found[combo]
        at = known[one] if one else None
        rows.append(Combination(combo, one in part, at, listed.get(one or 0), item, worth.get(item.id) if item else None))
    shown = [number for one in [row, *(listed[i] for i in part if i in listed)] for number in one.pictures or []]
    title = choices.bare(row.title, sku.options)
    return Matrix(row, store, title, list(options), rows, sisters, worth, list(dict.fromkeys(shown)))


def size(context: Context, sku: int) -> int:
    """How many SKUs are sizes and colours of the same thing as one; 0 = it stands alone."""
    family = select(Variant.family).where(Variant.sku_id == sku).scalar_subquery()
    return context.session.scalar(select(func.count()).select_from(Variant).where(Variant.family == family)) or 0


def _checked(options: Sequence[Option]) -> list[Option]:
    if len(options) > OPTIONS_MOST:
        raise Invalid(f"a thing comes in {OPTIONS_MOST} kinds of choice at most", {"options": "are too many"})
    names = [one.name.casefold() for one in options]
    if len(set(names)) != len(names) or not all(names):
        raise Invalid("give every option a name of its own", {"options": "need names"})
    for one in options:
        low = [value.casefold() for value in one.values]
        if not low or not all(low) or len(set(low)) != len(low):
            raise Invalid(f"{one.name}: give each value once, at least one", {"options": f"{one.name} needs values"})
    if (n := choices.how_many(options)) > MOST:
        raise Invalid(f"that makes {grouped(n)} combinations; {MOST} are the most, take values away", {"options": "make too many"})
    return list(options)


def _main_items(context: Context, skus: Sequence[int]) -> dict[int, Item]:
    """The item of each SKU's main lane, where it is one item and one unit of it."""
    rows = context.session.execute(
        select(Lane.sku_id, func.max(LanePart.item_id))
        .join(LanePart, LanePart.lane_id == Lane.id)
        .where(Lane.sku_id.in_(skus), Lane.closed_at.is_(None), Lane.priority == 0, Lane.store_id.is_(None))
        .group_by(Lane.id)
        .having(func.count() == 1)
    )
    found: dict[int, int] = dict(rows.tuples().all())
    items = by_id(context.session, Item, found.values())
    return {sku: items[item] for sku, item in found.items()}


def _sisters(context: Context, item: Item | None) -> list[Item]:
    """What the same supplier has of the same thing, itself among them."""
    if item is None:
        return []
    base = choices.bare(item.title, item.options).casefold()
    start = choices.bare(item.title, item.options).split(" ")[0]
    rows = context.session.scalars(
        select(Item)
        .where(
            Item.supplier_id == item.supplier_id,
            Item.category == item.category,
            Item.brand == item.brand,
            Item.title.icontains(start, autoescape=True),
        )
        .order_by(Item.id)
        .limit(2000)
    )
    return [one for one in rows if one.id == item.id or choices.bare(one.title, one.options).casefold() == base][:MOST]


def _options_of(members: Sequence[Variant]) -> list[Option]:
    names = list(dict.fromkeys(name for one in members for name in one.options))
    columns = [(name, [str(one.options[name]) for one in members if name in one.options]) for name in names]
    return [Option(name, choices.in_order(values)) for name, values in columns]


def _skus_of(context: Context, items: Sequence[int]) -> dict[int, int]:
    rows = context.session.execute(
        select(LanePart.item_id, Lane.sku_id)
        .join(Lane, Lane.id == LanePart.lane_id)
        .where(LanePart.item_id.in_(items), Lane.closed_at.is_(None), LanePart.units_num == LanePart.units_den)
        .order_by(Lane.priority.desc())
    )
    return dict(rows.tuples().all())


def _place(
    combos: Sequence[tuple[str, ...]], members: Sequence[tuple[int, tuple[str, ...]]], known: dict[int, Sku]
) -> dict[tuple[str, ...], int]:
    """Members of the family at the combination that they are, or at the first one that says all that they say."""
    taken: dict[tuple[str, ...], int] = {}
    for sku, values in members:
        said = [value for value in values if value]
        exact = [combo for combo in combos if combo == values] or [combo for combo in combos if said and set(said) <= set(combo)]
        free = next((combo for combo in exact if combo not in taken), None)
        if free and sku in known:
            taken[free] = sku
    return taken


def _match(combos: Sequence[tuple[str, ...]], things: Sequence[Sku] | Sequence[Item]) -> dict[tuple[str, ...], int]:
    """Things whose own words say exactly a combination; else the only one whose words hold all of its values,
    and last one that says nothing else than some of them."""
    out: dict[tuple[str, ...], int] = {}

    def within(combo: tuple[str, ...], text: str) -> bool:
        said = {part.casefold() for part in choices.parts_of(text)}
        return bool(said) and said <= {value.casefold() for value in combo}

    for combo in combos:
        exact = [one.id for one in things if choices.same(combo, one.options) and one.id not in out.values()]
        near = exact or [one.id for one in things if choices.fits(combo, one.options or one.title)]
        if exact or (len(near) == 1 and near[0] not in out.values()):
            out[combo] = near[0]
    for combo in combos:
        part = [one.id for one in things if one.id not in out.values() and within(combo, one.options)]
        if combo not in out and part:
            out[combo] = part[0]
    return out
