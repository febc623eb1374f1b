"""Artwork: kept once, named, with its versions; what a new version would change; never removed while something is printed from it."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import func, select

from ...core.states import ListingState, OrderLineState
from ...data.lanes import Lane
from ...data.orders import OrderLine
from ...data.outbox import AuditEntry
from ...data.printing import ArtVersion, Artwork, LanePrint, PrintDesign
from ...data.shelf import Listing
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from . import files, lane_prints

GROUNDS = ("any", "light", "dark", "colour")
NAME_MOST = 80
_OPEN = (OrderLineState.new, OrderLineState.needs_lane, OrderLineState.held, OrderLineState.ready)


@dataclass(frozen=True)
class Reach:
    """What stands on an artwork: listings that show it, and open order lines that would be printed from it."""

    listings: int
    orders: int


def add(context: Context, name: str, given: files.Given, ground: str = "any", colour: str = "") -> Artwork:
    """A new artwork with its first version."""
    plain = " ".join(name.split())
    if not plain or len(plain) > NAME_MOST:
        raise Invalid(f"give the artwork a name of up to {NAME_MOST} letters", {"name": "is empty or too long"})
    there = context.session.scalar(select(Artwork).where(func.lower(Artwork.name) == plain.lower()))
    if there is not None and there.removed_at is None:
        raise Conflict(f"there is an artwork called {there.name} already; add this as a version of it, or choose another name")
    if there is not None:
        there.name = f"{there.name} (removed {there.id})"
        context.session.flush()
    row = Artwork(name=plain, made_at=context.now)
    context.session.add(row)
    context.session.flush()
    version = _put(context, row, given, ground, colour)
    context.log("artwork.add", plain, f"artwork {plain} added", after={"artwork": row.id, "version": version.id}, undo=True)
    return row


def add_version(context: Context, number: int, given: files.Given, ground: str, colour: str = "") -> ArtVersion:
    """A version, in place of the one for the same cloth. All that is printed from it is checked anew; what was sent stays as it was."""
    row = _there(context, number)
    old = _current(context, number, ground, colour)
    version = _put(context, row, given, ground, colour)
    what = {"any": "any cloth", "light": "light cloth", "dark": "dark cloth"}.get(ground, colour)
    reach = reach_of(context, number)
    message = f"{row.name}: a version for {what}" + (f"; {reach.listings} listings follow" if reach.listings else "")
    after = {"artwork": number, "version": version.id, "old": old.id if old else None}
    context.log("artwork.version", row.name, message, after=after, undo=True)
    _follow(context, number)
    return version


def _put(context: Context, row: Artwork, given: files.Given, ground: str, colour: str) -> ArtVersion:
    if ground not in GROUNDS or (ground == "colour") != bool(colour.strip()):
        raise Invalid("a version is for any cloth, for light or dark cloth, or for one colour", {"ground": "is none of these"})
    old = _current(context, row.id, ground, colour)
    _same_shape(context, row, given, old)
    if old is not None:
        old.replaced_at = context.now
        context.session.flush()
    whole, sight = files.keep(context, given.whole), files.keep(context, given.sight)
    version = ArtVersion(
        artwork_id=row.id, ground=ground, colour=colour.strip(), file_id=whole.id, sight_id=sight.id, width=given.whole.width,
        height=given.whole.height, vector=given.vector, made_at=context.now,
    )  # fmt: skip
    context.session.add(version)
    context.session.flush()
    return version


def _same_shape(context: Context, row: Artwork, given: files.Given, old: ArtVersion | None) -> None:
    """Light and dark versions lie exactly on each other, so they have one shape (to half a percent)."""
    others = select(ArtVersion).where(ArtVersion.artwork_id == row.id, ArtVersion.replaced_at.is_(None))
    for one in context.session.scalars(others if old is None else others.where(ArtVersion.id != old.id)):
        mine, its = given.whole.width * one.height, one.width * given.whole.height
        if abs(mine - its) * 200 > its:
            shape = "as wide for its height as the others" if given.vector or one.vector else f"of the shape {one.width} x {one.height}"
            raise Invalid(
                f"the versions of an artwork lie exactly on each other, so this one must be {shape}", {"file": "has another shape"}
            )


def _there(context: Context, number: int) -> Artwork:
    row = context.get(Artwork, number, "artwork")
    if row.removed_at is not None:
        raise Conflict(f"{row.name} was removed")
    return row


def _current(context: Context, artwork: int, ground: str, colour: str) -> ArtVersion | None:
    mine = ArtVersion.artwork_id == artwork, ArtVersion.ground == ground, ArtVersion.colour == colour.strip()
    return context.session.scalar(select(ArtVersion).where(*mine, ArtVersion.replaced_at.is_(None)))


def _follow(context: Context, number: int) -> None:
    lane_prints.check(context, context.session.scalars(select(LanePrint.lane_id).where(LanePrint.artwork_id == number)))


def drop_version(context: Context, version: int) -> None:
    """Take one version away; the last one stays, since an artwork without any is none."""
    row = context.get(ArtVersion, version, "version of an artwork")
    others = select(func.count()).where(ArtVersion.artwork_id == row.artwork_id, ArtVersion.replaced_at.is_(None), ArtVersion.id != version)
    if row.replaced_at is not None:
        raise Conflict("another version has taken its place already")
    if not context.session.scalar(others):
        raise Conflict("it is the only version; remove the artwork instead")
    row.replaced_at = context.now
    context.session.flush()
    art = context.get(Artwork, row.artwork_id, "artwork")
    context.log(
        "artwork.version",
        art.name,
        f"{art.name}: a version taken away",
        after={"artwork": art.id, "version": None, "old": row.id},
        undo=True,
    )
    _follow(context, art.id)


def remove(context: Context, number: int, version: int | None) -> Artwork:
    """Conflict while a design or a lane prints from it."""
    row = context.get_version(Artwork, number, version, "artwork")
    _take_away(context, row)
    context.log("artwork.remove", row.name, f"artwork {row.name} removed", after={"artwork": number}, undo=True)
    return row


def _take_away(context: Context, row: Artwork) -> None:
    used = select(PrintDesign.name).where(PrintDesign.artwork_id == row.id, PrintDesign.removed_at.is_(None))
    name = context.session.scalar(used.limit(1))
    if name is None:
        lanes = select(Lane.sku_code).join(LanePrint, LanePrint.lane_id == Lane.id)
        name = context.session.scalar(lanes.where(LanePrint.artwork_id == row.id, Lane.closed_at.is_(None)).limit(1))
    if name is not None:
        raise Conflict(f"{row.name} is still printed: {name} uses it, so it was not removed")
    row.removed_at = context.now


@undoing.undoes("artwork.add", "artwork.version", "artwork.remove")
def undo_artwork(context: Context, act: AuditEntry) -> None:
    after = undoing.after(act)
    row = context.get(Artwork, after["artwork"], "artwork")
    row.version += 1
    if act.kind == "artwork.remove":
        row.removed_at = None
    elif act.kind == "artwork.add":
        _take_away(context, row)
    else:
        fresh = context.session.get(ArtVersion, after["version"]) if after["version"] else None
        old = context.session.get(ArtVersion, after["old"]) if after["old"] else None
        if fresh is not None and fresh.replaced_at is not None:
            raise Conflict("a newer version has taken its place; undo that one first")
        if fresh is not None:
            fresh.replaced_at = context.now
            context.session.flush()
        if old is not None:
            old.replaced_at = None
        context.session.flush()
        _follow(context, row.id)


def all_artwork(context: Context) -> list[tuple[Artwork, list[ArtVersion], Reach]]:
    """Every artwork with its versions of now and what is printed from it."""
    s = context.session
    rows = s.scalars(select(Artwork).where(Artwork.removed_at.is_(None)).order_by(Artwork.name)).all()
    versions: dict[int, list[ArtVersion]] = {}
    for one in s.scalars(select(ArtVersion).where(ArtVersion.replaced_at.is_(None)).order_by(ArtVersion.ground, ArtVersion.id)):
        versions.setdefault(one.artwork_id, []).append(one)
    return [(row, versions.get(row.id, []), reach_of(context, row.id)) for row in rows]


def reach_of(context: Context, number: int) -> Reach:
    """Listings and open order lines that a change of an artwork would reach."""
    s = context.session
    skus = select(LanePrint.sku_id).join(Lane, Lane.id == LanePrint.lane_id).where(LanePrint.artwork_id == number, Lane.closed_at.is_(None))
    listings = s.scalar(select(func.count()).where(Listing.sku_id.in_(skus), Listing.state != ListingState.ended))
    orders = s.scalar(select(func.count()).where(OrderLine.sku_id.in_(skus), OrderLine.state.in_(_OPEN)))
    return Reach(int(listings or 0), int(orders or 0))
