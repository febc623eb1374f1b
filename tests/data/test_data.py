"""What the tables themselves guarantee, whoever writes to them."""

from __future__ import annotations

import importlib
import json
from datetime import UTC, datetime, timedelta, timezone

import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import insert, select, text, update
from sqlalchemy.exc import IntegrityError, StatementError

from amber_lane.data import moved, shapes, tallies, words
from amber_lane.data.backups import before_change, notes, shape_of
from amber_lane.data.base import Base, from_ms, to_ms
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.session import Database
from amber_lane.data.setup import Store
from amber_lane.data.shelf import Listing
from amber_lane.services.purchasing import purchase_orders

from ..small import START, Small


def test_the_migrations_make_exactly_the_tables_that_the_code_speaks_of(small: Small) -> None:
    from amber_lane.data import tables  # noqa: F401 - every table is known once they are all read

    with small.db.engine.connect() as connection:
        context = MigrationContext.configure(
            connection,
            opts={
                "compare_type": False,
                "include_name": lambda name, kind, _: kind != "table" or not name.startswith((*words.NAMES, tallies.TABLE, moved.TABLE)),
            },
        )
        assert compare_metadata(context, Base.metadata) == []
    small.db.migrate()  # may be repeated at every start


@settings(deadline=None)
@given(st.datetimes(datetime(1971, 1, 1), datetime(2200, 1, 1)), st.integers(-14, 14))
def test_times_come_back_as_the_same_moment(naive: datetime, hours: int) -> None:
    zoned = naive.replace(tzinfo=timezone(timedelta(hours=hours)))
    back = from_ms(to_ms(zoned))
    assert back.tzinfo is UTC and timedelta(0) <= zoned - back < timedelta(milliseconds=1)


def test_a_time_without_a_zone_is_refused_and_unreadable_data_is_not_thrown_away(small: Small) -> None:
    with pytest.raises(StatementError, match="without a zone"), small.db.writing() as s:
        s.execute(insert(AuditEntry).values(at=datetime(2026, 1, 1), who="x", kind="x", on="", message=""))
    small.write(lambda context: context.log("x", "x", "x", before={"a": 1}))
    with small.db.writing() as s:
        s.execute(text("update audit_entry set before = '{broken' where kind = 'x'"))
    assert small.act("x").before == {"unreadable": "{broken"}


@pytest.mark.parametrize("row", ["order", "listing", "outbox", "lane", "purchase", "orphan"])
def test_what_must_be_there_once_cannot_be_there_twice(small: Small, row: str) -> None:
    order = small.order("A", ("S-1", 1, 2000))
    made = small.write(lambda context: purchase_orders.send(context, [order.id]))[0]
    line = small.all(select(PurchaseLine))[0]
    twice = {
        "order": lambda: Order(
            store_id=1, number="A", buyer="", mail="", phone="", address={}, country="GB", currency="GBP", ordered_at=START, came_at=START
        ),
        "listing": lambda: Listing(store_id=1, sku_id=1, title="", state="live", currency="GBP", wanted_price=1, shown_price=1),
        "outbox": lambda: Outbox(
            key=made.reference, target="x", subject="x", kind="purchase", body={}, state="waiting", made_at=START, after=START
        ),
        "lane": lambda: Lane(
            sku_id=1, supplier_id=1, origin_id=1, service="slow", priority=0, state="new", reason="", opened_at=START, opened_by="x"
        ),
        # The same order line bought again while the first purchase stands.
        "purchase": lambda: PurchaseLine(
            purchase_id=made.id, order_line_id=line.order_line_id, line_no=9, item_id=line.item_id, quantity=1, planned_cost=1
        ),
        "orphan": lambda: PurchaseOrder(
            reference="Z",
            supplier_id=99,
            order_id=order.id,
            origin_id=1,
            service="",
            currency="GBP",
            goods=0,
            shipping=0,
            handling=0,
            made_at=START,
        ),
    }
    with pytest.raises(IntegrityError), small.db.writing() as s:
        s.add(twice[row]())
        s.flush()


def test_a_transaction_that_fails_half_way_leaves_nothing(small: Small) -> None:
    before = small.all(select(Store.name))

    class Lost(Exception):
        pass

    with pytest.raises(Lost), small.db.writing() as s:
        s.execute(update(Store).values(name="Another"))
        small.context(s).log("x", "x", "half")
        raise Lost
    assert small.all(select(Store.name)) == before and "half" not in small.all(select(AuditEntry.message))


def test_a_reading_session_cannot_write_by_accident(small: Small) -> None:
    with small.db.reading() as s:
        s.get(Store, 1).name = "Another"
        s.flush()
    assert small.all(select(Store.name)) == ["First shop"]


def test_a_house_with_orders_is_brought_to_the_newest_shape_with_nothing_lost(tmp_path) -> None:
    """Tables that are made anew keep their rows, and all that belongs to them."""
    db = Database(f"sqlite:///{tmp_path / 'old.db'}")
    db.migrate("0006")
    rows = (
        "store(id, version, code, name, kind, country, currency, tax_in_price, payment, payment_fixed, read_orders, write_listings)"
        " values (1, 1, 'A', 'A', 'own_site', 'GB', 'GBP', 0, 0, 0, 1, 1)",
        "supplier(id, version, code, name, kind, country, currency, tax, discount, rebate, sweep_minutes, watching, stale, note)"
        " values (1, 1, 'S', 'S', 'sheet', 'GB', 'GBP', 0, 0, 0, 15, 1, 0, '')",
        "origin(id, version, supplier_id, code, name, country, cut_off, handling, holidays, return_address)"
        " values (1, 1, 1, 'o', 'o', 'GB', '16:00', 0, '[]', '')",
        '"order"(id, version, store_id, number, buyer, mail, phone, address, country, currency, ordered_at, came_at, note, came_by, lifted)'
        " values (1, 1, 1, 'N', '', '', '', '{}', 'GB', 'GBP', 1, 1, '', 'link', 1), (2, 1, 1, 'M', '', '', '', '{}', 'GB', 'GBP', 1, 1, '', 'link', 0)",
        "order_line(id, version, order_id, line_no, sku_code, title, quantity, paid, tax, store_fee, payment_fee, kept, state, why, chosen_by)"
        " values (1, 1, 1, 1, 'X', '', 1, 1, 0, 0, 0, 1, 'bought', '', 'plan')",
        "purchase_order(id, version, reference, supplier_id, order_id, origin_id, service, state, currency, goods, shipping, handling, their_number,"
        " made_at, told) values (1, 1, 'R', 1, 1, 1, 's', 'sent', 'GBP', 1, 1, 1, '', 1, '')",
        "item(id, supplier_id, number, title, gtin, mpn, brand, category, options, link, pack_size, weight_g, lead_days, currency, cost, stock, offer,"
        " doubt_cost, doubt_stock, doubt_seen) values (1, 1, 'I', '', '', '', '', '', '', '', 1, 0, 0, 'GBP', 1, 1, 'good', -1, -1, 0)",
        "purchase_line(id, purchase_id, order_line_id, line_no, item_id, quantity, planned_cost, live) values (1, 1, 1, 1, 1, 1, 1, 1)",
    )
    with db.engine.begin() as connection:
        for row in rows:
            connection.exec_driver_sql(f"insert into {row}")
    db.migrate()
    with db.reading() as s:
        assert [bool(one.allowed) for one in s.scalars(select(Order).order_by(Order.id))] == [True, False]
        assert [len(s.scalars(select(table)).all()) for table in (OrderLine, PurchaseOrder, PurchaseLine)] == [1, 1, 1]
        assert s.connection().exec_driver_sql("pragma foreign_keys").scalar() == 1
        assert not s.connection().exec_driver_sql("pragma foreign_key_check").fetchall()


def test_what_is_kept_as_json_has_the_new_names(tmp_path) -> None:
    """At every depth, more rows than one portion has, and what cannot be read stays as it is."""
    db = Database(f"sqlite:///{tmp_path / 'names.db'}")
    db.migrate("0013")
    deep = {"told": "a \u017c \U0001f4a1", "rows": [{"why": 1, "price": "4.90"}, {"hand_why": None}], "untold": "told"}
    many = 5003
    acts = [(number, json.dumps({"told": number}), json.dumps(deep)) for number in range(1, many + 1)]
    with db.engine.begin() as connection:
        connection.exec_driver_sql(
            'insert into act (id, at, who, kind, "on", told, why, before, after, undo, count)'
            " values (?, 1, 'A', 'k', 'o', 'said', 'so', ?, ?, '', 1)",
            acts,
        )
        connection.exec_driver_sql("insert into act_part (id, act_id, before, after) values (1, 7, '{\"told\": torn', null)")
        connection.exec_driver_sql("insert into setting (id, name, value) values (1, 's', '[{\"why\": [{\"told\": 2}]}]')")
        connection.exec_driver_sql("insert into snooze (id, trouble, until, by, version) values (1, 't', 1, 'A', 1)")
    db.migrate()
    with db.reading() as s:
        rows = s.execute(text("select id, message, reason, before, after from audit_entry order by id")).all()
        assert [(one.id, one.message, one.reason, json.loads(one.before)) for one in rows] == [
            (number, "said", "so", {"message": number}) for number in range(1, many + 1)
        ]
        wanted = {"message": deep["told"], "rows": [{"reason": 1, "price": "4.90"}, {"hand_reason": None}], "untold": "told"}
        assert all(json.loads(one.after) == wanted for one in rows)
        assert s.execute(text("select audit_entry_id, before, after from audit_entry_part")).all() == [(7, '{"told": torn', None)]
        assert json.loads(s.execute(text("select value from setting where name = 's'")).scalar_one()) == [{"reason": [{"message": 2}]}]
        assert s.execute(text("select alert from snooze")).scalar_one() == "t"


def test_what_was_read_out_of_sentences_becomes_a_code(small: Small) -> None:
    """Why a lane is in its state and what is wrong with a bill, of a house that was kept by the words alone."""
    causes = {
        "set by Ada": "person",
        "looked at and right, says Ada": "confirmed",
        "by what happened: 3 of 9 came late": "record",
        "I-1 comes in packs of 6 now, not of 1; say how many make one unit sold": "packs",
        "its supplier is disconnected": "supplier_ended",
        "proven by ONE-1-1": "proven",
    }
    with small.db.writing() as s:
        codes = importlib.import_module("amber_lane.data.migrations.versions.0015_codes")
        for number, reason in enumerate(causes, 1):
            s.execute(text("update lane set reason = :reason, cause = '' where id = :id").bindparams(reason=reason, id=number))
        for cause, words in codes.CAUSES:
            s.execute(codes.cause_of(cause, words))
        assert list(s.scalars(text("select cause from lane order by id"))) == list(causes.values())


def test_the_data_is_copied_before_its_shape_changes_and_a_newer_one_is_refused(tmp_path) -> None:
    # A folder as people name theirs, and what a kill left of an earlier copy.
    tmp_path = tmp_path / "ours #1, 50%"
    (tmp_path / "backups").mkdir(parents=True)
    (tmp_path / "backups" / "0001-shape-0009.part").write_bytes(b"half of it")
    db = Database(f"sqlite:///{tmp_path / 'amber-lane.db'}")
    assert before_change(db, tmp_path) is None, "there is nothing yet"
    db.migrate("0009")
    kept = before_change(db, tmp_path)
    assert kept is not None and kept.name == "0001-shape-0009.db"
    db.migrate()
    assert before_change(db, tmp_path) is None, "it is so already"
    old = Database(f"sqlite:///{kept}")
    assert shape_of(old) == "0009" and shape_of(db) == shapes.newest()
    with db.engine.begin() as connection:
        connection.exec_driver_sql("update alembic_version set version_num = '9999'")
    with pytest.raises(RuntimeError, match="made by a newer version"):
        before_change(db, tmp_path)
    assert "practice" in notes("0.2.0") and "signed in" in notes("0.3.0")
    for one in (db, old):
        one.close()
