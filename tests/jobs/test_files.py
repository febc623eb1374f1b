"""Sheets that travel by themselves: ours put on a server once whatever dies, and theirs taken once, whole, and for their partner alone."""

from __future__ import annotations

import csv
import io
import os
import random
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from sqlalchemy import select

from amber_lane.connectors.errors import Unavailable
from amber_lane.connectors.file_servers import over_http, sftp
from amber_lane.connectors.inbox_protocol import IncomingMail
from amber_lane.data.books import Settlement, StatementRow
from amber_lane.data.files import FileCame, FileRule
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.outbox import Outbox, SheetOut
from amber_lane.data.setup import Inbox, Letter, Link, Origin, Service, Store, Supplier
from amber_lane.data.source import Item
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.delivery import sheet_export
from amber_lane.services.files import arrivals, rules
from amber_lane.services.inbound import mailbox
from amber_lane.services.mapping import lanes
from amber_lane.services.monitoring import catalogue_sheets
from amber_lane.services.partners import connections
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders
from amber_lane.sheets import mapped

from .. import file_servers
from ..business import Business
from ..file_servers import Served
from ..killing import survive, victim

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="servers that let users of this machine in are started by root")


@pytest.fixture(scope="module")
def machine() -> Iterator[None]:
    with file_servers.user():
        yield


@pytest.fixture(params=["webdav", "sftp"])
def server(machine: None, request: pytest.FixtureRequest) -> Iterator[Served]:
    with file_servers.SERVERS[request.param]() as one:
        yield one


def join(business: Business, server: Served) -> list[str]:
    """An office that works by sheets has the best lanes of four SKUs, and a server for them. Returns these, and one of the wholesaler's."""
    skus = [business.laned(n)[0] for n in range(5)]
    registry = business.app_state.connectors
    registry.deadline = 5.0
    with business.app_state.db.writing() as s:
        context = business.context(s)
        given = connections.Join("files", server.kind, "Shared files", server.address, server.key)
        connections.join_partner(context, registry, given, connections.ask_account(registry, given))
        s.add(Supplier(id=7, code="OFF", name="The office", kind="sheet", country="PT", currency="GBP"))
        s.flush()
        s.add(Origin(id=70, supplier_id=7, code="porto", name="Porto", country="PT", holidays=[]))
        s.flush()
        s.add(Service(origin_id=70, code="air", name="air", country="GB", first=10, following=0, days_low=1, days_high=1))
        for n, code in enumerate(skus[:4]):
            s.add(Item(id=9000 + n, supplier_id=7, origin_id=70, number=f"MB-{n}", title="Lantern", currency="GBP", cost=10, stock=90))
            s.flush()
            sku = s.scalars(select(Lane.sku_id).where(Lane.sku_code == code)).first()
            assert sku is not None
            lanes.open_lane(context, sku, [lanes.LaneItem(9000 + n, lanes.Fraction(1))], use=1)
        PolicyChange("house", "", {"send": "once"}).keep(context)
    return skus


def rule(business: Business, what: str, pattern: str, **more: object) -> int:
    with business.app_state.db.writing() as s:
        row = rules.add(business.context(s), rules.Said(1, "supplier", 7, what, what == "purchases", pattern, **more))  # type: ignore[arg-type]
        return row.id


def look(business: Business) -> list[FileCame]:
    """Two looks, between which what is whole has stood still; and what came is taken."""
    for _ in range(2):
        business.on(20)
        business.app_state.worker.look_at_files(1)
    business.app_state.worker.jobs.run_due()
    return business.all(select(FileCame).order_by(FileCame.id))


class Office:
    """Whoever works there: takes what lies there away at once, and answers each purchase order that it has not seen."""

    def __init__(self, server: Served) -> None:
        self.server, self.had, self.n = server, Counter[str](), 0

    def work(self) -> None:
        for name in self.server.names("orders"):
            if not name.endswith(".part"):
                rows = list(csv.DictReader(io.StringIO(self.server.content(f"orders/{name}").decode("utf-8-sig"))))
                self.server.remove(f"orders/{name}")
                self.had.update({row["purchase_order"] for row in rows})
                self.answer({row["purchase_order"] for row in rows})

    def answer(self, references: set[str]) -> None:
        self.n += 1
        lines = [f"{one},accepted,{n}.00" for n, one in enumerate(sorted(references), 1)]
        self.server.put(f"answers/a-{self.n:04}.csv", "\n".join(["purchase_order,answer,billed", *lines, ""]))


@pytest.fixture(params=["webdav", "sftp", "with faults"])
def any_server(machine: None, business: Business, request: pytest.FixtureRequest) -> Iterator[Served]:
    if request.param == "with faults":
        yield file_servers.Wharf("webdav", business.world)
        return
    with file_servers.SERVERS[request.param]() as one:
        yield one


def test_each_order_is_put_there_once_whatever_dies_and_however_soon_it_is_taken(business: Business, any_server: Served) -> None:
    server = any_server
    luck = random.Random(f"files-{server.kind}")
    skus = join(business, server)
    rule(business, "purchases", "orders/{year}{month}{day}-{number}.csv", minutes=1)
    rule(business, "answers", "answers/*.csv", newest=False, done_folder="answers/done", minutes=1)
    office, numbers, died = Office(server), [], 0
    if faults := isinstance(server, file_servers.Wharf):
        server.clear()
        business.app_state.connectors.deadline = 0.6
        business.app_state.connectors.forget()
        for dial, value in (("errors", 0.15), ("lost_answer", 0.15), ("malformed", 0.1), ("slow", 0.2)):
            business.world.dial("wharf", dial, value)
    for turn in range(14):
        numbers += [business.world.post("buy", sku=sku, quantity=1, country="GB")["number"] for sku in luck.sample(skus[:4], 1)]
        business.on(3)
        died += not victim(business, luck.randint(1, 60) if turn % 3 else luck.randint(10, 30))
        office.work()
        survive(business)
        office.work()
    business.world.calm()
    for _ in range(12 if faults else 8):
        business.on(5)
        survive(business)
        office.work()
    assert died >= 6
    bought = business.all(select(PurchaseOrder).where(PurchaseOrder.supplier_id == 7))
    orders = business.all(select(Order.id).where(Order.number.in_(numbers)))
    lines = business.all(select(OrderLine).where(OrderLine.order_id.in_(orders)))
    assert Counter(one.reference for one in bought) == office.had
    assert set(office.had.values()) == {1}
    assert {one.state for one in bought} == {"accepted"}
    assert Counter(one.state for one in lines) == {"with_supplier": len(numbers)}
    # All that they said was taken, and lies where what is done lies.
    assert server.names("answers") == []
    assert len(server.names("answers/done")) == office.n


def test_a_sheet_that_may_be_there_is_not_taken_back_and_one_that_is_not_can_be(business: Business, server: Served) -> None:
    skus = join(business, server)
    rule(business, "purchases", "orders/{number}.csv")
    (server.root / "orders").write_text("no folder")
    business.buy(sku=skus[0], quantity=1, country="GB")
    with business.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), list(s.scalars(select(Order.id))))
    worker = business.app_state.worker
    worker.send_files()
    business.settle()
    sheet = business.one(select(SheetOut))
    with business.app_state.db.writing() as s:
        assert "taken back" in sheet_export.take_back(business.context(s), sheet.id)
    business.settle()
    assert business.one(select(PurchaseOrder)).state == "waiting"
    # It waits again, and goes out by the same rule once the fault is mended.
    (server.root / "orders").unlink()
    business.on(20)
    worker.send_files()
    business.settle()
    (name,) = server.names("orders")
    with business.app_state.db.writing() as s, pytest.raises(Conflict, match="on their server"):
        sheet_export.take_back(business.context(s), business.all(select(SheetOut))[-1].id)
    assert business.one(select(PurchaseOrder)).reference in (server.root / "orders" / name).read_text()


def test_only_the_newest_counts_and_what_is_still_written_is_left_alone(business: Business, server: Served) -> None:
    join(business, server)
    rule(business, "stock", "stock-{year}{month}{day}.csv", done_folder="done")
    server.put("stock-20260312.csv", "item,stock\nMB-0,")
    business.on(20)
    business.app_state.worker.look_at_files(1)
    server.put("stock-20260312.csv", "item,stock\nMB-0,11\nMB-1,12\nXX-9,1\n")
    server.put("stock-20260311.csv", "item,stock\nMB-0,77\n")
    business.on(20)
    business.app_state.worker.look_at_files(1)
    assert {one.state for one in business.all(select(FileCame))} <= {"seen", "passed"}
    waits = business.one(select(FileCame).where(FileCame.path == "stock-20260311.csv"))
    assert (waits.state, waits.message) == ("seen", "waits for a newer one")
    came = look(business)
    assert {(one.path, one.state) for one in came} == {("stock-20260312.csv", "taken"), ("stock-20260311.csv", "passed")}
    taken = next(one for one in came if one.state == "taken")
    assert (taken.bad, taken.needs) == (1, True)
    stock = {one.number: one.stock for one in business.all(select(Item).where(Item.supplier_id == 7))}
    assert (stock["MB-0"], stock["MB-1"], stock["MB-2"]) == (11, 12, 90)
    # Once the newest is moved away the older one is no newest, now or later.
    look(business)
    assert server.names("done") == ["stock-20260312.csv"]
    assert business.one(select(Item.stock).where(Item.number == "MB-0")) == 11
    with business.app_state.db.reading() as s:
        (alert,) = [one for one in today.singles(business.context(s)) if one.key.kind == "file"]
    assert "stock-20260312.csv was not taken as a whole" in alert.message
    # A newer one takes its place, and its trouble with it.
    server.put("stock-20260313.csv", "item,stock\nMB-0,5\n")
    business.on(60 * 24)
    came = look(business)
    assert [(one.path, one.needs) for one in came if one.state == "taken"] == [("stock-20260312.csv", False), ("stock-20260313.csv", False)]
    # What is taken away before it was fetched is not said to be on its way for ever.
    # Nor is what comes back under its name taken for it, though it looks the same: it may be written just now.
    said = []
    for there in (True, False, True):
        if there:
            os.utime(server.put("stock-20260314.csv", "item,stock\nMB-0,"), (1_773_000_000, 1_773_000_000))
        else:
            server.remove("stock-20260314.csv")
        business.on(20)
        business.app_state.worker.look_at_files(1)
        said.append(business.one(select(FileCame.message).where(FileCame.path == "stock-20260314.csv")))
    assert said == ["it may still grow", "it was not fetched", "it may still grow"]


def test_nothing_is_put_behind_a_piece_of_another_file(business: Business, server: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    join(business, server)
    rule(business, "stock", "stock.csv")

    def breaks(into: Path, part: bytes) -> None:
        into.write_bytes(part[:18])
        raise Unavailable("the line broke")

    def put_and_look(stock: int) -> int:
        path = server.put("stock.csv", f"item,stock\nMB-0,{stock}\nMB-1,{stock}\n")
        os.utime(path, (1_773_000_000 + stock, 1_773_000_000 + stock))
        business.on(20)
        business.app_state.worker.look_at_files(1)
        return business.one(select(FileCame.id))

    first = put_and_look(11)
    with monkeypatch.context() as cut:
        for module in (over_http, sftp):
            cut.setattr(module, "went_on", breaks)
        business.on(20)
        with suppress(Unavailable):
            business.app_state.worker.look_at_files(1)
    assert [one.read_bytes()[-2:] for one in (business.folder / "sheets").glob("*.part")] == [b"11"]
    # The next content has the number of the one before: this is what could put the one behind the other.
    assert put_and_look(22) == first
    business.on(20)
    assert [one.state for one in look(business)] == ["taken"]
    stocks = business.all(select(Item.stock).where(Item.number.in_(("MB-0", "MB-1"))))
    assert stocks == [22, 22]


def test_files_are_taken_for_their_partner_alone_and_wrong_ones_wait_for_a_person(business: Business, server: Served) -> None:
    skus = join(business, server)
    rule(business, "statements", "bills/*.csv", newest=False, marker=".ok")
    rule(business, "tracking", "tracking.csv")
    number = business.buy(sku=skus[4], quantity=1, country="GB")
    with business.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), list(s.scalars(select(Order.id).where(Order.number == number))))
    business.settle()
    others = business.one(select(PurchaseOrder).where(PurchaseOrder.supplier_id == 1)).reference
    server.put("tracking.csv", f"purchase_order,tracking_number,carrier\n{others},SW000012349GB,Swiftwing Post\n")
    head = "supplier,purchase_order,kind,amount,currency,at\n"
    server.put("bills/1.csv", f"{head}Northlight Trade,{others},goods,3.00,GBP,2026-03-12\n")
    server.put("bills/2.csv", "what,is,this\n1,2,3\n")
    came = look(business)
    assert [(one.path, one.state, one.bad) for one in came] == [("tracking.csv", "taken", 1)]
    for name in ("1", "2"):
        server.put(f"bills/{name}.csv.ok", "")
    states = {one.path: one for one in look(business)}
    assert (states["bills/1.csv"].state, states["bills/1.csv"].bad) == ("taken", 1)
    assert (states["bills/2.csv"].state, states["bills/2.csv"].needs) == ("wrong", True)
    assert "purchase_order" in states["bills/2.csv"].message
    assert business.all(select(StatementRow)) == []
    # What a person takes again, or leaves so, is not asked about any more.
    with business.app_state.db.writing() as s:
        arrivals.again(business.context(s), states["bills/1.csv"].id, business.folder / "sheets")
        arrivals.close(business.context(s), states["bills/2.csv"].id)
    business.app_state.worker.jobs.run_due()
    assert {one.path: one.state for one in business.all(select(FileCame))}["bills/2.csv"] == "closed"


def test_what_lay_there_before_is_left_where_a_person_said_so(business: Business, server: Served) -> None:
    join(business, server)
    server.put("s-1.csv", "item,stock\nMB-0,1\n")
    with business.app_state.db.writing() as s:
        rules.add(business.context(s), rules.Said(1, "supplier", 7, "stock", False, "s-*.csv", newest=False), leave_old=True)
    assert [one.state for one in look(business)] == ["passed"]
    server.put("s-2.csv", "item,stock\nMB-0,2\n")
    assert [one.state for one in look(business)] == ["passed", "taken"]
    assert business.one(select(Item.stock).where(Item.number == "MB-0")) == 2


def response(reference: str) -> str:
    """An OrderResponse of UBL 2.1 that accepts a purchase order."""
    urn = "urn:oasis:names:specification:ubl:schema:xsd:"
    return (
        f'<OrderResponse xmlns="{urn}OrderResponse-2" xmlns:cac="{urn}CommonAggregateComponents-2" xmlns:cbc="{urn}CommonBasicComponents-2">'
        "<cbc:ID>MB-1</cbc:ID><cbc:IssueDate>2026-03-12</cbc:IssueDate><cbc:OrderResponseCode>AP</cbc:OrderResponseCode>"
        f"<cac:OrderReference><cbc:ID>{reference}</cbc:ID></cac:OrderReference><cac:SellerSupplierParty/><cac:BuyerCustomerParty/>"
        "</OrderResponse>"
    )


def test_purchase_orders_go_as_documents_and_their_answers_come_as_such(business: Business, one_server: Served) -> None:
    skus = join(business, one_server)
    one_server.clear()
    rule(business, "purchases", "out/{purchase}.xml", each=True)
    rule(business, "answers", "in/*.xml", newest=False)
    numbers = [business.buy(sku=sku, quantity=2, country="GB") for sku in skus[:2]]
    with business.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), list(s.scalars(select(Order.id).where(Order.number.in_(numbers)))))
    business.app_state.worker.send_files()
    business.settle()
    bought = business.all(select(PurchaseOrder).order_by(PurchaseOrder.id))
    assert one_server.names("out") == sorted(f"{one.reference}.xml" for one in bought)
    order = one_server.content(f"out/{bought[0].reference}.xml").decode()
    assert "<Order" in order and bought[0].reference in order
    one_server.put("in/a.xml", response(bought[0].reference))
    one_server.put("in/b.xml", "<not><closed>")
    states = {one.path: (one.state, one.message) for one in look(business)}
    assert states["in/a.xml"] == ("taken", "1 answer taken"), states
    assert states["in/b.xml"][0] == "wrong"
    assert [one.state for one in business.all(select(PurchaseOrder).order_by(PurchaseOrder.id))] == ["accepted", "sent"]


def test_a_stores_orders_listings_and_settlements_come_as_files(business: Business, one_server: Served) -> None:
    skus = join(business, one_server)
    one_server.clear()
    with business.app_state.db.writing() as s:
        s.add(Store(id=5, code="HAND", name="Stall by hand", kind="sheet", country="GB", currency="GBP"))
    for what, pattern in (("listings", "l.csv"), ("orders", "o-*.csv"), ("settlements", "s-*.csv")):
        with business.app_state.db.writing() as s:
            rules.add(business.context(s), rules.Said(1, "store", 5, what, False, pattern, newest=what == "listings"))
    one_server.put("l.csv", f"sku,title,price,quantity\n{skus[0]},Red lamp,9.95,3\n")
    look(business)
    head = "order_no,sku,quantity,name,address_1,city,postcode,country"
    one_server.put("o-1.csv", f"{head}\n77,{skus[0]},1,Wren Sorrel,4 Lantern Row,Whitby,YO21 3PR,GB\n")
    one_server.put("o-2.csv", f"store,{head}\nDusk & Dial shop,78,{skus[0]},1,Wren Sorrel,4 Lantern Row,Whitby,YO21 3PR,GB\n")
    look(business)
    one_server.put("s-1.csv", "settlement,kind,amount,currency,at,order_no\nP-1,sale,9.95,GBP,2026-03-12,77\n")
    came = {one.path: (one.state, one.bad, one.message) for one in look(business)}
    assert {path: state[:2] for path, state in came.items()} == {
        "l.csv": ("taken", 0), "o-1.csv": ("taken", 0), "o-2.csv": ("taken", 1), "s-1.csv": ("taken", 0),
    }, came  # fmt: skip
    assert business.all(select(Order.number).where(Order.store_id == 5)) == ["77"]
    assert business.one(select(Settlement)).store_id == 5


def test_a_catalogue_comes_as_a_file_of_its_own_age_and_zeros_do_not_fool_it(business: Business, one_server: Served) -> None:
    join(business, one_server)
    one_server.clear()
    rows = [f"MB-{n},Lantern {n},{n + 10}.50,{n + 5}" for n in range(30)]
    with business.app_state.db.writing() as s:
        sheet = "\n".join(["Code,Name,Price,Available", *rows, ""])
        catalogue_sheets.keep_reading(business.context(s), 7, mapped.look(sheet.encode()).reading, whole=True)
    rule(business, "catalogue", "all-{year}{month}{day}.csv")
    one_server.put("all-20260311.csv", sheet)
    assert [one.state for one in look(business)] == ["taken"]
    assert len(business.all(select(Item).where(Item.supplier_id == 7))) == 30
    one_server.put("all-20260312.csv", "\n".join(["Code,Name,Price,Available", *(row.rpartition(",")[0] + ",0" for row in rows), ""]))
    came = look(business)
    assert "held" in came[-1].message
    assert {one.stock for one in business.all(select(Item).where(Item.supplier_id == 7))} != {0}


def test_a_suppliers_stock_comes_with_its_mail(business: Business, one_server: Served) -> None:
    join(business, one_server)
    with business.app_state.db.writing() as s:
        context = business.context(s)
        s.add(Inbox(id=1, name="Answers", kind="pop", begun=True, trusts="mx.example"))
        s.get(Supplier, 7).mail = "stock@office.example"
        s.flush()
        rules.add(context, rules.Said(0, "supplier", 7, "stock", False, "stock*.csv"))

    def mail(uid: str, sheet: str, proven: bool = True) -> Letter:
        vouched = (("mx.example", "office.example"),) if proven else ()
        came = IncomingMail(uid, None, "stock@office.example", "Stock", "", files=(("Stock today.csv", sheet.encode()),), vouched=vouched)
        with business.app_state.db.writing() as s:
            return mailbox.receive(business.context(s), 1, mailbox.opened(came), business.folder / "sheets")

    assert "is taken as stock and cost" in mail("1", "item,stock\nMB-0,17\n").message
    business.app_state.worker.jobs.run_due()
    assert business.one(select(Item.stock).where(Item.number == "MB-0")) == 17
    assert "came before" in mail("3", "item,stock\nMB-0,17\n").message
    assert mail("2", "item,stock\nMB-0,0\n", proven=False).held
    business.app_state.worker.jobs.run_due()
    assert business.one(select(Item.stock).where(Item.number == "MB-0")) == 17
    assert [one.state for one in business.all(select(FileCame))] == ["taken"]


@pytest.fixture(scope="module")
def one_server(machine: None) -> Iterator[Served]:
    with file_servers.webdav() as one:
        yield one


def test_a_rule_that_would_do_harm_is_refused(business: Business, one_server: Served) -> None:
    join(business, one_server)
    rule(business, "purchases", "orders/{number}.csv")
    wrong: list[tuple[type[Exception], Callable[[], rules.Said]]] = [
        (Conflict, lambda: rules.Said(1, "supplier", 7, "purchases", True, "other/{number}.csv")),
        (Invalid, lambda: rules.Said(1, "supplier", 7, "purchases", True, "orders.csv")),
        (Invalid, lambda: rules.Said(1, "supplier", 1, "purchases", True, "o-{number}.csv")),
        (Invalid, lambda: rules.Said(1, "supplier", 1, "stock", False, "stock.csv")),
        (Invalid, lambda: rules.Said(1, "supplier", 7, "orders", False, "orders.csv")),
        (Invalid, lambda: rules.Said(1, "supplier", 7, "catalogue", False, "all.csv")),
        (Invalid, lambda: rules.Said(1, "supplier", 7, "stock", False, "../../x.csv")),
        (Invalid, lambda: rules.Said(0, "supplier", 7, "stock", False, "stock.csv")),
        (Conflict, lambda: rules.Said(1, "supplier", 7, "answers", False, "orders/*.csv")),
        (Invalid, lambda: rules.Said(1, "store", 1, "orders", False, "orders.csv")),
    ]
    for kind, said in wrong:
        with business.app_state.db.writing() as s, pytest.raises(kind):
            rules.add(business.context(s), said())
    assert len(business.all(select(FileRule))) == 1


def test_a_server_that_is_away_is_told_and_holds_up_nothing(business: Business, one_server: Served) -> None:
    skus = join(business, one_server)
    rule(business, "purchases", "away/{number}.csv")
    with business.app_state.db.writing() as s:
        s.scalars(select(Link).where(Link.owner == "files")).one().address = f"http://127.0.0.1:{file_servers.free_port()}"
    numbers = [business.buy(sku=sku, quantity=1, country="GB") for sku in (skus[0], skus[4])]
    with business.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), list(s.scalars(select(Order.id).where(Order.number.in_(numbers)))))
    business.app_state.worker.send_files()
    business.settle()
    assert business.one(select(Outbox).where(Outbox.kind == "file")).state == "waiting"
    assert business.one(select(PurchaseOrder).where(PurchaseOrder.supplier_id == 1)).state != "waiting"
    assert "cannot be reached" in business.one(select(Link).where(Link.owner == "files")).message
    with business.app_state.db.writing() as s:
        s.scalars(select(Link).where(Link.owner == "files")).one().address = one_server.address
    for _ in range(4):
        business.on(10)
        business.settle()
    assert len(one_server.names("away")) == 1
