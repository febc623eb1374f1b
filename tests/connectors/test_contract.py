"""One contract for all connectors, against the practice world over HTTP, with its faults on."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import pytest
from PIL import Image

from amber_lane.connectors import pop_mail
from amber_lane.connectors.claim_protocol import ClaimAsk, ClaimLink
from amber_lane.connectors.depot_protocol import CartonNotice, CountedLine, DepotLink, HoldAsk, LoadNotice
from amber_lane.connectors.errors import Denied, Malformed, OutsideError, RateLimited, Refused, Unavailable, UnknownOutcome
from amber_lane.connectors.kinds import KINDS, connect
from amber_lane.connectors.protocols import Address, ListingChange, ListingWords, Mail, Purchase, PurchaseItem, Tracking
from amber_lane.connectors.refund_line import RefundLine
from amber_lane.connectors.return_protocol import LabelAsk, LabelLink, ReturnsLink, ReturnWord
from amber_lane.connectors.wire import order_lines
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


@pytest.fixture
def calm(world) -> Iterator[Any]:
    world.calm()
    for name in ("fair_calls", "retail_calls"):
        world.post("facts", name=name, value=10_000)
    yield world
    world.calm()


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


def png() -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (300, 240), "navy").save(out, "PNG")
    return out.getvalue()


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


def test_mail_goes_once_and_can_be_asked_for(calm):
    address = f"smtp://127.0.0.1:{calm.mail_port}|{calm.address}/mail/api"
    mailbox = connect("mailbox", "smtp", address, "", 2)
    mailbox.send(Mail("m-1", "Shop <a@b.example>", "wren@post.example", "Grüße", "Line\n"))
    assert mailbox.find_mail("m-1") and not mailbox.find_mail("m-2")
    mailbox.send(Mail("m-3", "Shop <a@b.example>", "wren@post.example", "Order 1\nBcc: all@post.example", "Line\n"))
    (there,) = [one for one in calm.client.get("/mail/api/messages").json()["messages"] if one["reference"] == "m-3"]
    assert there["subject"] == "Order 1 Bcc: all@post.example" and there["to"] == "wren@post.example"
    for nobody in ("a@b.example, c@d.example", "", "wren", "a b@c@d"):
        with pytest.raises(Refused, match="not one mail address"):
            mailbox.send(Mail("m-4", "Shop <a@b.example>", nobody, "s", "b"))
    with pytest.raises(Unavailable):
        connect("mailbox", "smtp", "smtp://127.0.0.1:9", "", 1).send(Mail("m", "a@b.example", "c@d.example", "s", "b"))


@pytest.mark.parametrize(("kind", "beside"), [("pop", 1), ("imap", 2)])
def test_mail_that_came_is_read_again_and_again_and_nothing_is_deleted(calm, kind, beside):
    def box(key: str = "duskdial:practice-letters", port: int = calm.mail_port + beside):
        return connect("inbox", kind, f"{kind}://127.0.0.1:{port}", key, 2)

    had = set(box().account().there)
    for n in range(2):
        calm.post("mail", sender="Inès <Ines@Buying.example>", subject=f"Ré: {n}", text=".\nGrüße", files={"answers.csv": "a,b\n.1,ä\n"})
    link = box()
    with link.visit() as there:
        first, second = (uid for uid in there.uids() if uid not in had)
        letter = there.letter(first)
        assert there.letter(second).subject == "Ré: 1" and first in there.uids() and "gone" in there.letter("uid-0").fault
    assert (letter.sender, letter.subject, letter.text) == ("ines@buying.example", "Ré: 0", ".\nGrüße")
    assert [(name, data.decode().replace("\r", "")) for name, data in letter.files] == [("answers.csv", "a,b\n.1,ä\n")]
    with link.visit() as one, link.visit() as other:
        # Two threads may read the same mailbox; neither closes what the other reads from.
        assert one.uids() == other.uids() and one.letter(first) == other.letter(first)
        with link.visit() as third:
            assert third.letter(second).subject == "Ré: 1"
        assert one.letter(second) == other.letter(second) and one.letter(second).subject == "Ré: 1"
    for wrong in ("no", "größe"):
        with pytest.raises(Denied):
            box(f"duskdial:{wrong}").account()
    with pytest.raises(Unavailable):
        box(port=9).account()
    for address in ("http://mail.example", f"{kind}://mail.example:99999", f"{kind}://"):
        with pytest.raises(Refused, match="mailbox"):
            connect("inbox", kind, address, "", 1)
    for dial in ("errors", "malformed"):
        calm.dial("mail", dial, 1)
        with pytest.raises((Unavailable, Malformed)), link.visit() as there:
            there.letter(first)
        calm.dial("mail", dial, 0)


def nonsense(body: object, status: int = 200):
    """A partner that answers the same nonsense to everything."""
    return httpx.MockTransport(lambda request: httpx.Response(status, text=body if isinstance(body, str) else json.dumps(body)))


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


def test_a_mail_of_any_make_is_read_or_told():
    odd = b"From: \xff\xfe <a@b.example>\nSubject: =?utf-8?b?/w==?= \xe9\nDate: yesterday\nContent-Type: text/plain; charset=nowhere\n\n\xe9\x00end"
    for raw in (b"", b"\x00\xff", odd, b"From: @\nTo: <<>>\nContent-Type: multipart/mixed; boundary=x\n\n--x\nContent-Type: a/b/c\n\nq"):
        letter = pop_mail.read("u", raw)
        for text in (letter.sender, letter.subject, letter.text, letter.fault):
            assert "\x00" not in text and text == text.encode().decode()


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
