"""What print houses do beside what all suppliers do: blanks, files by their checksum, orders that name them, proofs; with faults on."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from amber_lane.connectors.errors import Malformed, Refused, Unavailable
from amber_lane.connectors.print_house import PrintHouse
from amber_lane.connectors.print_protocol import BlankTerms, PrintLink
from amber_lane.connectors.protocols import PrintSide, Purchase, PurchaseItem
from amber_lane.services.printing import files

from ..drawings import png
from .partners import BUYER, COPPER, TARN, link

by_house = pytest.mark.parametrize("partner", (TARN, COPPER), ids=lambda p: p[2])


@pytest.fixture
def calm(world: Any) -> Iterator[Any]:
    world.calm()
    yield world
    world.calm()


def art() -> bytes:
    return files.check(png(600)).whole.data


def order(house: PrintLink, blank: BlankTerms, reference: str, **other: Any) -> Purchase:
    item = next(one for one in blank.items if one.sides == 1)
    area = next(one for one in blank.areas if one.size == item.size)
    sha = hashlib.sha256(art()).hexdigest()
    place = {"side": area.side, "x": 0, "y": 0, "w": area.width // 2, "h": area.width // 2, "file": sha, "preview": sha} | other
    origin = house.origins()[0]
    service = next(one for one in origin.services if one.country == BUYER.country)
    return Purchase(reference, origin.code, service.code, BUYER, [PurchaseItem(1, item.number, 1, (PrintSide(**place),))])


@by_house
def test_blanks_say_all_that_a_design_needs(calm: Any, partner: Any) -> None:
    house = link(calm, partner)
    assert isinstance(house, PrintLink)
    catalogue = {item.number for page in house.catalogue() for item in page.items}
    for blank in house.blanks():
        assert {one.number for one in blank.items} <= catalogue
        assert len(blank.items) >= len(blank.colours) * len(blank.sizes) and blank.made_by
        assert blank.dpi_least <= blank.dpi_good <= blank.dpi_best
        for area in blank.areas:
            size = next(one for one in blank.sizes if one.name == area.size)
            assert area.width <= size.width and area.height <= size.height


@by_house
def test_a_file_is_known_by_its_checksum_and_an_order_without_it_is_refused(calm: Any, partner: Any) -> None:
    house = link(calm, partner)
    blank = next(one for one in house.blanks() if one.kind == "bag")
    data = art()
    with pytest.raises(Refused, match="not handed over"):
        house.buy(order(house, blank, f"P-{partner[2]}-0", file="0" * 64))
    for dial, failure in (("errors", Unavailable), ("lost_answer", Unavailable), ("malformed", Malformed)):
        calm.dial(partner[2], dial, 1)
        with pytest.raises(failure):
            house.keep_file(data, "image/png")
        calm.dial(partner[2], dial, 0)
    for _ in range(2):
        house.keep_file(data, "image/png")
    sha = hashlib.sha256(data).hexdigest()
    assert calm.client.get(f"/world/record/print-files/{sha}").content == data
    with pytest.raises(Refused, match="PNG"):
        house.keep_file(b"no picture at all", "image/png")
    wide = next(one for one in blank.areas)
    for odd, says in (({"x": wide.width}, "outside"), ({"side": "sleeve"}, "no sleeve")):
        with pytest.raises(Refused, match=says):
            house.buy(order(house, blank, f"P-{partner[2]}-1", **odd))
    assert house.buy(order(house, blank, f"P-{partner[2]}-2")).state == "received"
    assert house.proof(f"P-{partner[2]}-2") is None
    calm.post("clock", jump_minutes=15)
    assert house.find_purchases([f"P-{partner[2]}-2"])[0].state == "accepted"
    assert house.proof(f"P-{partner[2]}-2") == data, "the house shows what it printed"
    calm.dial(partner[2], "askew", 6)
    assert house.proof(f"P-{partner[2]}-2") not in (None, data)


def test_another_file_than_the_one_sent_and_odd_blanks_are_seen() -> None:
    def answer(request: httpx.Request) -> httpx.Response:
        if request.url.path.endswith("/files"):
            return httpx.Response(201, json={"sha256": "0" * 64})
        sizes = {"sizes": [{"name": "one", "width_mm": 10, "height_mm": 10}], "colours": [{"name": "red", "rgb": "#ff0000"}]}
        areas = [{"side": "front", "size": "two", "width_mm": 9, "height_mm": 9}]
        dots = {"dpi_least": 100, "dpi_good": 200, "dpi_best": 300}
        return httpx.Response(
            200, json={"blanks": [{"code": "A", "name": "A", "kind": "bag", **sizes, "areas": areas, "items": [], **dots}]}
        )

    house = PrintHouse("http://127.0.0.1:1/api", "key", 1, httpx.MockTransport(answer))
    with pytest.raises(Malformed, match="another file"):
        house.keep_file(art(), "image/png")
    with pytest.raises(Malformed, match="size or colour"):
        house.blanks()
