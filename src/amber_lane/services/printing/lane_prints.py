"""What lanes print: written, checked whenever artwork, place or blank changes, and the lane shut while it may not be printed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from sqlalchemy import Select, select

from ...core.print_checks import Limits
from ...core.print_choice import Chosen, PrintFault, Spot, choose
from ...core.states import LaneCause, LaneState, ListingState
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane
from ...data.printing import ArtVersion, Artwork, Blank, LanePrint
from ...data.setup import Supplier
from ...data.shelf import Listing
from ..base.context import Context
from ..base.job_queue import start
from ..mapping import lane_states
from ..pricing.manual_price import price_prepared
from .blank_terms import area_of, rgb_of, terms_of
from .readings import Versions

WORDS = {
    PrintFault.soft: "the artwork is too soft at that size",
    PrintFault.outside: "the artwork lies outside of the print area",
    PrintFault.unreadable: "no version of the artwork reads on that colour",
    PrintFault.no_version: "the artwork has no version",
    PrintFault.no_area: "the house does not print on that side or size any more",
}
MAKING = "its print files are being made"


@dataclass(frozen=True)
class Printed:
    """What one lane prints of one item. spots: where, by side."""

    lane: int
    item: int
    sku: int
    artwork: int
    blank: int
    colour: str
    size: str
    spots: Mapping[str, Spot]
    design: int | None = None


class Checker:
    """Facts read once, for as many prints as are looked at."""

    def __init__(self, context: Context) -> None:
        self.context, self.versions = context, Versions(context)
        self.blanks: dict[int, Blank] = {}

    def blank(self, number: int) -> Blank:
        if number not in self.blanks:
            self.blanks[number] = self.context.get(Blank, number, "blank")
        return self.blanks[number]

    def chosen(self, artwork: int, blank: Blank, colour: str, size: str, side: str, spot: Spot) -> Chosen:
        """The version that is printed there, with its checks."""
        terms = terms_of(blank)
        if blank.ended_at is not None or colour not in {one.name for one in terms.colours}:
            return Chosen(None, None, PrintFault.no_area)
        limits = Limits(Fraction(terms.dpi_least), Fraction(terms.dpi_good), Fraction(terms.read_least))
        found = self.versions.candidates(artwork, colour, rgb_of(terms, colour))
        return choose(found, spot, area_of(terms, side, size), limits, terms.dpi_best)

    def height(self, version: int | None, spot: Spot) -> int:
        row = self.context.session.get(ArtVersion, version) if version else None
        return spot.height(row.width, row.height) if row else spot.w


def write(context: Context, prints: Sequence[Printed]) -> None:
    """Say what lanes print; what they printed before is replaced. Their lanes are checked at once."""
    s = context.session
    lanes = [one.lane for one in prints]
    for chunk in in_chunks(lanes):
        for old in s.scalars(select(LanePrint).where(LanePrint.lane_id.in_(chunk))).all():
            s.delete(old)
    s.flush()
    for one in prints:
        for side, spot in one.spots.items():
            s.add(
                LanePrint(
                    lane_id=one.lane, item_id=one.item, sku_id=one.sku, design_id=one.design, artwork_id=one.artwork, blank_id=one.blank,
                    colour=one.colour, size=one.size, side=side, x=spot.x, y=spot.y, w=spot.w,
                )
            )  # fmt: skip
    s.flush()
    check(context, lanes)


def check(context: Context, lanes: Iterable[int]) -> set[int]:
    """Check what lanes print as artwork and blanks are now. A lane that may not print is shut with the reason.

    One whose files are to be made is shut until they are, unless something of it is on sale: a listing does not flicker for a
    minute's work, its orders wait for it. Returns the lanes that wait for files.
    """
    numbers = sorted(set(lanes))
    if not numbers:
        return set()
    s, checker = context.session, Checker(context)
    rows: dict[int, list[LanePrint]] = {}
    for chunk in in_chunks(numbers):
        for row in s.scalars(select(LanePrint).where(LanePrint.lane_id.in_(chunk)).order_by(LanePrint.id)):
            rows.setdefault(row.lane_id, []).append(row)
    wait: set[int] = set()
    touched: set[int] = set()
    lanes_of = by_id(s, Lane, rows)
    skus = [lane.sku_id for lane in lanes_of.values()]
    sold = set(
        s.scalars(select(Listing.sku_id).where(Listing.sku_id.in_(skus), Listing.state.in_((ListingState.live, ListingState.paused))))
    )
    for lane in lanes_of.values():
        for row in rows[lane.id]:
            _judge(checker, row)
        bad = next((row for row in rows[lane.id] if row.outcome == "refused"), None)
        if bad is None and any(row.file_id is None for row in rows[lane.id]):
            wait.add(lane.id)
        if _stand(context, lane, bad, lane.id in wait and lane.sku_id not in sold):
            touched.add(lane.sku_id)
    s.flush()
    if wait:
        start(context, "print.files", "print-files", "Making print files", {})
    if touched:
        _follow(context, touched)
    return wait


def _follow(context: Context, skus: set[int]) -> None:
    """Listings on sale show what their lanes let them; those in preparation get their price. No order waits for what nobody sells yet."""
    rows = context.session.scalars(select(Listing).where(Listing.sku_id.in_(skus), Listing.state != ListingState.ended)).all()
    if on_sale := {row.sku_id for row in rows if row.state != ListingState.preparing}:
        context.reprice(on_sale)
        context.reroute()
    if prepared := [row for row in rows if row.state == ListingState.preparing]:
        price_prepared(context, prepared)


def _judge(checker: Checker, row: LanePrint) -> None:
    spot = Spot(row.x, row.y, row.w)
    done = checker.chosen(row.artwork_id, checker.blank(row.blank_id), row.colour, row.size, row.side, spot)
    height = checker.height(done.version, spot)
    if (row.version_id, row.h) != (done.version, height):
        row.file_id = row.preview_id = None
    row.version_id, row.h, row.fault = done.version, height, done.fault.value
    row.outcome = "refused" if done.fault or done.checked is None else done.checked.outcome.value
    row.dpi, row.readable = (done.checked.dpi, done.checked.readable) if done.checked else (0, 0)


def _stand(context: Context, lane: Lane, bad: LanePrint | None, waits: bool) -> bool:
    """Bring a lane into the state that its print asks for. Returns whether it moved."""
    held = lane_states.held_by_print(lane)
    if held and context.get(Supplier, lane.supplier_id, "supplier").ended_at is not None:
        # It is looked at again once its house is connected again.
        return False
    if bad is None and not waits:
        if held:
            lane_states.move(lane, "print_again", LaneCause.none, "its print has passed the checks")
        return held
    reason = MAKING
    if bad is not None:
        art = context.get(Artwork, bad.artwork_id, "artwork")
        reason = f"{art.name} on {bad.colour}, {bad.size}: {WORDS[PrintFault(bad.fault)]}"
    if held and lane.reason != reason:
        lane.reason = reason
        lane.version += 1
        return False
    if lane.state == LaneState.shut:
        return False
    lane_states.move(lane, "stop_print", LaneCause.printing, reason)
    return True


def of_supplier(number: int) -> Select[int]:
    """Open lanes to a house that print something."""
    return select(LanePrint.lane_id).join(Lane, Lane.id == LanePrint.lane_id).where(Lane.supplier_id == number, Lane.closed_at.is_(None))


def of_design(context: Context, design: int) -> list[LanePrint]:
    """What open lanes print of a design."""
    query = select(LanePrint).join(Lane, Lane.id == LanePrint.lane_id).where(LanePrint.design_id == design, Lane.closed_at.is_(None))
    return list(context.session.scalars(query.order_by(LanePrint.id)))
