"""What goes with a load: carton labels, packing list, despatch advice; made of it as it stands."""

from __future__ import annotations

from ...data.bulk import by_id
from ...data.depot import HeldGoods, Inbound, InboundLine
from ...data.setup import Supplier
from ...data.shelf import Sku
from ...sheets.carton_labels import CartonLabel, LabelLine, LoadPaper
from ..base import house_days
from ..base.context import Context
from .loads import lines_of
from .terms import terms_of


def paper_of(context: Context, number: int) -> LoadPaper:
    """All that its papers say."""
    row = context.get(Inbound, number, "load")
    depot = context.get(Supplier, row.supplier_id, "depot")
    sender = context.get(Supplier, row.from_id, "supplier").name if row.from_id else "ourselves"
    lines = {line.held_id: line for line in lines_of(context, number)}
    goods = by_id(context.session, HeldGoods, lines)
    skus = by_id(context.session, Sku, (one.sku_id for one in goods.values()))

    def said(held: int, units: int) -> LabelLine:
        one = goods[held]
        return LabelLine(one.number, skus[one.sku_id].title, units, _extra(lines[held]))

    cartons = tuple(
        CartonLabel(one["sscc"], one["weight_g"], tuple(said(held, units) for held, units in one["holds"])) for one in row.cartons
    )
    address = terms_of(context, depot.id).address
    parts = ("name", "address_1", "address_2", "city", "region", "postcode", "country")
    to = tuple(str(address[name]) for name in parts if address.get(name)) or (depot.name,)
    return LoadPaper(row.reference, sender, to, house_days.day_text(context, row.ordered_at or row.made_at), cartons)


def _extra(line: InboundLine) -> str:
    parts = [f"lot {line.lot}"] if line.lot else []
    return ", ".join([*parts, f"best before {line.best_before.isoformat()}"] if line.best_before else parts)
