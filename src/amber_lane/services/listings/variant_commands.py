"""Combinations of sizes, colours and other options made, changed and dropped at once; undone as one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from sqlalchemy import func, select, update

from ...core.options import Option, parts_of, same
from ...core.states import LISTING, ListingState
from ...data.bulk import by_id
from ...data.outbox import AuditEntry
from ...data.shelf import Listing, Picture, Sku, Variant
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid, UseCaseError
from ..catalogue.search import Finder
from ..mapping import lanes
from ..pricing import manual_price
from . import preparation, publishing
from .content_rules import Cleaner
from .variant_matrix import Combination, Matrix, build

ON_SALE = (ListingState.live, ListingState.paused)


@dataclass(frozen=True)
class VariantRequest:
    """What a person wants of one combination. price None: by the rule; most None: as many as the policy says."""

    values: tuple[str, ...]
    kept: bool
    item: int | None = None
    price: int | None = None
    most: int | None = None
    picture: int | None = None


@dataclass
class VariantsChanged:
    made: int = 0
    dropped: int = 0
    changed: int = 0
    failed: dict[str, str] = field(default_factory=dict)


def _one_act(context: Context, newest: int, out: VariantsChanged, before: dict[str, Any], after: dict[str, Any]) -> None:
    """All that was done since the act `newest` is one act, undone as one."""
    mine = select(AuditEntry.id).where(AuditEntry.id > newest, AuditEntry.undo == "open").order_by(AuditEntry.id)
    inner = list(context.session.scalars(mine))
    context.session.execute(update(AuditEntry).where(AuditEntry.id.in_(inner)).values(undo=""))
    n = len(after["skus"])
    parts = [f"{out.made} made" if out.made else "", f"{out.dropped} dropped" if out.dropped else "", f"{n} in all"]
    message = f"{before['family']}: sizes and colours, " + ", ".join(part for part in parts if part)
    context.log("family.keep", before["family"], message, before=before, after={"acts": inner, **after}, undo=True, count=max(n, 1))


def save_variants(
    context: Context, finder: Finder, number: int, version: int, title: str, options: Sequence[Option], wishes: Sequence[VariantRequest]
) -> tuple[Matrix, VariantsChanged]:
    """Make, change and drop combinations at once: one act, undone as one. What fails is told; the rest is done."""
    row = context.get_version(Listing, number, version, "listing")
    before = build(context, finder, number, options)
    there = {one.values: one for one in before.rows}
    wanted = {one.values: one for one in wishes}
    if len(wanted) != len(wishes) or set(wanted) - set(there):
        raise Conflict("these are not the combinations of the options as they stand; look at them again")
    if not any(one.kept for one in wishes):
        raise Invalid("keep one of them at least; to take all of them off sale, end the listings")
    _no_twins([one for one in wishes if one.kept], there)
    newest = context.session.scalar(select(func.max(AuditEntry.id))) or 0
    out, names = VariantsChanged(), [one.name for one in options]
    mine = context.session.scalar(select(Variant).where(Variant.sku_id == row.sku_id))
    family = mine.family if mine else context.get(Sku, row.sku_id, "SKU").code
    touched = {one.sku.id for one in before.rows if one.sku}
    was = {
        one.sku_id: one for one in context.session.scalars(select(Variant).where(Variant.sku_id.in_(touched) | (Variant.family == family)))
    }
    saved = [{"sku": one.sku_id, "family": one.family, "options": one.options} for one in was.values()]
    texts = {str(sku.id): sku.options for sku in by_id(context.session, Sku, touched).values()}
    mosts: dict[str, int | None] = {}
    ended = {one.listing.id for one in before.rows if one.listing and one.listing.state == ListingState.ended}
    cleaner = Cleaner(context, before.store)
    kept: set[int] = set()
    for values, wish in wanted.items():
        if not wish.kept:
            continue
        try:
            with context.session.begin_nested():
                row_now, fresh = _keep_one(context, finder, before, there[values], wish, title.strip(), cleaner)
                sku = row_now.sku_id
                if sku not in was and context.session.scalar(select(Variant.id).where(Variant.sku_id == sku)):
                    raise Conflict("its SKU is a size or colour of another thing; drop it there first")
                texts.setdefault(str(sku), context.get(Sku, sku, "SKU").options)
                mosts.setdefault(str(row_now.id), row_now.most)
                _show_at_most(context, row_now, wish.most)
        except UseCaseError as error:
            out.failed[", ".join(values)] = error.message
            if (standing := there[values].sku) is not None and there[values].part:
                kept.add(standing.id)
            continue
        kept.add(sku)
        moved = _belong(context, sku, family, dict(zip(names, values, strict=True)), was.get(sku))
        out.made, out.changed = out.made + fresh, out.changed + (moved and not fresh)
    drop = [one for one in before.rows if one.part and one.sku and one.sku.id not in kept]
    gone = {one.sku.id for one in drop if one.sku} | (set(was) - kept)
    for sku in gone & set(was):
        context.session.delete(was[sku])
    ends = [one.listing.id for one in drop if one.listing and one.listing.state != ListingState.ended]
    out.dropped = publishing.end_listings(context, ends) if ends else 0
    context.session.flush()
    back = [number for number, one in by_id(context.session, Listing, ended).items() if one.state != ListingState.ended]
    state = {"variants": saved, "options": texts, "most": mosts, "family": family}
    _one_act(context, newest, out, state, {"skus": sorted(kept), "back": back})
    return build(context, finder, number, options), out


def _no_twins(wishes: Sequence[VariantRequest], there: dict[tuple[str, ...], Combination]) -> None:
    seen: dict[int, tuple[str, ...]] = {}
    for one in wishes:
        standing = there[one.values].item
        item = one.item or (standing.id if standing else None)
        if item and item in seen:
            raise Invalid(f"{', '.join(seen[item])} and {', '.join(one.values)} cannot be the same item; choose another for one of them")
        if item:
            seen[item] = one.values


def _keep_one(
    context: Context, finder: Finder, matrix: Matrix, at: Combination, wish: VariantRequest, title: str, cleaner: Cleaner
) -> tuple[Listing, bool]:
    """One combination as it is wanted. Returns its listing and whether that was made now."""
    model, row = matrix.listing, at.listing
    item = wish.item or (at.item.id if at.item else None)
    fresh = row is None
    if row is None:
        if item is None:
            raise Invalid("no item is chosen for it")
        made = preparation.prepare(context, finder, [item], matrix.store.id)[0]
        if made.listing is None:
            raise Invalid(made.message)
        row = context.get(Listing, made.listing, "listing")
        fresh = made.outcome == "made"
        if at.sku is not None and row.sku_id != at.sku.id:
            raise Conflict(f"that item fills another SKU already; open its lane for {at.sku.code} in Lanes first")
        if fresh:
            row.description, row.category, row.tags = model.description, model.category, model.tags
            row.pictures = list(model.pictures or [])
    elif row.state == ListingState.ended:
        row.state = LISTING.step(row.state, "take_back")
        row.version += 1
    elif at.item is not None and item is not None and item != at.item.id:
        lanes.open_lane(context, row.sku_id, [lanes.LaneItem(item, Fraction(1))])
    if row.state == ListingState.preparing and title and (fresh or title != matrix.title):
        words = {"title": cleaner.title(", ".join([title, *(part for value in wish.values for part in parts_of(value))]))}
        if fresh:
            row.title = words["title"]
        else:
            publishing.edit(context, row.id, None, words, pass_on=False)
    if wish.picture:
        _first_picture(context, row, wish.picture)
    context.session.flush()
    if row.hand_price != wish.price:
        manual_price.fix_price(context, row.id, row.version, wish.price, "set among its sizes and colours" if wish.price else "")
    return row, fresh


def _show_at_most(context: Context, row: Listing, most: int | None) -> None:
    if row.most != most:
        row.most = most
        context.session.flush()
        if row.state in ON_SALE:
            context.reprice([row.sku_id], only={row.id})


def _first_picture(context: Context, row: Listing, number: int) -> None:
    context.get(Picture, number, "picture")
    order = [number, *(one for one in row.pictures or [] if one != number)]
    if order != (row.pictures or []):
        publishing.edit(context, row.id, None, {"pictures": order}, pass_on=False)


def _belong(context: Context, sku_id: int, family: str, values: dict[str, str], was: Variant | None) -> bool:
    """Make a SKU part of a family by its values; what its stores say of it follows. Returns whether anything moved."""
    sku = context.get(Sku, sku_id, "SKU")
    words = sku.options if same(list(values.values()), sku.options) else ", ".join(values.values())
    if was is not None and was.family == family and was.options == values and sku.options == words:
        return False
    if was is None:
        context.session.add(Variant(sku_id=sku_id, family=family, options=values))
    else:
        was.family, was.options = family, values
    sku.options = words
    context.session.flush()
    _say(context, [sku_id])
    return True


def _say(context: Context, skus: Sequence[int]) -> None:
    """What listings on sale say of their options goes to their stores."""
    for row in context.session.scalars(select(Listing).where(Listing.sku_id.in_(skus), Listing.state.in_(ON_SALE))).all():
        publishing.change_words(context, row, {})


def take_back(context: Context, act: AuditEntry) -> None:
    """Undo: all that was done for the combinations is taken back, the newest first, and they belong together as before."""
    before, after = act.before or {}, act.after or {}
    for number in sorted(after.get("acts", []), reverse=True):
        one = context.get(AuditEntry, number, "act")
        undoing.known()[one.kind].take_back(context, one)
    for row in by_id(context.session, Listing, after.get("back", [])).values():
        if row.state == ListingState.preparing:
            row.state = LISTING.step(row.state, "end")
    skus = {*after.get("skus", []), *(one["sku"] for one in before["variants"])}
    for member in context.session.scalars(select(Variant).where(Variant.sku_id.in_(skus) | (Variant.family == before["family"]))).all():
        context.session.delete(member)
    context.session.flush()
    for one in before["variants"]:
        context.session.add(Variant(sku_id=one["sku"], family=one["family"], options=one["options"]))
    moved = []
    for number, words in before["options"].items():
        sku = context.get(Sku, int(number), "SKU")
        if sku.options != words:
            sku.options = words
            moved.append(sku.id)
    for number, most in before["most"].items():
        listing = context.session.get(Listing, int(number))
        if listing is not None:
            _show_at_most(context, listing, most)
    context.session.flush()
    _say(context, moved)


@undoing.undoes("family.keep", whole=True)
def undo_family_keep(context: Context, act: AuditEntry) -> None:
    take_back(context, act)
