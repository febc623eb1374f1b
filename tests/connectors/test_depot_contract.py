"""The contract of a depot: asked, told of loads, read by its own book."""

from __future__ import annotations

from dataclasses import replace

import pytest

from amber_lane.connectors.depot_protocol import CartonNotice, CountedLine, DepotLink, HoldAsk, LoadNotice
from amber_lane.connectors.errors import Malformed, Refused, Unavailable
from amber_lane.connectors.kinds import connect
from amber_lane.connectors.protocols import Purchase, PurchaseItem

from .partners import (
    BUYER,
    DEPOT,
    link,
    nonsense,
    png,
)


def test_a_depot_is_asked_told_of_loads_and_read_by_its_own_book(calm):
    calm.post("facts", name="depot_slips", value=0)
    depot = link(calm, DEPOT, deadline=3)
    assert isinstance(depot, DepotLink) and list(depot.catalogue()) == [] and depot.item("x") is None
    told = depot.depot_terms()
    assert told.storage == 100_000 and told.carton_sides == (600, 400, 400) and told.address.country == "GB"
    # What is picked is in each unit, so that a parcel's price is whole.
    assert {one.first for one in depot.origins()[0].services if one.country == "GB"} == {125 + told.pick}
    name = depot.keep_picture(png(), "image/png")
    ask = HoldAsk("C-1", "Lamp of the contract", "other", 300, (120, 100, 80), 900, "GBP", (name,))
    assert depot.ask_to_hold(ask).state == "asked" and depot.ask_to_hold(ask).state == "asked"
    assert depot.ask_to_hold(replace(ask, number="C-2", weight_g=40_000)).state == "refused"
    lit = depot.ask_to_hold(replace(ask, number="C-3", kind="lights"))
    assert lit.state == "question" and "batteries" in lit.message and depot.answer_question("C-3", "two").state == "asked"
    carton = CartonNotice("004000000000000077", 3000, (("C-1", 10, "A7", None),))
    notice = LoadNotice("C-LOAD-1", "own", (carton,))
    with pytest.raises(Refused, match="do not hold"):
        depot.announce(notice)
    calm.post("clock", jump_minutes=150)
    assert [one.state for one in depot.holdings(["C-1", "C-3"])] == ["agreed", "agreed"]
    for _ in range(2):
        assert depot.announce(notice).state == "announced"
    with pytest.raises(Refused, match="not counted"):
        depot.count_again("C-LOAD-1")
    for _ in range(2):
        calm.post("clock", jump_minutes=4 * 1440)
    (load,) = depot.find_loads(["C-LOAD-1", "C-LOAD-2"])
    assert (load.state, load.lines) == ("counted", (CountedLine("C-1", 10),)) and depot.damage_picture("C-LOAD-1", "C-1") is None
    page = depot.movements("")
    mine = [one for one in page.moves if one.goods == "C-1"]
    assert [(one.kind, one.units, one.reference) for one in mine] == [("counted_in", 10, "C-LOAD-1")]
    assert depot.movements(page.cursor).moves == [] and depot.stock().units["C-1"] == 10
    bought = depot.buy(Purchase("C-OUT-1", "larkfield", "next", BUYER, [PurchaseItem(1, "C-1", 2)]))
    assert bought.billed == 125 + 40 + 30 + 2 * told.pick
    calm.post("clock", jump_minutes=30)
    # Packed and not gone: it stands on the shelf still; let go, it is free again.
    assert depot.find_purchases(["C-OUT-1"])[0].state == "accepted" and depot.stock().units["C-1"] == 10
    assert depot.recall("C-OUT-1").state == "withdrawn"
    for dial, failure in (("errors", Unavailable), ("malformed", Malformed)):
        calm.dial("depot", dial, 1)
        for read in (depot.depot_terms, depot.stock, lambda: depot.movements(""), lambda: depot.find_loads(["C-LOAD-1"])):
            with pytest.raises(failure):
                read()
        calm.dial("depot", dial, 0)
    calm.dial("depot", "lost_answer", 1)
    quick = link(calm, DEPOT)
    # What is known there by our number or reference is told again at will, so a lost answer is no unknown outcome.
    for tell in (lambda: quick.announce(notice), lambda: quick.ask_to_hold(ask), lambda: quick.answer_question("C-3", "two")):
        with pytest.raises(Unavailable):
            tell()


def test_nonsense_of_a_depot_is_told_and_never_taken():
    for said, read in (
        ({"goods": [{"number": "A", "state": "perhaps"}]}, lambda d: d.holdings(["A"])),
        ({"loads": [{"reference": "L", "state": "lost"}]}, lambda d: d.find_loads(["L"])),
        (
            {"loads": [{"reference": "L", "state": "counted", "lines": [{"goods": "A", "units": 1}, {"goods": "A", "units": 2}]}]},
            lambda d: d.find_loads(["L"]),
        ),
        ({"as_of": "2026-03-12T00:00:00Z", "goods": [{"number": "A", "there": -4}]}, lambda d: d.stock()),
        (
            {"movements": [{"id": 1, "at": "2026-03-12T00:00:00Z", "goods": "A", "units": 1, "kind": "eaten"}], "cursor": "1"},
            lambda d: d.movements(""),
        ),
    ):
        with pytest.raises(Malformed):
            read(connect("supplier", "depot_api", "http://x", "k", 1, nonsense(said)))
