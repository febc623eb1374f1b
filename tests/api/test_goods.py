"""Goods over the interface: found, asked for, sampled, sized, sent; what is refused says what to do and changes nothing."""

from __future__ import annotations

import io
from typing import Any

import pytest
from openpyxl import load_workbook
from sqlalchemy import select, update

from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.catalogue import ingest
from amber_lane.services.imports.sheet_kinds import kind_of
from amber_lane.sheets.table import read_sheet

from ..small import Small
from .test_desk import Calls, calls

__all__ = ["calls"]
ADDRESS = {"name": "Wren", "address_1": "4 Row", "city": "Whitby", "postcode": "YO21 3PR", "country": "GB"}


@pytest.fixture
def goods(calls: Calls, small: Small) -> Calls:
    """Items 7 to 9 are three sizes of a vest that nobody sells yet."""

    def make(context: Any) -> None:
        for n, size in enumerate(("S", "M", "L"), 7):
            words = {"title": f"Oxmoor night vest {size}", "options": size, "brand": "Oxmoor", "gtin": ""}
            context.session.add(Item(id=n, supplier_id=1, origin_id=1, number=f"V-{size}", currency="GBP", cost=900 + n, stock=12, **words))
        context.session.flush()
        ingest.index_words(context)

    small.write(make)
    return calls


def test_goods_are_found_put_on_the_shelf_and_made_in_all_sizes(goods: Calls, small: Small) -> None:
    assert {one["number"] for one in goods.get("/source/search", words="vest", filters="store:1")["rows"]} == {"V-S", "V-M", "V-L"}
    facets = goods.get("/source/facets")
    assert [one["name"] for one in facets["suppliers"]] == ["Supply House"] and facets["suppliers"][0]["currency"] == "GBP"
    assert goods.post("/source/put", 201, items=[7], store=1)["message"]
    number = small.all(select(Listing.id).where(Listing.state == "preparing"))[0]
    rows = goods.get("/source/search", words="vest", filters="store:1")["rows"]
    assert {one["number"]: bool(one["have"]) for one in rows} == {"V-S": True, "V-M": False, "V-L": False}
    seen = goods.post(f"/shelf/listings/{number}/family/look", options=None)
    assert [(one["name"], one["values"]) for one in seen["options"]] == [("Size", ["S", "M", "L"])]
    assert [(row["values"], row["part"], row["item"]) for row in seen["rows"]] == [(["S"], True, 7), (["M"], False, 8), (["L"], False, 9)]
    ask: dict[str, Any] = {"version": seen["version"], "title": "Night vest", "options": seen["options"]}
    wishes = [{"values": row["values"], "kept": True, "item": row["item"]} for row in seen["rows"]]
    refused = goods.client.put(f"/api/v1/shelf/listings/{number}/family", json={**ask, "rows": wishes * 2})
    assert refused.status_code == 409 and "combinations" in refused.json()["detail"]
    wishes[1]["price"] = {"amount": "49.95", "currency": "GBP"}
    done = goods.client.put(f"/api/v1/shelf/listings/{number}/family", json={**ask, "rows": wishes}).json()
    assert (done["made"], done["failed"]) == (2, {}) and [row["by_hand"] for row in done["matrix"]["rows"]] == [False, True, False]
    bench = goods.get(f"/shelf/listings/{number}")
    assert bench["family"] == 3 and bench["missing"] == []
    assert goods.client.put(f"/api/v1/shelf/listings/{number}/family", json={**ask, "rows": wishes}).status_code == 409
    assert goods.client.patch(f"/api/v1/shelf/listings/{number}", json={"version": bench["version"], "weight_g": 180}).status_code == 200
    assert small.all(select(Sku.weight_g).where(Sku.weight_g > 0)) == [180]


def test_an_item_very_like_one_of_ours_is_said_to_be(goods: Calls, small: Small) -> None:
    small.write(lambda context: context.session.execute(update(Sku).where(Sku.id == 2).values(title="Night vest, Oxmoor, size M")))
    rows = {one["number"]: one for one in goods.get("/source/search", words="vest", filters="store:1")["rows"]}
    assert (rows["V-M"]["like"], rows["V-M"]["have"]) == ("S-2", "") and rows["V-M"]["likeness"] >= 80
    assert rows["V-S"]["like"] == ""
    close = goods.get("/source/items/7", store=1)["close"]
    assert (close[0]["sku"] == "S-2" and "S / M" in " ".join(close[0]["differs"])) or "M / S" in " ".join(close[0]["differs"])


def test_a_search_that_runs_by_itself_is_kept_run_and_stopped(goods: Calls) -> None:
    asked = goods.client.post(
        "/api/v1/source/saved", params={"words": "vest", "filters": "store:1;stock_least:5"}, json={"name": "Vests", "bring": "report"}
    )
    assert asked.status_code == 201, asked.text
    saved = goods.get("/source/saved")
    assert [(one["name"], one["words"], one["bring"]) for one in saved] == [("Vests", "vest", "report")] and "stock_least:5" in saved[0][
        "filters"
    ]
    goods.post(f"/source/saved/{saved[0]['id']}/run", 202)
    assert goods.client.delete(f"/api/v1/source/saved/{saved[0]['id']}").status_code == 200 and goods.get("/source/saved") == []
    assert goods.client.post("/api/v1/source/saved", params={"filters": "store:x"}, json={"name": "None"}).status_code == 422


def test_a_supplier_is_asked_by_mail_and_its_answer_opens_the_lane(goods: Calls, small: Small) -> None:
    target = {"amount": "9.50", "currency": "GBP"}
    goods.post("/source/requests", 422, supplier=1, sku="S-1", mail="nobody")
    goods.post("/source/requests", 404, supplier=1, sku="S-999")
    goods.post("/source/requests", 201, supplier=1, sku="S-1", target=target, mail="find@supply.example", note="for spring")
    goods.post("/source/requests", 409, supplier=1, sku="S-1")
    asked = goods.get("/source/requests")[0]
    assert (asked["state"], asked["mailed"], asked["target"]) == ("asked", "waiting", target) and "for spring" in asked["words"]
    assert goods.get("/source/facets")["suppliers"][0]["mail"] == "find@supply.example"
    goods.post(f"/source/requests/{asked['id']}/answer", 404, version=asked["version"], item="NO-SUCH")
    goods.post(f"/source/requests/{asked['id']}/answer", version=asked["version"], item="V-S")
    answered = goods.get("/source/requests")[0]
    assert answered["item"] == "V-S" and answered["likeness"] < 50
    goods.post(f"/source/requests/{asked['id']}/accept", version=answered["version"])
    assert goods.get("/source/requests")[0]["state"] == "accepted" and small.lane(1, 1).state == "new"


def test_a_sample_goes_to_the_own_address_and_its_verdict_stays(goods: Calls, small: Small) -> None:
    assert goods.client.post("/api/v1/source/items/1/sample").status_code in (409, 422), "nobody said where to"
    assert goods.get("/source/own-address") is None
    assert goods.client.put("/api/v1/source/own-address", json=ADDRESS).status_code == 200
    goods.post("/source/items/1/sample", 201)
    sample = goods.get("/source/samples")[0]
    assert sample["number"] == "I-1" and small.all(select(Outbox.kind).where(Outbox.kind == "sample")) == ["sample"]
    small.write(lambda context: context.session.execute(update(Outbox).where(Outbox.kind == "sample").values(state="done")))
    assert goods.client.post(f"/api/v1/source/samples/{sample['id']}/verdict", json={"version": 99, "verdict": "good"}).status_code == 409
    goods.post(f"/source/samples/{sample['id']}/verdict", version=sample["version"], verdict="poor", note="thin")
    assert goods.get("/source/samples")[0]["verdict"] == "poor" and "thin" in small.lane(1).reason


def test_how_a_supplier_by_sheets_sends_is_said_priced_and_undone(goods: Calls, small: Small) -> None:
    service = {"code": "slow", "name": "Slow", "country": "GB", "days_low": 3, "days_high": 6}
    money = [{"amount": text, "currency": "GBP"} for text in ("2.40", "0.60", "0.30")]
    service |= {"first": money[0], "following": money[1], "bands": [{"up_to_g": 500, "first": money[0], "following": money[1]}]}
    origin = {"code": "main", "name": "Main", "country": "GB", "handling": money[2], "cut_off": "11:30", "holidays": ["2026-12-25"]}
    told = goods.get("/setup/suppliers/1/sending")
    assert not told["editable"]
    body = {"version": told["version"], "origins": [{**origin, "services": [service]}]}
    assert goods.client.put("/api/v1/setup/suppliers/1/sending", json=body).status_code == 409
    small.write(lambda context: context.session.execute(update(Supplier).values(kind="sheet")))
    before = small.listing(1).wanted_price
    for wrong in ({"cut_off": "25:00"}, {"holidays": ["soon"]}, {"services": [{**service, "days_low": 9}]}):
        bad = {**body, "origins": [{**body["origins"][0], **wrong}]}
        assert goods.client.put("/api/v1/setup/suppliers/1/sending", json=bad).status_code == 422, wrong
    assert goods.client.put("/api/v1/setup/suppliers/1/sending", json=body).status_code == 200
    kept = goods.get("/setup/suppliers/1/sending")["origins"][0]
    assert kept["cut_off"] == "11:30" and kept["services"][0]["bands"][0]["up_to_g"] == 500
    assert small.listing(1).wanted_price > before, "prices follow at once"
    act = small.all(select(AuditEntry).where(AuditEntry.kind == "origins.change"))[0]
    goods.post(f"/acts/{act.id}/undo")
    assert small.listing(1).wanted_price == before


def test_the_lanes_template_offers_names_in_its_cells(calls: Calls) -> None:
    """The first sheet stays the plain table that is read back; the names stand in a second one."""
    body = calls.client.get("/api/v1/sheets/lanes/template.xlsx").content
    book = load_workbook(io.BytesIO(body))
    first = book.worksheets[0]
    offered = {str(one.sqref)[0]: one.formula1 for one in first.data_validations.dataValidation}
    names = [[cell.value for cell in row] for row in book["Names"].iter_rows()]
    assert [cell.value for cell in first[1]][:4] == ["store", "sku", "supplier", "item"] and set(offered) == {"A", "C", "H"}
    assert names[0] == ["store", "supplier", "use"] and names[1][0] == "all" and names[1][2] == "main"
    kind = kind_of("lanes")
    assert len(list(read_sheet(body, kind.required, kind.optional).rows)) == 1
