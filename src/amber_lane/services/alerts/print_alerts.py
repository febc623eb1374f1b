"""Open troubles of what is printed for each order: artwork that may not be printed as it is, and samples that look otherwise."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import case, func, select

from ...core.numbers import PPM, half_up
from ...core.print_choice import PrintFault
from ...core.states import ListingState, SampleState
from ...core.writing import decimals
from ...data.lanes import Lane
from ...data.printing import Artwork, LanePrint, PrintDesign, PurchasePrint
from ...data.shelf import Listing, Sku
from ...data.source import Item, Sample
from ..base.context import Context
from ..pricing import exchange_rates
from ..printing.lane_prints import WORDS
from ..sourcing.print_samples import OTHERWISE
from .alert import Alert, AlertKey, AlertStep, Source


def _refused(context: Context) -> Iterator[Alert]:
    """Artwork that some of its listings may not be printed from as it is, by artwork and reason."""
    worth = exchange_rates.HomeWorth(context)
    rows = context.session.execute(
        select(
            LanePrint.artwork_id, LanePrint.fault, func.max(LanePrint.design_id), func.count(Listing.id.distinct()),
            func.min(LanePrint.colour), func.max(LanePrint.colour), func.min(LanePrint.size),
            func.sum(Sku.pace * case((Listing.profit > 0, Listing.profit), else_=0)),
            func.max(Listing.currency),
        )
        .join(Lane, Lane.id == LanePrint.lane_id)
        .join(Sku, Sku.id == LanePrint.sku_id)
        .join(Listing, Listing.sku_id == Sku.id)
        .where(LanePrint.outcome == "refused", Lane.closed_at.is_(None), Lane.priority == 0)
        .where(Listing.state.in_((ListingState.live, ListingState.paused)))
        .group_by(LanePrint.artwork_id, LanePrint.fault)
    ).all()  # fmt: skip
    for artwork, fault, design, n, first, last, size, stake, money in rows:
        art = context.get(Artwork, artwork, "artwork")
        where = f"{first}, {size}" if first == last else f"{first} and other colours"
        name = context.get(PrintDesign, design, "design").name if design else art.name
        yield Alert(
            AlertKey("print", artwork, fault),
            "shelf",
            "Artwork",
            f"{name}: {WORDS[PrintFault(fault)]} ({where}); {n} listing{'s wait' if n != 1 else ' waits'}",
            "nothing is printed that would come out soft, off its place or unreadable",
            context.now,
            AlertStep("Give it a better version", go=f"/shelf/print/{design}" if design else "/shelf/print"),
            half_up(worth.of(int(stake or 0), money), PPM),
            True,
            count=1,
        )


def _proofs(context: Context) -> Iterator[Alert]:
    """Samples whose house shows another picture than ours, until they are judged."""
    rows = context.session.execute(
        select(Sample, Item.title, PurchasePrint.differs)
        .join(Item, Item.id == Sample.item_id)
        .join(PurchasePrint, PurchasePrint.sample_id == Sample.id)
        .where(PurchasePrint.differs >= OTHERWISE, Sample.state.in_((SampleState.ordered, SampleState.sent)))
        .order_by(Sample.id)
    ).all()
    for sample, title, differs in rows:
        yield Alert(
            AlertKey("proof", sample.id),
            "source",
            "Proof",
            f"Sample of {title}: {decimals((differs or 0) / 10, 1)} % of the house's picture looks otherwise than ours",
            "what buyers get would look like that too",
            sample.ordered_at or context.now,
            AlertStep("See both pictures", go="/source?view=samples"),
        )


SOURCES: dict[str, Source] = {"print": _refused, "proof": _proofs}
