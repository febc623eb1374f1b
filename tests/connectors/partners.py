"""The partners of the contract suite: of which kind, where in the practice world, by which key."""

from __future__ import annotations

import io
import json
from pathlib import Path

import httpx
import pytest
from PIL import Image

from amber_lane.connectors.kinds import connect
from amber_lane.connectors.protocols import Address
from amber_lane.sheets.mapped import look

# owner, kind, the practice world's service, path, key
OWN = ("store", "own_site", "shop", "/shop/api", "dusk-dial:practice-shop")


FAIR = ("store", "market_api", "fair", "/fair/api", "dusk-dial:practice-fair")


CRAFT = ("store", "craft_pages", "craft", "/craft", "dusk-dial:practice-craft")


WHOLESALE = ("supplier", "wholesale_api", "wholesale", "/wholesale/api", "practice-northlight")


FOLDER = ("supplier", "folder", "folder", "/folder", "duskdial:practice-quayside")


RETAIL = ("supplier", "retail_site", "retail", "/retail/api", "practice-sable")


TARN = ("supplier", "print_api", "tarn", "/tarn/api", "practice-tarn")


COPPER = ("supplier", "print_api", "copper", "/copper/api", "practice-copperbeck")


DEPOT = ("supplier", "depot_api", "depot", "/depot/api", "practice-larkfield")


POST = ("carrier", "post_api", "post", "/post/api", "practice-swiftwing")


BANK = ("rates", "rates_api", "bank", "/bank/api", "practice-bank")


# Dialects that nobody wrote a connector for: XML by a cursor, GraphQL, and signed forms that are answered in sheets.
FERN = ("supplier", "described", "fern", "/fern", "practice-fernmoor")


MARRAM = ("supplier", "described", "marram", "/marram", "practice-marram")


CINDER = ("supplier", "described", "cinder", "/cinder", "dusk-dial:practice-cinder")


STORES, SUPPLIERS = (OWN, FAIR, CRAFT), (WHOLESALE, FOLDER, RETAIL, FERN, MARRAM, CINDER)


PARTNERS = (*STORES, *SUPPLIERS, TARN, COPPER, DEPOT, POST, BANK)


HERE = Path(__file__).parent / "descriptions"


BUYER = Address("Wren Sorrel", "4 Lantern Row", "Whitby", "YO21 3PR", "GB")


WAYS = {"wholesale": ("leeds", "tracked48"), "folder": ("gdynia", "road"), "retail": ("online", "standard")}
WAYS |= {"fern": ("moor", "parcel"), "marram": ("dune", "post"), "cinder": ("row", "van")}


by_kind = pytest.mark.parametrize("partner", PARTNERS, ids=lambda p: p[2])


by_store = pytest.mark.parametrize("partner", STORES, ids=lambda p: p[1])


by_supplier = pytest.mark.parametrize("partner", SUPPLIERS, ids=lambda p: p[2])


def link(world, partner, key=None, deadline=0.6):
    owner, kind, _, path, good = partner
    address = f"{world.address}{path}"
    how = None
    if kind == "folder" and key is None:
        data, _ = connect(owner, kind, address, good, 5).sheet()
        how = {"reading": look(data).reading.kept(), "currency": "PLN"}
    return connect(owner, kind, address, key or good, deadline, None, how or described(partner))


def described(partner):
    """What a partner by a description is opened with."""
    return {"description": (HERE / f"{partner[2]}.yaml").read_text()} if partner[1] == "described" else None


def nonsense(body: object, status: int = 200):
    """A partner that answers the same nonsense to everything."""
    return httpx.MockTransport(lambda request: httpx.Response(status, text=body if isinstance(body, str) else json.dumps(body)))


def png() -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (300, 240), "navy").save(out, "PNG")
    return out.getvalue()
