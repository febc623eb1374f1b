"""One contract for all connectors, against the practice world over HTTP, with its faults on."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime

import httpx
import pytest

from amber_lane.connectors.claim_protocol import ClaimAsk, ClaimLink
from amber_lane.connectors.errors import Denied, Malformed, OutsideError, RateLimited, Refused, Unavailable, UnknownOutcome
from amber_lane.connectors.kinds import KINDS, connect
from amber_lane.connectors.protocols import Address, ListingChange, ListingWords, Purchase, PurchaseItem, Tracking
from amber_lane.connectors.refund_line import RefundLine
from amber_lane.connectors.return_protocol import LabelAsk, LabelLink, ReturnsLink, ReturnWord
from amber_lane.connectors.wire import order_lines

from .partners import (
    BANK,
    BUYER,
    FAIR,
    PARTNERS,
    POST,
    STORES,
    TARN,
    WAYS,
    WHOLESALE,
    by_kind,
    by_store,
    by_supplier,
    described,
    link,
    nonsense,
    png,
)


def test_every_kind_that_can_be_called_is_in_this_suite():
    # Servers of files have one of their own: test_file_servers.
    assert {(one.owner, one.kind) for one in KINDS if one.make and one.owner != "files"} == {partner[:2] for partner in PARTNERS} | {
        *((owner, "described") for owner in ("store", "carrier", "rates")),
        ("mailbox", "smtp"),
        ("inbox", "pop"),
        ("inbox", "imap"),
        ("webhook", "post"),
    }


@by_kind
def test_every_partner_answers_and_every_failure_has_its_name(calm, partner):
    owner, kind, service, _, key = partner
    good = link(calm, partner)
    assert good.account().may
    with pytest.raises(Denied):
        link(calm, partner, "wrong:key").account()
    with pytest.raises(Unavailable, match="cannot be reached"):
        connect(owner, kind, "http://127.0.0.1:9/api", key, 0.5, None, described(partner)).account()
    with pytest.raises(Refused, match="address"):
        connect(owner, kind, "ftp://somewhere", key, 0.5)
    for dial, value, failure in (("errors", 1, Unavailable), ("malformed", 1, Malformed), ("lost_answer", 1, Unavailable)):
        calm.dial(service, dial, value)
        with pytest.raises(failure):
            good.account()
        calm.dial(service, dial, 0)
    calm.dial(service, "rate_limit", 1)
    with pytest.raises(RateLimited) as told:
        for _ in range(3):
            good.account()
    assert told.value.wait > 0


def change(world, store, wish: ListingChange, key: str) -> str:
    """Make one change in whichever way the store takes it. Returns why it was refused, or ''."""
    if not store.batch_most:
        try:
            store.change_listing(wish, key)
        except Refused as error:
            return error.message
        return ""
    store.send_batch([wish], key)
    assert not store.find_batch(key).done and store.find_batch("no-such") is None
    world.post("clock", jump_minutes=2)
    answer = store.find_batch(key)
    assert answer.done
    return answer.results[wish.sku]


@by_store
def test_a_store_takes_changes_and_numbers_and_can_be_asked(calm, partner):
    store, code = link(calm, partner), partner[2]
    one = next(iter(store.listings())).listings[0]
    wish = ListingChange(one.sku, one.price + 100, "GBP", 3, "live")
    assert not store.find_change(wish, f"{code}-1")
    assert change(calm, store, wish, f"{code}-1") == ""
    assert store.find_change(wish, f"{code}-1")
    assert "no listing" in change(calm, store, ListingChange("NO-SUCH", 100, "GBP", 1, "live"), f"{code}-2")
    number = calm.post("buy", sku=one.sku, quantity=1, store=code)["number"]
    order = next(o for o in store.orders("").orders if o.number == number)
    assert order.lines[0].unit_price == one.price + 100 and order.promised_by and order.ordered_at.tzinfo
    carrier = {"fair": "Swiftwing", "craft": "swiftwing post"}.get(code, "Swiftwing Post")
    assert store.account().carriers == () or carrier in store.account().carriers
    store.fulfil(number, Tracking("SW000012349GB", carrier), f"{code}-f1")
    assert store.find_fulfilment(number, f"{code}-f1") and not store.find_fulfilment(number, "f-2")
    with pytest.raises(Refused, match="carrier"):
        store.fulfil(number, Tracking("SW000012349GB", "Nobody"), f"{code}-f3")
    with pytest.raises(Refused, match="sent already"):
        store.cancel(number)
    part = RefundLine(1, 0, 150)
    for _ in range(2):
        store.refund(number, [part], "GBP", f"{code}-r0")
    with pytest.raises(Refused, match="left to be given back"):
        store.refund(number, [RefundLine(1, 0, one.price * 9)], "GBP", f"{code}-r2")
    given = calm.record()["refunds"]
    assert given[f"{code}-r0"]["paid"] == "1.50" and [one["order"] for one in given.values()].count(number) == 1
    for _ in range(2):
        store.refund(number, [RefundLine(1)], "GBP", f"{code}-r1")
    given = calm.record()["refunds"]
    assert given[f"{code}-r1"]["order"] == number and [one["order"] for one in given.values()].count(number) == 2


@by_store
def test_a_new_listing_is_made_with_all_that_it_says(calm, partner):
    store, code = link(calm, partner), partner[2]
    pictures = ()
    if code != "craft":
        pictures = (store.keep_picture(png(), "image/png"),)
        assert store.keep_picture(png(), "image/png") == pictures[0]
        with pytest.raises(Refused, match="picture"):
            store.keep_picture(b"<svg/>", "image/png")
    words = ListingWords("Night lamp, red", "<p>Kind to the eyes.</p>", "lights", tags="red", compare_at=1500, pictures=pictures)
    words = replace(words, options="red, 2 pack", family="NEW")
    assert change(calm, store, ListingChange("NEW-1", 1295, "GBP", 4, "live", words), f"{code}-n1") == ""
    told = calm.client.get(f"/world/record/listings/NEW-1?store={code}").json()["now"]
    assert (told["title"], told["price"], told["quantity"], told["state"]) == ("Night lamp, red", 1295, 4, "live")
    assert (told["options"], told["family"]) == ("red, 2 pack", "NEW")
    assert told["description"] == words.description and (code == "craft" or json.loads(told["pictures"]) == list(pictures))


def test_a_pass_that_runs_out_is_renewed_and_nothing_is_done_twice(calm):
    fair = link(calm, FAIR)
    one = next(iter(fair.listings())).listings[0]
    calm.post("clock", jump_minutes=30)
    fair.send_batch([ListingChange(one.sku, 2222, "GBP", 2, "live")], "pass-1")
    calm.post("clock", jump_minutes=30)
    assert fair.find_batch("pass-1").done
    assert [row["price"] for row in calm.client.get(f"/world/record/listings/{one.sku}?store=fair").json()["shown"]][-1] == 2222
    assert fair.budget().limit > fair.budget().left >= 0


@by_supplier
def test_an_item_can_be_asked_for_and_what_is_not_there_is_not_made_up(calm, partner):
    supplier = link(calm, partner)
    supplier.account()
    number = calm.client.get(f"/world/record/numbers?supplier={partner[2]}").json()["numbers"][0]
    one = supplier.item(number)
    assert one.number == number and one.cost > 0 and one.title and one.stock >= 0
    assert supplier.item("NO/SUCH ?#") is None
    calm.post("items", supplier=partner[2], number=number, pack_size=one.pack_size + 4)
    assert supplier.item(number).pack_size == one.pack_size + 4
    calm.post("items", supplier=partner[2], number=number, gone=True)
    assert supplier.item(number) is None


@by_supplier
def test_a_lost_purchase_is_unknown_and_can_be_asked_for(calm, partner):
    supplier, service = link(calm, partner), partner[2]
    supplier.account()
    numbers = calm.client.get(f"/world/record/numbers?supplier={service}").json()["numbers"]
    origin, way = WAYS[service]
    wish = Purchase(f"T-{service}", origin, way, BUYER, [PurchaseItem(1, numbers[-1], 1)])
    calm.dial(service, "lost_answer", 1)
    with pytest.raises(UnknownOutcome):
        supplier.buy(wish)
    calm.dial(service, "lost_answer", 0)
    assert [one.reference for one in supplier.find_purchases([wish.reference, "T-2"])] == [wish.reference]
    with pytest.raises(Refused, match="does not go"):
        supplier.buy(Purchase("T-3", origin, way, Address("A", "1", "Oslo", "0150", "NO"), wish.lines))
    assert {one.state for one in supplier.find_purchases([wish.reference])} == {"received"}
    if service not in ("folder", "retail"):
        other = replace(wish, reference="T-back")
        supplier.buy(other)
        assert {supplier.recall("T-back").state for _ in range(2)} == {"withdrawn"}
    else:
        with pytest.raises(Refused, match=r"write to the supplier|ask it for a return"):
            supplier.recall(wish.reference)
    calm.post("clock", jump_minutes=60)
    assert supplier.find_purchases([wish.reference])[0].state in ("accepted", "refused")


@by_kind
@pytest.mark.parametrize(
    "body", ["<html>", {"pages": 1}, [], "\x00\x01", {"name": "x", "may": 7}], ids=["page", "short", "list", "zeros", "kind"]
)
def test_answers_that_are_wrong_are_told(partner, body):
    with pytest.raises(OutsideError):
        connect(partner[0], partner[1], "http://x", "k:w", 1, nonsense(body), described(partner)).account()


def test_claims_that_cannot_be_read_stop_no_other_and_nothing_is_taken_for_another():
    def told(reference: str, **more: str) -> dict[str, str]:
        return {"number": "CL-1", "reference": reference, "state": "paid", "amount": "4.00", "currency": "GBP", **more}

    rows = [told("A", state="shrugged"), told("B", amount="-4.00"), told("C", amount="a lot"), told("D"), told("not asked")]
    link = connect("supplier", "wholesale_api", "http://x", "k", 1, nonsense({"claims": rows}))
    assert isinstance(link, ClaimLink)
    found = link.find_claims(["A", "B", "C", "D"])
    assert [(one.reference, one.state, one.amount) for one in found] == [
        ("A", "", None),
        ("B", "", None),
        ("C", "", None),
        ("D", "paid", 400),
    ]
    assert all(one.message for one in found[:3])
    other = connect("supplier", "wholesale_api", "http://x", "k", 1, nonsense(told("D")))
    assert isinstance(other, ClaimLink)
    with pytest.raises(Unavailable, match="answered about another"):
        other.claim(ClaimAsk("A", "PO-1", 1, 1, "lost", "money", 400, "GBP"))


def test_rows_that_are_wrong_stop_nobody_else():
    rows = [
        {"number": "A", "cost": "1.00", "currency": "GBP", "stock": 1},
        {"number": "B", "cost": "NaN", "currency": "GBP", "stock": 1},
        {"number": "C", "cost": "1.00", "currency": "ZZZ", "stock": 1},
        {"number": "D", "currency": "GBP", "stock": 1},
        {"number": "E", "cost": "1e9", "currency": "GBP", "stock": 1},
    ]
    page = connect(
        "supplier", "wholesale_api", "http://x", "k", 1, nonsense({"as_of": datetime.now(UTC).isoformat(), "pages": 1, "offers": rows})
    ).sweep_page(1)
    assert [one.number for one in page.seen] == ["A"] and len(page.bad) == 4
    orders = [{"number": "1", "ordered_at": "2026-03-12T09:00:00Z", "currency": "GBP", "state": "open", "lines": [], "buyer": {}}]
    store = connect("store", "own_site", "http://x", "a:b", 1, nonsense({"orders": orders, "cursor": 4, "more": False}))
    assert store.orders("").unreadable and store.orders("").cursor == "4"


def test_a_word_without_the_right_signature_is_not_read():
    store = connect("store", "own_site", "http://x", "a:b", 1, nonsense({}))
    with pytest.raises(OutsideError, match="signed"):
        store.read_word({"shop-signed-at": "now", "shop-signature": "00"}, b"{}", "secret")


def test_a_folder_whose_answers_are_made_otherwise_is_told_and_never_guessed():
    for text in ("reference;number\nT-1;7\n", "reference;number;state;told;billed;tracking_number;carrier\nT-1;7;lost;;1,00;;\n"):
        folder = connect("supplier", "folder", "http://x", "", 1, nonsense(text), {"reading": None, "currency": "PLN"})
        with pytest.raises(Malformed):
            folder.find_purchases(["T-1"])


def test_pages_with_other_columns_are_told():
    pages = connect("store", "craft_pages", "http://x", "a:b", 1, nonsense("code,name\nA,B\n"))
    pages.call.client.cookies.set("seat", "x")
    for read in (lambda: list(pages.listings()), lambda: pages.orders("")):
        with pytest.raises(Malformed, match="other columns"):
            read()


def test_a_bank_tells_one_table_a_day_and_what_cannot_be_read_is_left_out(calm):
    bank = link(calm, BANK, deadline=3)
    table = bank.table()
    assert table.rates["GBP"] == 1 and 4 < table.rates["PLN"] < 7 and table.as_of.hour == 0
    assert bank.table() == table
    calm.post("clock", jump_minutes=1441)
    later = bank.table()
    assert later.as_of > table.as_of and abs(later.rates["PLN"] / table.rates["PLN"] - 1) < 0.02
    calm.dial("bank", "odd_rate", 1)
    assert bank.table().rates["PLN"] * 9 < later.rates["PLN"]
    calm.dial("bank", "odd_rate", 0)
    calm.dial("bank", "malformed", 1)
    with pytest.raises(Malformed):
        bank.table()

    def answer(request: httpx.Request) -> httpx.Response:
        return httpx.Response(
            200, json={"as_of": "2026-03-12T00:00:00Z", "base": "GBP", "rates": {"PLN": "NaN", "EUR": "1.18", "SEK": "-3"}}
        )

    odd = connect("rates", "rates_api", "http://bank.example/api", "k", 1, httpx.MockTransport(answer)).table()
    assert set(odd.rates) == {"GBP", "EUR"}


def test_lines_of_an_order_that_cannot_be_are_refused():
    good = (1, "S-1", 2, "9.95", "Lamp")
    assert order_lines([good, (2, *good[1:])], "GBP")[1].unit_price == 995
    for bad in ([], [good, good], [(1, "S-1", 0, "1.00", "")], [(1, "S-1", 10**7, "1.00", "")], [(-1, "S-1", 1, "1.00", "")]):
        with pytest.raises(ValueError, match=r"line|price"):
            order_lines(bad, "GBP")


@pytest.mark.parametrize("partner", (WHOLESALE, TARN), ids=lambda p: p[2])
def test_claims_are_known_by_our_reference_and_answered_in_time(calm, partner):
    supplier = link(calm, partner, deadline=3)
    assert isinstance(supplier, ClaimLink)
    code = partner[2]
    with pytest.raises(Refused, match="no purchase"):
        supplier.claim(ClaimAsk(f"X-{code}", "never", 1, 1, "lost", "money", 100, "GBP"))
    if code != "wholesale":
        return
    item = next(one for page in supplier.catalogue() for one in page.items if one.stock > 20)
    origin = item.origin
    supplier.buy(Purchase("CLAIMED-1", origin, "tracked48", BUYER, [PurchaseItem(1, item.number, 1)]))
    calm.post("clock", jump_minutes=2000)
    ask = ClaimAsk("C-1", "CLAIMED-1", 1, 1, "damaged", "money", item.cost, "GBP", "broken")
    first = supplier.claim(ask)
    assert first.state == "received" and supplier.claim(ask) == first
    calm.post("clock", jump_minutes=4 * 1440)
    assert supplier.find_claims(["C-1"])[0].state == "question"
    name = supplier.keep_evidence(png(), "image/png")
    assert supplier.claim(replace(ask, pictures=(name,))).state == "received"
    calm.post("clock", jump_minutes=4 * 1440)
    calm.post("clock", jump_minutes=1440)
    (paid,) = supplier.find_claims(["C-1", "C-9"])
    assert (paid.state, paid.amount, paid.currency) == ("paid", item.cost, "GBP")
    calm.dial("wholesale", "lost_answer", 1)
    with pytest.raises(Unavailable):
        link(calm, partner).claim(replace(ask, reference="C-2"))
    calm.dial("wholesale", "lost_answer", 0)
    for said in (
        {"claims": [{"number": "1", "reference": "C", "state": "perhaps"}]},
        {"claims": [{"number": "1", "reference": "C", "state": "paid", "amount": "-4", "currency": "GBP"}]},
    ):
        (unread,) = connect("supplier", "wholesale_api", "http://x", "k", 1, nonsense(said)).find_claims(["C"])
        assert (unread.reference, unread.state, unread.amount) == ("C", "", None) and unread.message


@pytest.mark.parametrize("partner", [one for one in STORES if one[2] != "craft"], ids=lambda one: one[0])
def test_a_store_tells_of_returns_and_is_answered_once(calm, partner):
    store, code = link(calm, partner), partner[2]
    assert isinstance(store, ReturnsLink)
    one = next(iter(store.listings())).listings[0]
    number = calm.post("buy", sku=one.sku, quantity=1, store=code)["number"]
    cursor = store.returns("").cursor
    asked = {calm.post("return", number=number, reason=reason)["number"]: reason for reason in ("damaged", "changed_mind", "missing")}
    page = store.returns(cursor)
    assert {row.number: row.reason for row in page.asked} == asked and not page.unreadable and not page.more
    first, second, third = sorted(asked)
    row = next(row for row in page.asked if row.number == first)
    assert (row.order, row.line, row.units, row.state) == (number, 1, 1, "asked") and row.answer_by > row.at and row.words
    taken = ReturnWord(first, "accepted", "OUR-R1", "Depot, 1 Quay, Hillport")
    for _ in range(2):
        store.answer_return(taken)
    with pytest.raises(Refused, match="already"):
        store.answer_return(ReturnWord(first, "refused", reason="no"))
    with pytest.raises(Refused, match="reason"):
        store.answer_return(ReturnWord(second, "refused"))
    store.answer_return(ReturnWord(second, "kept"))
    calm.post("clock", jump_minutes=4 * 24 * 60)
    told = {row.number: row for row in store.returns(page.cursor).asked}
    assert (told[first].state, told[second].state, told[third].state) == ("sent", "kept", "paid_back")
    assert told[first].tracking.number.startswith("SW") and 0 < told[third].paid_back <= one.price


def test_a_carrier_makes_a_label_once_and_it_is_found_again(calm):
    carrier = link(calm, POST)
    assert isinstance(carrier, LabelLink)
    ask = LabelAsk("SHOP-1-R1", BUYER, "Depot, 1 Quay, Hillport", 400)
    assert carrier.find_label("SHOP-1-R1") is None
    made = carrier.make_label(ask)
    assert made == carrier.make_label(ask) == carrier.find_label("SHOP-1-R1")
    assert made.pdf.startswith(b"%PDF-") and made.cost == 295 and made.currency == "GBP"
    assert carrier.make_label(LabelAsk("SHOP-1-R2", BUYER, "Depot, 1 Quay, Hillport", 2500)).cost == 760
    with pytest.raises(Refused):
        carrier.make_label(LabelAsk("SHOP-1-R3", BUYER, "Depot, 1 Quay, Hillport", 90_000))
    for _ in range(2):
        calm.post("clock", jump_minutes=3 * 24 * 60)
    assert carrier.track([made.number])[made.number][-1].kind == "delivered"
