"""Samples of what is printed: ordered as a buyer would get it, and the house's own picture held beside ours."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PIL import Image
from sqlalchemy import select

from ...core.states import SampleState
from ...core.writing import decimals
from ...data.lanes import Lane
from ...data.printing import ArtFile, LanePrint, PrintDesign, PurchasePrint
from ...data.source import Item, Sample
from ..base.context import Context
from ..base.errors import Invalid
from ..printing import files
from ..printing.ordering import Files
from . import samples

# Both pictures are held beside each other at this many points a side; what differs by more than so much of 255 is seen.
SIDE, SEEN = 400, 40
# From so many tenths of a percent on a proof is told as another picture than ours.
OTHERWISE = 20


@dataclass(frozen=True)
class Proof:
    """What is printed on a sample. proof: the house's picture of it, None while there is none; differs: in tenths of a percent."""

    side: str
    ours: int
    proof: int | None
    differs: int | None


def order(context: Context, design: int, colour: str, size: str) -> Sample:
    """One of a design in a colour and size by its main house. Invalid where no listing of it was prepared: its files come so."""
    row = context.get(PrintDesign, design, "design")
    found = context.session.scalar(
        select(LanePrint)
        .join(Lane, Lane.id == LanePrint.lane_id)
        .where(LanePrint.design_id == design, LanePrint.blank_id == row.blank_id, LanePrint.colour == colour, LanePrint.size == size)
        .where(LanePrint.file_id.is_not(None), Lane.closed_at.is_(None))
        .limit(1)
    )
    if found is None:
        raise Invalid(f"prepare the listings of {colour}, {size} first; its print file is made with them")
    return samples.order(context, found.item_id, samples.Printed(Files.read(context, [found.lane_id]), found.lane_id))


def proofs(context: Context, numbers: list[int]) -> dict[int, list[Proof]]:
    """What is printed on samples, by sample."""
    out: dict[int, list[Proof]] = {}
    for row in context.session.scalars(select(PurchasePrint).where(PurchasePrint.sample_id.in_(numbers)).order_by(PurchasePrint.id)):
        out.setdefault(row.sample_id or 0, []).append(Proof(row.side, row.preview_id, row.proof_id, row.differs))
    return out


def without_proof(context: Context, supplier: int) -> list[str]:
    """References of a house's samples that it has taken and has shown no picture of yet."""
    query = select(Sample.reference).join(Item, Item.id == Sample.item_id).join(PurchasePrint, PurchasePrint.sample_id == Sample.id)
    wanted = Item.supplier_id == supplier, Sample.state.in_((SampleState.ordered, SampleState.sent)), PurchasePrint.proof_id.is_(None)
    return list(dict.fromkeys(context.session.scalars(query.where(*wanted))))


def compared(ours: bytes, theirs: files.Given) -> int:
    """How much of two pictures looks otherwise, in tenths of a percent; outside of any transaction."""
    one, other = (
        np.asarray(files.opened(file).convert("RGB").resize((SIDE, SIDE), Image.Resampling.BOX), dtype=np.int16)
        for file in (files.Made(ours, files.PNG, 0, 0), theirs.sight)
    )
    return round(float((np.abs(one - other).max(axis=-1) > SEEN).mean()) * 1000)


def ours(context: Context, reference: str) -> bytes | None:
    """Our own picture of a sample's first side."""
    query = (
        select(ArtFile.data).join(PurchasePrint, PurchasePrint.preview_id == ArtFile.id).join(Sample, Sample.id == PurchasePrint.sample_id)
    )
    return context.session.scalar(query.where(Sample.reference == reference).order_by(PurchasePrint.id).limit(1))


def take_proof(context: Context, reference: str, theirs: files.Given, differs: int) -> None:
    """Keep the house's picture of a sample beside ours."""
    sample = context.session.scalar(select(Sample).where(Sample.reference == reference))
    if sample is None:
        return
    proof = files.keep(context, theirs.sight).id
    rows = context.session.scalars(select(PurchasePrint).where(PurchasePrint.sample_id == sample.id).order_by(PurchasePrint.id)).all()
    for n, row in enumerate(rows):
        # One picture shows the sample; it is held against that of the first side.
        row.proof_id, row.differs = proof, differs if n == 0 else None
    item = context.get(Item, sample.item_id, "item")
    told = f"the house's picture of {item.number} is here"
    if differs >= OTHERWISE:
        told += f", and {decimals(differs / 10, 1)} % of it looks otherwise than ours"
    context.log("sample.proof", item.number, told)
    context.session.flush()
