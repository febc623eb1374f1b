"""The journal follows all that happens to an order: only added to, to the penny, once."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import func, select, text
from sqlalchemy.exc import IntegrityError

from amber_lane.connectors.protocols import Address, PurchaseAnswer, StoreOrder, StoreOrderLine
from amber_lane.core.plans import Membership
from amber_lane.data.backups import look_over
from amber_lane.data.books import ClosedMonth, JournalEntry, Overhead
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.prices import Rate
from amber_lane.data.setup import Store, Supplier
from amber_lane.services.activity import undo
from amber_lane.services.base import regional
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.books import columns, entries, overheads, profit, upkeep
from amber_lane.services.books.grouping import DIMENSIONS, Period
from amber_lane.services.books.profit import View
from amber_lane.services.orders import order_lines, orders
from amber_lane.services.pricing.drafts import SupplierChange
from amber_lane.services.purchasing import payment_batches, purchase_orders, supplier_answers
from amber_lane.services.sourcing import samples

from ...small import BUYER, START, Small
from .journal import is_whole, profit_of, writes_nothing

TODAY = START.date()
THIS = Period(TODAY - timedelta(days=27), TODAY)


def send(small: Small, *numbers: int) -> list[PurchaseOrder]:
    return small.write(lambda context: purchase_orders.send(context, numbers))


def answer(small: Small, reference: str, state: str, billed: int | None = None, lacking: tuple[tuple[int, str], ...] = ()) -> None:
    given = PurchaseAnswer(reference, "N-1", state, "", billed, None, lacking)
    small.write(lambda context: supplier_answers.take_answer(context, given))


def figures(small: Small, by: str = "sku", **more: Any) -> dict[str, int]:
    with small.db.reading() as s:
        found = profit.table(small.context(s), View(by, THIS, THIS.before(), **more))
        return dict(found.total.now.of)


def whole(small: Small, settled: bool = False) -> None:
    with small.db.reading() as s:
        is_whole(small.context(s), settled)
    assert small.write(writes_nothing)


def test_a_sale_counts_once_it_is_bought_and_what_it_cost_beside_it(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 1000), ("S-2", 1, 1500))
    assert figures(small)["profit"] == 0, "what is not bought yet is no sale yet"
    (one,) = send(small, order.id)
    now = figures(small)
    assert (now["sales"], now["fees"], now["units"], now["orders"]) == (3500, -350, 3, 1)
    assert (now["goods"], now["sending"]) == (-one.goods, -one.shipping - one.handling)
    assert now["profit"] == 3500 - 350 - one.goods - one.shipping - one.handling == now["planned"]
    whole(small)


def test_a_bill_is_beside_the_plan_and_says_why(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 1000), ("S-2", 1, 1500))
    (one,) = send(small, order.id)
    planned = one.goods + one.shipping + one.handling
    answer(small, one.reference, "accepted", planned + 55)
    answer(small, one.reference, "accepted", planned + 55)
    with small.db.reading() as s:
        parts = {part.kind: part for part in entries.planned_beside_actual(small.context(s), order.id)}
    assert parts["goods"].reasons == {"bill": -55} and parts["goods"].actual == parts["goods"].planned - 55
    # Put right later: what was written is taken back, and written anew; nothing is changed.
    answer(small, one.reference, "accepted", planned + 10)
    bills = small.all(select(JournalEntry.home).where(JournalEntry.basis == "bill").order_by(JournalEntry.id))
    assert sum(bills) == -10 and len(bills) == 6
    whole(small)


def test_what_was_refused_is_taken_back_whole(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 1000), ("S-2", 1, 1500))
    (one,) = send(small, order.id)
    answer(small, one.reference, "accepted", one.goods + one.shipping + one.handling + 20)
    answer(small, one.reference, "refused")
    assert all(value == 0 for value in figures(small).values())
    whole(small)


def test_a_part_that_is_not_sent_leaves_the_rest_as_it_was(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 1000), ("S-2", 1, 1500))
    (one,) = send(small, order.id)
    answer(small, one.reference, "accepted", lacking=((2, "gone"),))
    assert figures(small)["sales"] == 2000
    whole(small)


def test_an_order_that_is_cancelled_before_it_was_bought_leaves_nothing(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 1000), ("S-2", 1, 1500))
    line = small.all(select(OrderLine).order_by(OrderLine.id))[0]
    small.write(lambda context: order_lines.cancel_lines(context, order.id, {line.id: 1}))
    whole(small)
    small.write(lambda context: orders.cancel(context, order.id, "changed their mind"))
    whole(small)
    with small.db.reading() as s:
        assert profit_of(small.context(s)) == 0


def test_a_refund_takes_the_sale_back_and_leaves_the_costs(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 1000))
    (one,) = send(small, order.id)
    answer(small, one.reference, "shipped", one.goods + one.shipping + one.handling)

    def refund(context: Context) -> None:
        line = context.session.scalars(select(OrderLine)).one()
        line.state = "cancelled"

    small.write(refund)
    now = figures(small)
    assert now["sales"] == 1000 and now["refunds"] == -900 and now["profit"] == -(one.goods + one.shipping + one.handling)
    whole(small)


def told(small: Small, number: str, currency: str = "GBP", **money: Any) -> Order:
    """An order of one line of 20.00 whose store tells more of its money."""
    line = StoreOrderLine(1, "S-1", 2, 1000, "Thing", **money)
    buyer = Address(**BUYER.__dict__)
    given = StoreOrder(number, small.clock.now(), currency, buyer, [line], (small.clock.now() + timedelta(days=9)).date())

    def take(context: Context) -> Order:
        row = orders.take_in(context, context.session.get(Store, 1), given)
        orders.after_sales(context, [row])
        return row

    return small.write(take)


def test_sending_discount_and_tax_come_with_the_order(small: Small) -> None:
    order = told(small, "A", shipping_paid=295, discount=200, tax=300, tax_by="store")
    assert order.told == ["discount", "shipping_paid", "tax"]
    line = small.all(select(OrderLine))[0]
    # Its fee is on what the buyer paid.
    assert (line.total, line.store_fee, line.tax, line.net_revenue) == (2095, 210, 300, 2095 - 210 - 300)
    send(small, order.id)
    now = figures(small)
    assert (now["sales"], now["tax"], now["fees"], now["price"], now["shipping_paid"], now["discount"]) == (
        2095,
        -300,
        -210,
        2000,
        295,
        -200,
    )
    against = {one.kind: one.against for one in small.all(select(JournalEntry))}
    assert against["tax"] == "store", "the store hands it over"
    whole(small)


def test_nothing_in_it_is_ever_changed(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 1000))
    send(small, order.id)
    for statement in ("update journal_entry set home = 1", "delete from journal_entry", "update journal_event set who = ''"):
        with pytest.raises(IntegrityError, match="never changed"), small.db.engine.begin() as link:
            link.execute(text(statement))
    same = "event_id, kind, basis, category, country, units, currency, amount, rate, home, home_currency, day"
    with pytest.raises(IntegrityError, match="balances"), small.db.engine.begin() as link:
        link.execute(text(f"insert into journal_entry ({same}, account, against) select {same}, account, account from journal_entry"))


def test_a_closed_month_never_changes_and_what_comes_later_says_so(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 1000))
    (one,) = send(small, order.id)
    with pytest.raises(Conflict, match="not over"):
        small.write(lambda context: overheads.close(context, TODAY))
    small.later(days=30)
    small.write(lambda context: overheads.close(context, TODAY))
    march = Period(date(2026, 3, 1), date(2026, 3, 31))

    def of_march() -> dict[str, int]:
        with small.db.reading() as s:
            return dict(profit.table(small.context(s), View("sku", march, march.before())).total.now.of)

    was = of_march()
    answer(small, one.reference, "accepted", one.goods + one.shipping + one.handling + 40)
    assert of_march() == was
    late = small.all(select(JournalEntry).where(JournalEntry.basis == "bill"))
    assert [row.day for row in late] == [(START + timedelta(days=30)).date()]
    answer(small, one.reference, "refused")
    assert of_march() == was
    with pytest.raises(IntegrityError, match="month is closed"), small.db.engine.begin() as link:
        link.execute(
            text(
                "insert into journal_entry (event_id, kind, basis, account, against, category, country, units, currency, amount, rate,"
                " home, home_currency, day) select event_id, kind, basis, account, against, category, country, 0, currency, 1, rate, 1,"
                " home_currency, min(day) from journal_entry"
            )
        )
    # Nothing of it went into a later month, so closing it can be undone.
    small.write(lambda context: undo.undo(context, small.act("month.close").id))
    assert not small.all(select(ClosedMonth))


def test_an_entry_of_a_closed_month_keeps_its_own_day(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 1000))
    send(small, order.id)
    small.later(days=30)
    small.write(lambda context: overheads.close(context, TODAY))
    # A batch of before is said to be paid: it was bought in March.
    code = small.write(lambda context: payment_batches.collect(context, 1)[0])
    small.write(lambda context: payment_batches.pay(context, code))
    paid = small.all(select(JournalEntry).where(JournalEntry.kind == "supplier_paid"))
    assert len(paid) == 1 and paid[0].day == (START + timedelta(days=30)).date()
    whole(small)


def test_money_without_a_rate_is_in_no_sum_until_there_is_one(small: Small) -> None:
    def abroad(context: Context) -> None:
        small.second_store(context.session, "DE", "EUR")
        small.list_sku(context.session, 1, 2, 1200, "EUR")

    small.write(abroad)
    small.order("G", ("S-1", 1, 1000))
    order = small.order("E", ("S-1", 1, 1200), store=2)

    def buy_anyway(context: Context) -> None:
        line = context.session.scalars(select(OrderLine).where(OrderLine.order_id == order.id)).one()
        line.state = "arrived"

    small.write(buy_anyway)
    with small.db.reading() as s:
        found = profit.table(small.context(s), View("store", THIS, THIS.before()))
        assert found.left_out == ["EUR"] and found.total.now["sales"] == 0
    small.write(lambda context: context.session.add(Rate(base="EUR", quote="GBP", day=context.now, nano=850_000_000, source="hand")))
    with small.db.reading() as s:
        late = upkeep.due(small.context(s))
    small.write(lambda context: upkeep.catch_up(context, late))
    with small.db.reading() as s:
        found = profit.table(small.context(s), View("store", THIS, THIS.before()))
        assert found.left_out == [] and found.total.now["sales"] == 1020
    assert small.write(writes_nothing)


def test_a_rate_that_moved_until_a_batch_was_paid_is_a_loss_of_its_own(small: Small) -> None:
    def abroad(context: Context) -> None:
        supplier = context.session.get(Supplier, 1)
        supplier.currency = "EUR"
        context.session.add(Rate(base="EUR", quote="GBP", day=context.now, nano=800_000_000, source="hand"))

    small.write(abroad)
    order = small.order("A", ("S-1", 1, 2000))
    (one,) = send(small, order.id)
    before = figures(small)["profit"]
    small.later(days=1)
    small.write(lambda context: context.session.add(Rate(base="EUR", quote="GBP", day=context.now, nano=900_000_000, source="hand")))
    code = small.write(lambda context: payment_batches.collect(context, 1)[0])
    small.write(lambda context: payment_batches.pay(context, code))
    total = one.goods + one.shipping + one.handling
    (lost,) = small.all(select(JournalEntry.home).where(JournalEntry.kind == "rate_difference"))
    assert lost == -(round(total * 0.9 + 1e-9) - round(total * 0.8 + 1e-9))
    assert figures(small)["profit"] == before, "it counts on the day it was paid"
    assert small.write(writes_nothing)


def test_a_house_of_before_is_written_up_once(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 1000))
    send(small, order.id)
    with small.db.engine.begin() as link:
        for trigger in ("journal_entry_no_delete", "journal_event_no_delete"):
            link.execute(text(f"drop trigger {trigger}"))
        link.execute(text("delete from journal_entry"))
        link.execute(text("delete from journal_event"))
    with small.db.reading() as s:
        late = upkeep.due(small.context(s))
    assert late == [order.id]
    small.write(lambda context: upkeep.catch_up(context, late))
    small.write(upkeep.finish)
    with small.db.reading() as s:
        assert upkeep.due(small.context(s)) == []
    whole(small)


def test_a_house_that_takes_another_currency_has_its_books_in_it(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 1000))
    send(small, order.id)
    small.write(upkeep.finish)

    def move(context: Context) -> None:
        context.session.add(Rate(base="GBP", quote="EUR", day=context.now, nano=1_200_000_000, source="hand"))
        regional.set_place(context, regional.Place("DE", "UTC", "dmy", ",", "EUR"))

    was = figures(small)
    small.write(move)
    with small.db.reading() as s:
        late = upkeep.due(small.context(s))
    assert late == [order.id]
    small.write(lambda context: upkeep.catch_up(context, late))
    small.write(upkeep.finish)
    now = figures(small)
    assert (now["sales"], now["orders"], now["units"]) == (was["sales"] * 12 // 10, 1, 2)
    with small.db.reading() as s:
        assert upkeep.due(small.context(s)) == []


def test_a_fixed_cost_of_long_ago_is_refused(small: Small) -> None:
    with pytest.raises(Invalid, match="10 years ago"):
        small.write(lambda context: overheads.save(context, overheads.OverheadTerms("Old", 100, "GBP", date(1, 1, 1))))


def test_fixed_costs_are_spread_over_their_days_to_the_penny(small: Small) -> None:
    terms = overheads.OverheadTerms("Tools", 10_000, "GBP", date(2026, 2, 3))
    row = small.write(lambda context: overheads.save(context, terms))
    feb = small.all(select(JournalEntry.home).where(JournalEntry.kind == "overhead", JournalEntry.day < date(2026, 3, 1)))
    assert sum(feb) == -10_000 and len(feb) == 28 and max(feb) - min(feb) == 1
    march = small.all(select(JournalEntry.home).where(JournalEntry.kind == "overhead", JournalEntry.day >= date(2026, 3, 1)))
    assert len(march) == 12, "up to today"
    dearer = overheads.OverheadTerms("Tools", 12_000, "GBP", date(2026, 2, 1))
    small.write(lambda context: overheads.save(context, dearer, row.id, row.version))
    assert sum(small.all(select(JournalEntry.home).where(JournalEntry.day < date(2026, 3, 1)))) == -12_000
    assert small.write(overheads.post) == 0
    small.write(lambda context: undo.undo(context, small.act("overhead.save").id))
    assert sum(small.all(select(JournalEntry.home).where(JournalEntry.day < date(2026, 3, 1)))) == -10_000
    assert figures(small)["below"] == figures(small)["profit"] < 0


def below(small: Small, kind: str) -> list[tuple[date, int]]:
    rows = select(JournalEntry.day, func.sum(JournalEntry.home)).where(JournalEntry.kind == kind).group_by(JournalEntry.day)
    with small.db.reading() as s:
        return [(day, int(home)) for day, home in s.execute(rows.order_by(JournalEntry.day)) if home]


def test_a_sample_costs_what_it_is_billed_once_it_is_taken_and_nothing_when_refused(small: Small) -> None:
    small.write(lambda context: samples.set_own_address(context, BUYER))
    one, other = (small.write(lambda context, item=item: samples.order(context, item)) for item in (1, 2))
    assert one.cost and below(small, "sample") == [], "asked is not bought"
    for row in (one, other):
        small.write(lambda context, row=row: samples.take_answer(context, PurchaseAnswer(row.reference, "N", "accepted", "", None, None)))
    assert below(small, "sample") == [(TODAY, -one.cost - other.cost)]
    small.later(days=2)
    small.write(lambda context: samples.take_answer(context, PurchaseAnswer(one.reference, "N", "shipped", "", 777, None)))
    small.write(lambda context: samples.take_answer(context, PurchaseAnswer(other.reference, "N", "refused", "none left", None, None)))
    assert below(small, "sample") == [(TODAY, -777)]
    assert figures(small)["below"] == sum(amount for _, amount in below(small, "sample"))


def test_a_supplier_plan_costs_its_fee_from_the_month_in_which_it_is_taken(small: Small) -> None:
    def plans(*some: Membership) -> None:
        def do(context: Context) -> None:
            supplier = context.get(Supplier, 1, "supplier")
            SupplierChange(1, {"discount": 0, "rebate": 0, "tax": 0}, supplier.version, some).keep(context)

        small.write(do)

    club = Membership("Club", 40_000, fee=3_100, taken=True)
    plans(club)
    assert below(small, "plan_fee") == [(date(2026, 3, n), -100) for n in range(1, 13)], "31 days of March, up to the 12th"
    (row,) = small.all(select(Overhead))
    assert (row.name, row.plan) == ("Supply House: Club", "Club")
    with pytest.raises(Conflict, match="follows the supplier's plans"):
        small.write(lambda context: overheads.end(context, row.id, row.version))
    small.write(lambda context: undo.undo(context, small.act("terms.change").id))
    assert below(small, "plan_fee") == [], "what was given up on the same day costs nothing"
    plans(club)
    small.later(days=1)
    plans(replace(club, fee=6_200))
    assert below(small, "plan_fee") == [(date(2026, 3, n), -200) for n in range(1, 14)], "another fee counts for the whole month"
    small.later(days=1)
    plans(replace(club, fee=6_200, taken=False))
    small.later(days=3)
    small.write(upkeep.finish)
    assert below(small, "plan_fee")[-1] == (date(2026, 3, 17), -200), "the month is paid for"
    small.later(days=20)
    small.write(upkeep.finish)
    assert below(small, "plan_fee")[-1] == (date(2026, 3, 31), -200)


EVENTS = st.lists(
    st.tuples(
        st.sampled_from(["order", "send", "accept", "bill", "refuse", "lack", "ship", "cancel", "refund", "again", "later"]),
        st.integers(0, 50),
    ),
    max_size=14,
)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(EVENTS)
def test_whatever_happens_the_journal_is_what_the_orders_say(small: Small, events: list[tuple[str, int]]) -> None:
    """In any order, however often."""
    for what, n in events:
        with small.db.reading() as s:
            purchases = list(s.scalars(select(PurchaseOrder).order_by(PurchaseOrder.id)))
            lines = list(s.scalars(select(OrderLine).order_by(OrderLine.id)))
        one = purchases[n % len(purchases)] if purchases else None
        line = lines[n % len(lines)] if lines else None
        total = one.goods + one.shipping + one.handling if one else 0
        if what == "order":
            number = f"N{len(lines)}-{n}-{small.clock.now():%H%M}"
            small.order(number, (f"S-{n % 6 + 1}", n % 3 + 1, 900 + n), *([("S-2", 1, 1500)] if n % 2 else []))
        elif what == "send" and line:
            send(small, line.order_id)
        elif what == "later":
            small.later(hours=n)
        elif what in ("accept", "bill", "refuse", "ship") and one:
            state = {"accept": "accepted", "bill": "accepted", "refuse": "refused", "ship": "shipped"}[what]
            answer(small, one.reference, state, total + n - 20 if what == "bill" else None)
        elif what == "lack" and one:
            answer(small, one.reference, "accepted", lacking=((1, "gone"),))
        elif what == "cancel" and line:
            try:
                small.write(lambda context, line=line: orders.cancel(context, line.order_id, "by hand"))
            except Conflict:
                continue
    whole(small)


def test_every_way_of_looking_sums_to_the_same(small: Small) -> None:
    for n in range(6):
        order = small.order(f"A{n}", (f"S-{n % 3 + 1}", n % 2 + 1, 1000 + n))
        purchases = send(small, order.id)
        if n % 2:
            answer(small, purchases[0].reference, "accepted", 700 + n)
        small.later(hours=20)
    these = Period(TODAY - timedelta(days=5), TODAY + timedelta(days=9))
    with small.db.reading() as s:
        context = small.context(s)
        every = [dict(profit.table(context, View(by, these, these.before())).total.now.of) for by in DIMENSIONS]
        assert all(one == every[0] for one in every) and every[0]["orders"] == 6
        for by in DIMENSIONS:
            found = profit.table(context, View(by, these, these.before(), limit=500))
            for name, total in found.total.now.of.items():
                if name != "orders":
                    assert sum(one.now[name] for one in found.rows) == total, (by, name)
            for one in found.rows:
                rows, count, behind = entries.behind(context, entries.Number(these, by, one.key, "profit", {}))
                assert behind == one.now["profit"] and len(rows) == count
                assert sum(row.home or 0 for row in rows) == behind
        heads, lines = profit.cells(context, "sku", "day", these, "profit")
        assert sum(total for *_, total in lines) == every[0]["profit"]
        assert sum(sum(cells.values()) for *_, cells, _ in lines) == every[0]["profit"]
        assert len(heads) > 1


def test_the_columns_are_kept_in_a_file_that_is_taken_only_where_it_agrees(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(columns, "WORTH_A_FILE", 1)
    for n in range(3):
        send(small, small.order(f"A{n}", (f"S-{n + 1}", 1, 1000 + n)).id)
    was = figures(small)
    file = columns._file(small.db.engine)
    assert file is not None and file.is_file()
    asked: list[int] = []
    since = columns._since
    monkeypatch.setattr(columns, "_since", lambda s, holder: (asked.append(holder.last), since(s, holder))[1])
    columns._HOLDERS.clear()
    assert figures(small) == was and asked[0] > 0, "what the file has is not read again"
    # A file of other data, or one that was cut off, is not believed.
    send(small, small.order("B", ("S-4", 1, 900)).id)
    now = figures(small)
    with np.load(file) as kept:
        other = {name: kept[name] for name in kept.files}
    other["home"] = other["home"] + 1
    with file.open("wb") as out:
        np.savez(out, **other)
    columns._HOLDERS.clear()
    assert figures(small) == now
    file.write_bytes(file.read_bytes()[:300])
    columns._HOLDERS.clear()
    assert figures(small) == now


def test_the_check_of_the_data_finds_a_journal_that_is_not_whole(small: Small, tmp_path: Path) -> None:
    first, second = small.order("A", ("S-1", 1, 1000)), small.order("B", ("S-2", 1, 1500))
    send(small, first.id)
    small.write(upkeep.finish)
    file = Path(small.db.engine.url.database)
    assert look_over(file) == []
    with small.db.engine.begin() as link:
        link.execute(text("drop trigger journal_entry_no_delete"))
        link.execute(text(f"delete from journal_entry where kind = 'sale' or order_id = {second.id}"))
    assert [one.split(" ", 1)[1] for one in look_over(file)] == [
        "sold order lines are not in the journal",
        "events of the journal have no entries",
        "currencies in which what buyers paid for waiting orders is not what the journal has for them",
    ]
