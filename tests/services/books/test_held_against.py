"""What stores paid out and suppliers billed, held against what was expected: by sheet, as a store tells it, twice, wrong, late."""

from __future__ import annotations

from datetime import timedelta
from fractions import Fraction

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import SettlementLine, SettlementPage
from amber_lane.data.books import JournalEntry, Settlement, SettlementRow, StatementRow
from amber_lane.data.orders import Order, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Origin, Service, Store, Supplier
from amber_lane.data.shelf import Sku
from amber_lane.data.source import Item
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today, weekly_mail
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.books import partners_compared, profit, ranking, settlements, sheets_out, statements, steps_worth
from amber_lane.services.books.grouping import Period
from amber_lane.services.books.profit import View
from amber_lane.services.mapping import lanes
from amber_lane.services.purchasing import purchase_orders

from ...small import START, Small
from .journal import is_whole, writes_nothing

TODAY = START.date()
THIS = Period(TODAY - timedelta(days=27), TODAY + timedelta(days=20))
SETTLED = "store,settlement,order_no,kind,amount,currency,at\n"
STATED = "supplier,purchase_order,kind,amount,currency,at\n"


@pytest.fixture
def sold(small: Small) -> Small:
    """Two orders, bought: A of 20.00 and 15.00, B of 10.00; the store's fee is a tenth."""
    small.order("A", ("S-1", 2, 1000), ("S-2", 1, 1500))
    small.order("B", ("S-1", 1, 1000))
    small.write(lambda context: purchase_orders.send(context, context.session.scalars(select(Order.id))))
    return small


def total(small: Small) -> dict[str, int]:
    with small.db.reading() as s:
        return dict(profit.table(small.context(s), View("order", THIS, THIS.before())).total.now.of)


def kinds(small: Small) -> list[str]:
    with small.db.reading() as s:
        return [one.key.kind for one in today.singles(small.context(s)) if one.station == "books"]


def purchases(small: Small) -> list[PurchaseOrder]:
    return small.all(select(PurchaseOrder).order_by(PurchaseOrder.id))


def test_a_payout_as_expected_changes_no_profit_and_clears_what_the_store_owes(sold: Small) -> None:
    was = total(sold)
    rows = "One,P-1,A,sale,35.00,GBP,2026-03-12\nOne,P-1,A,fee,-3.50,GBP,2026-03-12\nOne,P-1,B,sale,10,GBP,2026-03-12\n"
    sheet = SETTLED + (rows + "One,P-1,B,fee,1.00,GBP,2026-03-12\nOne,P-1,,payout,40.50,GBP,2026-03-12 09:00\n").replace(
        "One", "First shop"
    )
    checked = sold.sheet("settlements", sheet)
    assert checked.counts["new"] == 5 and not checked.bad
    assert total(sold) == was
    with sold.db.reading() as s:
        context = sold.context(s)
        assert settlements.balance(context) == []
        (one,) = settlements.overview(context)
        assert (one.sum, one.paid, one.gap, one.lost, one.differs) == (4050, 4050, 0, 0, 0)
        is_whole(context)
    # The same sheet again changes nothing.
    again = sold.sheet("settlements", sheet)
    assert again.counts["same"] == 5 and len(sold.all(select(SettlementRow))) == 4
    assert sold.write(writes_nothing) and kinds(sold) == []


def test_a_page_that_cannot_be_read_whole_is_asked_for_again_and_nothing_is_taken_twice(sold: Small) -> None:
    def page(context, cursor: str, bad: list[str], whole: bool) -> str | None:
        store = context.session.get(Store, 1)
        line = SettlementLine(f"P-{cursor}", "1", "A", "sale", 3500, context.now)
        settlements.take_page(context, store, SettlementPage([line], cursor, False, bad), whole)
        return store.settled_cursor

    assert sold.write(lambda context: page(context, "1", [], True)) == "1"
    assert sold.write(lambda context: page(context, "2", ["P-2: no"], True)) == "1"
    assert sold.write(lambda context: page(context, "3", [], False)) == "1", "what came after it is taken all the same"
    assert sold.write(lambda context: page(context, "2", [], True)) == "2"
    assert len(sold.all(select(SettlementRow))) == 3


def test_a_credit_in_a_statement_is_never_a_charge(sold: Small) -> None:
    one = purchases(sold)[0]
    checked = sold.sheet("statements", STATED + f"Supply House,{one.reference},goods,-2.00,GBP,2026-03-12\n")
    assert "refund or rebate" in checked.bad[0][1] and not sold.all(select(StatementRow))


def test_a_fee_that_is_not_what_was_set_is_in_the_profit_with_its_reason(sold: Small) -> None:
    was = total(sold)
    checked = sold.sheet("settlements", SETTLED + "First shop,P-1,A,fee,4.20,GBP,2026-03-12\n")
    assert not checked.bad
    now = total(sold)
    assert (now["fees"], now["profit"], now["planned"]) == (was["fees"] - 70, was["profit"] - 70, was["planned"])
    rows = sold.all(select(JournalEntry).where(JournalEntry.basis == "fee"))
    # Shared out over its lines by what was paid for them: 40 and 30 of 70.
    assert [(row.kind, row.home) for row in rows] == [("store_fee", -40), ("store_fee", -30)]
    assert sold.write(writes_nothing)


def test_what_does_not_belong_here_or_does_not_add_up_asks_for_a_person(sold: Small) -> None:
    lines = "First shop,P-1,NOBODY,sale,12.00,GBP,2026-03-12\nFirst shop,P-1,A,sale,35,GBP,2026-03-12\nFirst shop,P-1,,payout,40.00,GBP,2026-03-12\n"
    sold.sheet("settlements", SETTLED + lines)
    assert kinds(sold) == ["settlement"]
    with sold.db.reading() as s:
        context = sold.context(s)
        (one,) = settlements.overview(context)
        assert (one.lost, one.lost_sum, one.gap) == (1, 1200, -700)
        assert settlements.told(context, one) == "£7.00 less was paid out than its rows say; 1 row of £12.00 belong to no order here"
    number = sold.all(select(Settlement.id))[0]
    sold.write(lambda context: settlements.accept(context, number))
    assert kinds(sold) == []
    with pytest.raises(Conflict):
        sold.write(lambda context: settlements.accept(context, number))
    sold.write(lambda context: undo.undo(context, sold.act("settlement.accept").id))
    assert kinds(sold) == ["settlement"]
    # Its order comes later: the row finds it by itself.
    order = sold.order("NOBODY", ("S-1", 1, 1200))
    assert sold.all(select(SettlementRow.order_id).where(SettlementRow.order_no == "NOBODY")) == [order.id]


def test_rows_that_cannot_be_read_are_handed_back_with_their_reason(sold: Small) -> None:
    rows = ["First shop,P-1,A,gift,1,GBP,2026-03-12", "First shop,P-1,A,fee,x,GBP,2026-03-12", "First shop,P-1,A,fee,1,EUR,2026-03-12",
            "First shop,P-1,,fee,1,GBP,2026-03-12", "Nowhere,P-1,A,fee,1,GBP,2026-03-12", "First shop,P-1,A,fee,1,GBP,soon"]  # fmt: skip
    checked = sold.sheet("settlements", SETTLED + "\n".join(rows))
    said = " ".join(reason for _, reason in checked.bad)
    assert checked.counts["bad"] == 6 and all(word in said for word in ("kind", "amount", "currency", "order_no", "Nowhere", "at:"))


def test_a_store_that_takes_more_than_is_set_is_told_with_what_it_costs(small: Small) -> None:
    def prepare(context) -> None:
        context.session.get(Sku, 1).category = "warmth"

    small.write(prepare)
    numbers = [small.order(f"W{n}", ("S-1", 1, 2000)).id for n in range(6)]
    small.write(lambda context: purchase_orders.send(context, numbers))
    small.later(days=3)
    lines = [SettlementLine("P-1", str(n), f"W{n}", "fee", -240, small.clock.now()) for n in range(6)]
    small.write(lambda context: settlements.take(context, context.session.get(Store, 1), lines))
    with small.db.reading() as s:
        (one,) = settlements.fees_differ(small.context(s))
    assert (one.category, one.set_ppm, one.real_ppm, one.orders, one.a_day) == ("warmth", 100_000, 120_000, 6, 80)
    assert "fees" in kinds(small)


def test_a_statement_as_ordered_is_quiet_and_what_is_odd_waits_with_its_step(sold: Small) -> None:
    one, two = purchases(sold)
    was = total(sold)
    whole = one.goods + one.shipping + one.handling
    rows = f"Supply House,{one.reference},goods,{one.goods / 100},GBP,2026-03-12\n"
    rows += f"Supply House,{one.reference},shipping,{one.shipping / 100},GBP,2026-03-12\n"
    rows += f"Supply House,{one.reference},handling,{one.handling / 100},GBP,2026-03-12\n"
    sold.sheet("statements", STATED + rows)
    assert total(sold) == was and kinds(sold) == []
    more = f"Supply House,{two.reference},goods,9.99,GBP,2026-03-12\nSupply House,X-1,goods,5.00,GBP,2026-03-12\n"
    sold.sheet("statements", STATED + rows + more)
    assert len(sold.all(select(StatementRow))) == 5, "what was known already is there once"
    with sold.db.reading() as s:
        found = {odd.reference: odd for odd in statements.odd(sold.context(s))}
    planned = two.goods + two.shipping + two.handling
    assert {ref: (odd.what, odd.more) for ref, odd in found.items()} == {two.reference: ("higher", 999 - planned), "X-1": ("unknown", 500)}
    assert total(sold)["profit"] == was["profit"] - (999 - planned)
    with pytest.raises(Conflict, match="mail address"):
        sold.write(lambda context: statements.claim(context, 1, two.reference))
    sold.write(lambda context: setattr(context.session.get(Supplier, 1), "mail", "desk@supply.example"))
    sold.write(lambda context: statements.claim(context, 1, two.reference))
    assert [row.key for row in sold.all(select(Outbox).where(Outbox.kind == "mail")) if "statement" in row.key] == [
        f"statement-1-{two.reference}"
    ]
    with pytest.raises(Conflict, match="asked for it already"):
        sold.write(lambda context: statements.claim(context, 1, two.reference))
    sold.write(lambda context: statements.accept(context, 1, "X-1"))
    assert kinds(sold) == []
    sold.write(lambda context: undo.undo(context, sold.act("statement.accept").id))
    assert kinds(sold) == ["statement"]
    assert whole and sold.write(writes_nothing)


def test_a_purchase_that_is_billed_twice_or_was_refused_is_told(sold: Small) -> None:
    one, two = purchases(sold)
    whole = (one.goods + one.shipping + one.handling) / 100
    sold.sheet(
        "statements",
        STATED + f"Supply House,{one.reference},goods,{whole},GBP,2026-03-12\nSupply House,{one.reference},goods,{whole},GBP,2026-03-12\n",
    )
    sold.write(lambda context: purchase_orders.take_back(context, [two.reference]))
    sold.sheet("statements", STATED + f"Supply House,{two.reference},goods,3.10,GBP,2026-03-12\n")
    with sold.db.reading() as s:
        found = {odd.reference: odd.what for odd in statements.odd(sold.context(s))}
    assert found == {one.reference: "double", two.reference: "not_bought"}


def test_a_refund_and_a_rebate_of_a_supplier_are_gains_of_their_own(sold: Small) -> None:
    one = purchases(sold)[0]
    was = total(sold)["profit"]
    sold.sheet(
        "statements",
        STATED + f"Supply House,{one.reference},refund,1.20,GBP,2026-03-12\nSupply House,2026 rebate,rebate,3.00,GBP,2026-03-12\n",
    )
    now = total(sold)
    assert (now["claims"], now["profit"]) == (420, was + 420)
    assert sold.write(writes_nothing)


def test_sending_that_is_billed_by_another_weight_band_says_so(sold: Small) -> None:
    one = purchases(sold)[0]
    units = sum(sold.all(select(PurchaseLine.quantity).where(PurchaseLine.purchase_id == one.id)))

    def bands(context: Context) -> None:
        for service in context.session.scalars(select(Service)):
            service.weight_bands = [[500, one.shipping, 0], [2000, 420, 10]]

    sold.write(bands)
    heavier = (420 + 10 * (units - 1)) / 100
    sold.sheet("statements", STATED + f"Supply House,{one.reference},shipping,{heavier:.2f},GBP,2026-03-12\n")
    reasons = {(row.kind, row.basis): row.home for row in sold.all(select(JournalEntry).where(JournalEntry.basis != "planned"))}
    assert set(reasons) >= {("shipping", "weight")} and ("shipping", "statement") not in reasons
    assert sold.write(writes_nothing)


def test_what_a_step_would_bring_is_told_before_it_is_taken(small: Small) -> None:
    small.clock.set(START - timedelta(days=5), 0)
    some = [small.order(f"N{n}", ("S-2", 1, 1500)).id for n in range(18)]
    small.write(lambda context: purchase_orders.send(context, some))
    small.clock.set(START, 0)
    with small.db.reading() as s:
        pace = next(one.pace for one in ranking.ranked(small.context(s)) if one.code == "S-2")
        worth = steps_worth.steps_worth(small.context(s), 2)
    down, now, up, _ = worth.prices
    listing = small.listing(2)
    assert (now.price, now.unit, now.sales, now.a_day) == (listing.wanted_price, listing.profit, 1_000_000, 0)
    assert down.unit < now.unit < up.unit and up.sales and down.sales and up.sales < 1_000_000 < down.sales
    assert up.a_day == round((up.unit - now.unit) * pace) > 0 > down.a_day
    assert worth.lanes[0].priority == 0 and worth.lanes[0].unit == 0


def test_sheets_out_sum_to_the_books(sold: Small) -> None:
    with sold.db.reading() as s:
        context = sold.context(s)
        rows = list(sheets_out.book_rows(context, THIS))
        taxes = sheets_out.tax_rows(context, THIS)
    assert sum(round(float(row[18]) * 100) for row in rows) == total(sold)["profit"]
    for row in rows:
        assert round(sum(float(cell) for cell in row[5:18]), 2) == float(row[18]), "each row adds up"
    assert [row[:4] for row in taxes] == [["GB", "First shop", "0", "we"]] and float(taxes[0][5]) == 45.0


def test_what_to_do_more_of_tells_a_rising_and_a_losing_sku(small: Small) -> None:
    small.clock.set(START - timedelta(days=45), 0)
    old = [small.order(f"O{n}", ("S-2", 1, 1500)).id for n in range(2)]
    small.write(lambda context: purchase_orders.send(context, old))
    small.clock.set(START - timedelta(days=5), 0)
    new = [small.order(f"N{n}", ("S-2", 1, 1500)).id for n in range(18)]
    loses = [small.order(f"L{n}", ("S-6", 1, 500)).id for n in range(3)]
    small.write(lambda context: [setattr(context.session.get(Order, n), "allowed", ["loss", "least_profit"]) for n in loses])
    small.write(lambda context: context.reroute())
    small.write(lambda context: purchase_orders.send(context, [*new, *loses]))
    small.clock.set(START, 0)
    with small.db.reading() as s:
        found = {one.code: one for one in ranking.ranked(small.context(s))}
    assert found["S-2"].group == "rising" and found["S-2"].chance > 0.9 and found["S-2"].units == 20
    assert abs(found["S-2"].a_day - found["S-2"].pace * found["S-2"].unit) < 1 and found["S-2"].unit > 0
    assert found["S-3"].group == "never_sold"
    assert (found["S-6"].group, found["S-6"].cause) == ("loses", "it is sold for less than it costs")


def invoice(reference: str, goods: str, sending: str = "1.80", asked: str = "", kind: str = "380", currency: str = "GBP") -> bytes:
    """A supplier's bill over one order, as UBL."""
    money = f'currencyID="{currency}"'
    party = "<cac:Party><cac:PartyName><cbc:Name>Supply House</cbc:Name></cac:PartyName></cac:Party>"
    return f"""<?xml version="1.0"?>
<Invoice xmlns="urn:oasis:names:specification:ubl:schema:xsd:Invoice-2"
  xmlns:cac="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
  xmlns:cbc="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2">
  <cbc:ID>R-77</cbc:ID><cbc:IssueDate>2026-03-12</cbc:IssueDate><cbc:InvoiceTypeCode>{kind}</cbc:InvoiceTypeCode>
  <cac:OrderReference><cbc:ID>{reference}</cbc:ID></cac:OrderReference>
  <cac:AccountingSupplierParty>{party}</cac:AccountingSupplierParty>
  <cac:AccountingCustomerParty>{party}</cac:AccountingCustomerParty>
  <cac:AllowanceCharge><cbc:ChargeIndicator>true</cbc:ChargeIndicator><cbc:AllowanceChargeReason>Freight</cbc:AllowanceChargeReason>
    <cbc:Amount {money}>{sending}</cbc:Amount></cac:AllowanceCharge>
  <cac:LegalMonetaryTotal><cbc:PayableAmount {money}>{asked or f"{float(goods) + float(sending):.2f}"}</cbc:PayableAmount></cac:LegalMonetaryTotal>
  <cac:InvoiceLine><cbc:ID>1</cbc:ID><cbc:LineExtensionAmount {money}>{goods}</cbc:LineExtensionAmount>
    <cac:Item><cbc:Name>Thing</cbc:Name></cac:Item></cac:InvoiceLine>
</Invoice>""".encode()


def test_an_invoice_is_held_against_its_order_as_a_statement_is(sold: Small) -> None:
    one = purchases(sold)[0]
    was, planned = total(sold)["profit"], one.goods + one.shipping + one.handling
    data = invoice(one.reference, "9.00")
    told = sold.write(lambda context: statements.take_invoice(context, statements.read_invoice(data)))
    assert told == "Invoice R-77 of Supply House over £10.80 taken"
    assert total(sold)["profit"] == was - (1080 - planned)
    rows = {row.kind: row.amount for row in sold.all(select(StatementRow))}
    assert rows == {"goods": 900, "shipping": 180}
    assert "nothing changed" in sold.write(lambda context: statements.take_invoice(context, statements.read_invoice(data)))
    assert len(sold.all(select(StatementRow))) == 2 and kinds(sold) == ["statement"]


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"<Invoice/>", "not an Invoice"),
        (b"no xml", "not XML"),
        (invoice("A", "9.00", asked="11.00"), "add up to 10.80"),
        (invoice("A", "9.00", kind="381"), "380"),
        (invoice("A", "nine", asked="1.00"), "no valid Invoice"),
        (invoice("A", "9.00").replace(b"<cbc:IssueDate>2026-03-12</cbc:IssueDate>", b""), "no valid Invoice"),
    ],
)
def test_an_invoice_that_cannot_be_read_says_why_and_changes_nothing(data: bytes, says: str) -> None:
    with pytest.raises(Invalid, match=says):
        statements.read_invoice(data)


def test_an_invoice_of_orders_that_are_not_ours_is_refused(sold: Small) -> None:
    with pytest.raises(Invalid, match="none of the orders"):
        sold.write(lambda context: statements.take_invoice(context, statements.read_invoice(invoice("NOT-OURS", "9.00"))))


def test_the_weekly_mail_says_what_the_books_say_and_goes_once(sold: Small) -> None:
    with pytest.raises(Invalid, match="not a mail address"):
        sold.write(lambda context: weekly_mail.save(context, weekly_mail.WeeklyMail(("nobody",), 0)))
    sold.write(lambda context: weekly_mail.save(context, weekly_mail.WeeklyMail(("Desk@shop.example", "b@shop.example"), 0)))
    assert sold.write(weekly_mail.send_due) == 0, "it is a Thursday"
    sold.clock.set(START + timedelta(days=4), 0)
    assert sold.write(weekly_mail.send_due) == 2 and sold.write(weekly_mail.send_due) == 0
    mails = [payload.body for payload in sold.all(select(Outbox).where(Outbox.kind == "mail", Outbox.subject.like("weekly-%")))]
    left = total(sold)["profit"]
    assert {mail["to"] for mail in mails} == {"desk@shop.example", "b@shop.example"}
    assert f"£{left / 100:.2f} profit, £{left / 100:.2f} more than the week before" in mails[0]["body"]
    assert "2 orders, £45.00 paid by buyers" in mails[0]["body"] and "What sold in this period" in mails[0]["body"]
    sold.write(lambda context: undo.undo(context, sold.act("weekly.save").id))
    with sold.db.reading() as s:
        assert weekly_mail.settings_of(sold.context(s)).to == ()


def test_suppliers_and_stores_stand_side_by_side_and_a_better_lane_is_put_first(sold: Small) -> None:
    def cheaper(context) -> None:
        s = context.session
        s.add(Supplier(id=2, code="ALT", name="Other House", kind="wholesale_api", country="GB", currency="GBP"))
        s.flush()
        s.add(Origin(id=2, supplier_id=2, code="two", name="Two", country="GB", handling=0, holidays=[]))
        s.flush()
        s.add(Service(origin_id=2, code="slow", name="slow", country="GB", first=10, following=10, days_low=2, days_high=3))
        s.add(Item(id=90, supplier_id=2, origin_id=2, number="O-1", title="Item 1", currency="GBP", cost=20, stock=50))
        s.flush()
        lanes.open_lane(context, 1, [lanes.LaneItem(90, Fraction(1))], use=1)

    sold.write(cheaper)
    with sold.db.reading() as s:
        context = sold.context(s)
        (better,) = partners_compared._better_lanes(context)
        rows = {one.name: one for one in partners_compared.suppliers(context, THIS)}
        (store,) = partners_compared.stores(context, THIS)
    assert (better.sku, better.supplier, better.instead_of) == (1, 2, 1) and better.a_week > 0
    house = rows["Supply House"]
    assert (house.orders, house.profit, house.better, house.better_a_week) == (2, total(sold)["profit"], 1, better.a_week)
    assert (store.name, store.takes, store.profit) == ("First shop", 100_000, total(sold)["profit"])
    assert sold.write(lambda context: partners_compared.put_first(context, 1)) == 1
    assert sold.lane(1).supplier_id == 2
    with pytest.raises(Conflict, match="no lane would be better"):
        sold.write(lambda context: partners_compared.put_first(context, 1))
    sold.write(lambda context: undo.undo(context, sold.act("lane.many").id))
    assert sold.lane(1).supplier_id == 1
