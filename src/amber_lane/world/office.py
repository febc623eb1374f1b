"""An office that buys for others and works by mail: it reads purchase orders as sheets or documents, and writes back.

It answers in the form it was asked in: a sheet with the same columns and its answer beside them, or documents.
"""

from __future__ import annotations

import csv
import io
import json
import random
from collections.abc import Callable
from email.message import EmailMessage
from typing import Any
from xml.sax.saxutils import escape

from lxml import etree

from . import pop
from .life import HAPPENS, HOUR, MINUTE, SHIPPED
from .partners import OFFICE
from .state import World, iso

ADDRESS = "orders@meridian-buying.example"
# What tells an answer to orders that came as files: (world, name, sheet).
BY_FILE: list[Callable[[World, str, str], None]] = []
_URN = "urn:oasis:names:specification:ubl:schema:xsd:"
_CAC, _CBC = f"{{{_URN}CommonAggregateComponents-2}}", f"{{{_URN}CommonBasicComponents-2}}"


def read(world: World, message: EmailMessage) -> None:
    """A mail to the office: every purchase order in its files is taken up once more than before."""
    head = {"back": str(message["From"] or ""), "asked": str(message["Message-ID"] or "")}
    with world.change():
        numbers = []
        for part in message.iter_attachments():
            data = part.get_payload(decode=True)
            text = data.decode("utf-8-sig", "replace") if isinstance(data, bytes) else ""
            form = "ubl" if part.get_content_subtype() == "xml" else "sheet"
            numbers += _take(world, _document(text) if form == "ubl" else _sheet(text), head | {"form": form})
        _decide_soon(world, numbers)


def take_sheet(world: World, text: str) -> None:
    """A sheet that was put where the office looks: its answer lies there too."""
    with world.change():
        _decide_soon(world, _take(world, _sheet(text), {"form": "file"}))


def _take(world: World, orders: dict[str, Any], more: dict[str, str]) -> list[int]:
    numbers, now = [], world.now()
    for reference, body in orders.items():
        row = (OFFICE.code, reference, now, "received", json.dumps(body | more), "", now)
        done = world.db.execute("insert into purchase(supplier, reference, at, state, body, told, updated) values (?,?,?,?,?,?,?)", row)
        numbers.append(int(done.lastrowid or 0))
    return numbers


def _decide_soon(world: World, numbers: list[int]) -> None:
    if numbers:
        world.plan(world.now() + 25 * MINUTE, "office_decides", purchases=numbers)


def _sheet(text: str) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for row in csv.DictReader(io.StringIO(text, newline="")):
        if row.get("item"):
            one = found.setdefault(
                row["purchase_order"], {"lines": [], "address": {"country": row["country"], "postcode": row["postcode"]}}
            )
            one["lines"].append({"line_no": int(row["line_no"]), "item": row["item"], "quantity": int(row["quantity"])})
    return found


def _document(text: str) -> dict[str, Any]:
    root = etree.fromstring(text.encode(), etree.XMLParser(resolve_entities=False, no_network=True))
    lines = [
        {
            "line_no": int(line.findtext(f"{_CBC}ID", "0")),
            "item": line.findtext(f"{_CAC}Item/{_CAC}SellersItemIdentification/{_CBC}ID", ""),
            "quantity": int(line.findtext(f"{_CBC}Quantity", "0")),
        }
        for line in root.iterfind(f"{_CAC}OrderLine/{_CAC}LineItem")
    ]
    place = f"{_CAC}Delivery/{_CAC}DeliveryLocation/{_CAC}Address/"
    address = {
        "country": root.findtext(f"{place}{_CAC}Country/{_CBC}IdentificationCode", ""),
        "postcode": root.findtext(f"{place}{_CBC}PostalZone", ""),
    }
    return {root.findtext(f"{_CBC}ID", ""): {"lines": lines, "address": address}}


def decide(world: World, body: dict[str, Any]) -> None:
    """Some minutes later: what the office can get it takes, and says so in one mail for all that came together."""
    rows = [row for number in body["purchases"] if (row := world.one("select * from purchase where id = ?", (number,)))]
    share, now = float(world.fact("office_refuses", 0.03)), world.now()
    for row in rows:
        rng = random.Random(f"office-{world.seed}-{row['reference']}")
        row["state"], row["told"] = ("refused", "not to be had this week") if rng.random() < share else ("accepted", "")
        world.db.execute("update purchase set state = ?, told = ?, updated = ? where id = ?", (row["state"], row["told"], now, row["id"]))
        if row["state"] == "accepted":
            world.plan(now + rng.randint(3 * HOUR, 9 * HOUR), "ship", purchase=row["id"])
    _write(world, rows, "Our answer")


def shipped(world: World, purchase: int) -> None:
    """A parcel has left: its number is told in a mail."""
    row = world.one("select * from purchase where id = ?", (purchase,))
    if row and row["supplier"] == OFFICE.code:
        _write(world, [row], "On its way")


def _write(world: World, rows: list[dict[str, Any]], subject: str) -> None:
    bodies = [json.loads(row["body"]) for row in rows]
    if bodies[0]["form"] == "file":
        for answer in BY_FILE:
            answer(world, f"{rows[0]['reference']}-{rows[0]['state']}", _answers(rows))
        return
    mail = EmailMessage()
    mail["From"], mail["To"] = f"Meridian Buying <{ADDRESS}>", bodies[0]["back"]
    mail["Subject"] = f"{subject}: {rows[0]['reference']}" + (f" and {len(rows) - 1} more" if len(rows) > 1 else "")
    mail["Message-ID"] = f"<{rows[0]['id']}-{rows[0]['state']}@meridian-buying.example>"
    if bodies[0].get("asked"):
        mail["In-Reply-To"] = bodies[0]["asked"]
    mail.set_content("Please find our answer in the file with this mail.\n\nInes, Meridian Buying\n")
    sheet = [row for row, body in zip(rows, bodies, strict=True) if body["form"] == "sheet"]
    if sheet:
        mail.add_attachment(_answers(sheet).encode(), maintype="text", subtype="csv", filename="answers.csv")
    for row, body in zip(rows, bodies, strict=True):
        if body["form"] == "ubl":
            text = _advice(row, body) if row["state"] == "shipped" else _response(row)
            mail.add_attachment(text.encode(), maintype="application", subtype="xml", filename=f"{row['reference']}.xml")
    pop.put(world, mail.as_bytes())


def _answers(rows: list[dict[str, Any]]) -> str:
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(["purchase_order", "answer", "reason", "their_number", "tracking_number", "carrier"])
    for row in rows:
        carrier = "Swiftwing Post" if row["tracking_number"] else ""
        writer.writerow([row["reference"], row["state"], row["told"], f"MB-{row['id']}", row["tracking_number"], carrier])
    return out.getvalue()


def _whole(kind: str, row: dict[str, Any], inside: str) -> str:
    day = iso(row["updated"])
    spaces = f'xmlns="{_URN}{kind}-2" xmlns:cac="{_CAC[1:-1]}" xmlns:cbc="{_CBC[1:-1]}"'
    head = f"<cbc:UBLVersionID>2.1</cbc:UBLVersionID><cbc:ID>MB-{row['id']}</cbc:ID><cbc:IssueDate>{day[:10]}</cbc:IssueDate>"
    return f'<?xml version="1.0" encoding="UTF-8"?>\n<{kind} {spaces}>{head}{inside}</{kind}>\n'


def _party(role: str, name: str) -> str:
    return f"<cac:{role}><cac:Party><cac:PartyName><cbc:Name>{escape(name)}</cbc:Name></cac:PartyName></cac:Party></cac:{role}>"


def _parties(buyer: str) -> tuple[str, str]:
    return _party("SellerSupplierParty", OFFICE.name), _party(buyer, "Dusk & Dial")


def _about(row: dict[str, Any]) -> str:
    return f"<cac:OrderReference><cbc:ID>{escape(row['reference'])}</cbc:ID></cac:OrderReference>"


def _response(row: dict[str, Any]) -> str:
    code = "RE" if row["state"] == "refused" else "AP"
    note = f"<cbc:Note>{escape(row['told'])}</cbc:Note>" if row["told"] else ""
    seller, buyer = _parties("BuyerCustomerParty")
    return _whole("OrderResponse", row, f"<cbc:OrderResponseCode>{code}</cbc:OrderResponseCode>{note}{_about(row)}{seller}{buyer}")


def _advice(row: dict[str, Any], body: dict[str, Any]) -> str:
    seller, buyer = _party("DespatchSupplierParty", OFFICE.name), _party("DeliveryCustomerParty", "Dusk & Dial")
    carrier = "<cac:CarrierParty><cac:PartyName><cbc:Name>Swiftwing Post</cbc:Name></cac:PartyName></cac:CarrierParty>"
    consignment = f"<cac:Consignment><cbc:ID>{row['tracking_number']}</cbc:ID>{carrier}</cac:Consignment>"
    lines = "".join(
        f"<cac:DespatchLine><cbc:ID>{line['line_no']}</cbc:ID>"
        f'<cbc:DeliveredQuantity unitCode="EA">{line["quantity"]}</cbc:DeliveredQuantity>'
        f"<cac:OrderLineReference><cbc:LineID>{line['line_no']}</cbc:LineID></cac:OrderLineReference>"
        f"<cac:Item><cbc:Name>{escape(line['item'])}</cbc:Name></cac:Item></cac:DespatchLine>"
        for line in body["lines"]
    )
    return _whole("DespatchAdvice", row, f"{_about(row)}{seller}{buyer}<cac:Shipment><cbc:ID>1</cbc:ID>{consignment}</cac:Shipment>{lines}")


HAPPENS["office_decides"] = decide
SHIPPED.append(shipped)
