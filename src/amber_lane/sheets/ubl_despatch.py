"""A load as a UBL 2.1 DespatchAdvice: what is in which carton, by the cartons' numbers."""

from __future__ import annotations

from datetime import datetime

from lxml import etree

from .carton_labels import LoadPaper
from .ubl import CAC, CBC, URN, box, put


def despatch_xml(paper: LoadPaper, made_at: datetime, receiver: str) -> bytes:
    """Its elements in the order of the schema. receiver: the depot's name."""
    kind = URN + "DespatchAdvice-2"
    root = etree.Element(f"{{{kind}}}DespatchAdvice", nsmap={None: kind, "cac": CAC, "cbc": CBC})  # type: ignore[dict-item]
    put(root, "UBLVersionID", "2.1")
    put(root, "ID", paper.reference)
    put(root, "IssueDate", made_at.date().isoformat())
    put(root, "IssueTime", made_at.strftime("%H:%M:%S") + "Z")
    for name, who in (("DespatchSupplierParty", paper.sender), ("DeliveryCustomerParty", receiver)):
        put(box(box(box(root, name), "Party"), "PartyName"), "Name", who)
    shipment = box(root, "Shipment")
    put(shipment, "ID", paper.reference)
    for one in paper.cartons:
        unit = box(shipment, "TransportHandlingUnit")
        put(unit, "ID", one.sscc)
    nth = 0
    for one in paper.cartons:
        for line in one.lines:
            nth += 1
            row = box(root, "DespatchLine")
            put(row, "ID", str(nth))
            put(row, "DeliveredQuantity", str(line.units), unitCode="EA")
            put(box(row, "OrderLineReference"), "LineID", str(nth))
            item = box(row, "Item")
            put(item, "Name", line.title or line.goods)
            put(box(item, "BuyersItemIdentification"), "ID", line.goods)
            part = box(row, "Shipment")
            put(part, "ID", paper.reference)
            put(box(part, "TransportHandlingUnit"), "ID", one.sscc)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))
