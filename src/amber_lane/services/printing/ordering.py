"""What goes to a print house with an order: the files of its lines as they are now, written down so that no later change reaches them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from sqlalchemy import select

from ...connectors.payloads import BoughtPrint
from ...data.bulk import in_chunks
from ...data.orders import PurchaseLine, PurchaseOrder
from ...data.printing import ArtFile, ArtVersion, Artwork, LanePrint, PurchasePrint
from ...data.setup import Supplier
from ...data.source import Item
from ..base.context import Context
from ..base.errors import Conflict


@dataclass(frozen=True)
class Files:
    """Prints of lanes with the checksums of their files, read once for many lines."""

    by_part: dict[tuple[int, int], list[LanePrint]]
    shas: dict[int, str]

    @classmethod
    def read(cls, context: Context, lanes: Iterable[int]) -> Files:
        s = context.session
        by_part: dict[tuple[int, int], list[LanePrint]] = {}
        for chunk in in_chunks(set(lanes)):
            for row in s.scalars(select(LanePrint).where(LanePrint.lane_id.in_(chunk)).order_by(LanePrint.id)):
                by_part.setdefault((row.lane_id, row.item_id), []).append(row)
        wanted = {number for rows in by_part.values() for row in rows for number in (row.file_id, row.preview_id) if number}
        shas: dict[int, str] = {}
        for chunk in in_chunks(wanted):
            shas.update(s.execute(select(ArtFile.id, ArtFile.sha).where(ArtFile.id.in_(chunk))).tuples().all())
        return cls(by_part, shas)

    def unfit(self) -> set[int]:
        """Lanes that may not be printed as they are: they should not have been used."""
        return {
            lane
            for (lane, _), rows in self.by_part.items()
            if any(row.outcome not in ("ok", "soft") or row.file_id is None or row.preview_id is None for row in rows)
        }

    def bought(self, lane: int, item: int) -> tuple[BoughtPrint, ...]:
        """As a supplier gets them. Conflict where one of them has no file: its lane was not to be used."""
        out = []
        for row in self.by_part.get((lane, item), []):
            if row.file_id is None or row.preview_id is None or row.version_id is None:
                raise Conflict(f"the files for {row.colour}, {row.size} are not made yet")
            out.append(
                BoughtPrint(
                    side=row.side, x=row.x, y=row.y, w=row.w, h=row.h, file=self.shas[row.file_id], preview=self.shas[row.preview_id]
                )
            )
        return tuple(out)

    def keep(self, context: Context, lane: int, item: int, line: int | None, sample: int | None = None) -> None:
        """Write down what was sent for a line of a purchase, or for a sample."""
        for row in self.by_part.get((lane, item), []):
            context.session.add(
                PurchasePrint(
                    line_id=line, sample_id=sample, side=row.side, version_id=row.version_id, file_id=row.file_id, 
                    preview_id=row.preview_id, x=row.x, y=row.y, w=row.w, h=row.h,
                )
            )  # fmt: skip


@dataclass(frozen=True)
class SentPrint:
    """One side as it was sent to a house. places in hundredths of a millimetre; file, preview: their numbers."""

    reference: str
    house: str
    item: str
    side: str
    artwork: str
    x: int
    y: int
    w: int
    h: int
    file: int
    preview: int


def of_order(context: Context, order: int) -> list[SentPrint]:
    """What was sent to be printed for an order, as it was then."""
    rows = context.session.execute(
        select(PurchasePrint, PurchaseOrder.reference, Supplier.name, Item.title, Artwork.name)
        .join(PurchaseLine, PurchaseLine.id == PurchasePrint.line_id)
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .join(Supplier, Supplier.id == PurchaseOrder.supplier_id)
        .join(Item, Item.id == PurchaseLine.item_id)
        .join(ArtVersion, ArtVersion.id == PurchasePrint.version_id)
        .join(Artwork, Artwork.id == ArtVersion.artwork_id)
        .where(PurchaseOrder.order_id == order)
        .order_by(PurchasePrint.id)
    )
    return [
        SentPrint(reference, house, item, row.side, art, row.x, row.y, row.w, row.h, row.file_id, row.preview_id)
        for row, reference, house, item, art in rows.tuples()
    ]
