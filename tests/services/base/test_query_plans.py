"""No query of a hot path goes through a table that grows, whatever the database guesses of its rows: with statistics and without."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
import pytest
from sqlalchemy import event, select

from amber_lane.data.setup import Supplier
from amber_lane.data.watch import ListingDecision
from amber_lane.jobs.delivery import Delivery
from amber_lane.services.alerts import today
from amber_lane.services.base.credentials import CredentialStore
from amber_lane.services.delivery import sheet_export
from amber_lane.services.grids import goods_grids
from amber_lane.services.grids.goods_grids import GridQuery
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.listings import on_sale
from amber_lane.services.mapping import mapping_queue, performance, validity
from amber_lane.services.monitoring import sweeps
from amber_lane.services.outbox import queue
from amber_lane.services.partners.registry import ConnectorRegistry
from amber_lane.services.pricing import rollback
from amber_lane.services.pricing.apply import with_sharers

from ...growth import Grown

GROWS = {
    "item", "lane", "lane_part", "listing", "sku", "sighting", "listing_decision", "outbox", "audit_entry", "job", "order", "order_line", "plan", "hold",
    "purchase_order", "purchase_line", "parcel", "parcel_line", "message", "drift", "job_part", "act_part",
}  # fmt: skip
# Indexes of few rows: what stands in them is what waits for somebody, so all of it is looked at.
FEW = {
    "ix_outbox_open", "ix_outbox_delayed", "ix_lane_shut", "ix_listing_oversell", "ix_listing_no_rule", "ix_listing_bare", "ix_item_doubted",
    "ix_listing_theirs", "ix_listing_message", "ix_listing_out", "ix_order_wants", "ix_purchase_order_bill_fault", "ix_parcel_astray", "uq_hold_open",
    "ix_lane_services", "ix_item_gone", "ix_lane_kit", "ix_lane_fits", "ix_purchase_order_message",
}  # fmt: skip
# A list is walked in its order until its page is full, and counted along an index.
WALKED = re.compile(r"LIMIT|^SELECT count\(\*\)", re.IGNORECASE)


@pytest.fixture(scope="module")
def grown(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Grown]:
    made = Grown(tmp_path_factory.mktemp("grown"), 6000)
    yield made
    made.db.close()


def hot(grown: Grown) -> dict[str, Callable[[], Any]]:
    """What runs on every beat, for every page, and once for each of very many rows."""

    def reading(does: Callable[[Any], Any]) -> Callable[[], Any]:
        def run() -> None:
            grown.db.kept.values.clear()
            with grown.db.reading() as s:
                does(grown.context(s))

        return run

    def writing(does: Callable[[Any], Any]) -> Callable[[], Any]:
        def run() -> None:
            with grown.db.writing() as s:
                does(grown.context(s))

        return run

    delivery = Delivery(grown.db, grown.clock, ConnectorRegistry(CredentialStore.at(grown.folder, "x" * 32), 1.0))
    some, many = list(range(1, 60)), [(number, 1, 1) for number in range(1, 3500)]
    return {
        "the count of Today": reading(today.counts),
        "to send": reading(queue.waiting),
        "what waits for sheets": reading(sheet_export.waiting),
        "whom delivery serves": delivery.targets,
        "what goes next": reading(lambda context: queue.next_due(context.session, "store:1", context.now, 48)),
        "what needs a person in Lanes": reading(mapping_queue.to_settle),
        "off sale": writing(lambda context: on_sale.set_on_sale(context, some, False)),
        "on sale": writing(lambda context: on_sale.set_on_sale(context, some, True)),
        "prices of some": writing(lambda context: context.reprice(some, act=1, seen=True)),
        "what shares items with some": reading(lambda context: with_sharers(context, set(some))),
        # So many items that the database would sooner look through every lane for each of them.
        "lanes of very many changed items": reading(
            lambda context: sweeps.skus_behind(context, context.session.get(Supplier, 1), np.arange(1, 3500))
        ),
        "lanes of items in other packs": writing(lambda context: validity.shut_for_packs(context, context.session.get(Supplier, 1), many)),
        "lanes of items that cost more": writing(
            lambda context: validity.look_at_costs(context, context.session.get(Supplier, 1), range(1, 3500))
        ),
        "a few lanes' trust": reading(lambda context: performance.trusts(context, [1, 2, 3])),
        "taking back": writing(
            lambda context: rollback.undo_responses(context, responses=list(context.session.scalars(select_responses())))
        ),
        **{
            f"list of {name}": reading(lambda context, name=name: goods_grids.page(context, name, GridQuery(limit=50)))
            for name in goods_grids.LISTS
        },
        "decisions with a word": reading(lambda context: goods_grids.page(context, "responses", GridQuery("SKU-000123"))),
        "listings with a word": reading(lambda context: goods_grids.page(context, "listings", GridQuery("amber"))),
        "lanes by cost": reading(lambda context: goods_grids.page(context, "lanes", GridQuery(sort="cost", down=True))),
        "lanes by what they land at": reading(lambda context: goods_grids.page(context, "lanes", GridQuery(sort="landed", down=True))),
        "refused ones of Shelf": reading(lambda context: goods_grids.page(context, "shelf", GridQuery(filters={"refused": "yes"}))),
    }


def select_responses() -> Any:
    return select(ListingDecision.id).where(ListingDecision.listing_id == 5).order_by(ListingDecision.id.desc()).limit(2)


def plans(grown: Grown, does: Callable[[], Any]) -> Iterator[tuple[str, str]]:
    """Every statement of a path with each step of its plan."""
    seen: dict[str, Any] = {}

    def note(_: Any, __: Any, statement: str, given: Any, ___: Any, many: bool) -> None:
        seen.setdefault(statement, given[0] if many and given else given)

    event.listen(grown.db.engine, "before_cursor_execute", note)
    try:
        does()
    except Exception as error:  # noqa: BLE001 - what it says of single rows is no matter here
        assert "stand" in str(error) or "settled" in str(error), error
    finally:
        event.remove(grown.db.engine, "before_cursor_execute", note)
    with grown.db.engine.connect() as connection:
        raw: Any = connection.connection.dbapi_connection
        for statement, given in seen.items():
            if re.match(r"\s*(select|update|delete)", statement, re.IGNORECASE):
                for row in raw.execute(f"explain query plan {statement}", given):
                    yield statement, row[3]


def whole(statement: str, step: str) -> bool:
    """Whether a step goes through all of a table that grows."""
    found = re.match(r"SCAN (\w+)(?: .*?(?:COVERING )?INDEX (\w+))?", step)
    if not found or found.group(1) not in GROWS or found.group(2) in FEW:
        return False
    table, index = found.groups()
    walked = index and WALKED.search(statement)
    return not walked and not re.search(rf"ORDER BY {table}\.id( DESC)?\s+LIMIT", statement)


@pytest.mark.parametrize("analysed", [False, True], ids=["without statistics", "with statistics"])
def test_no_hot_query_goes_through_a_table_that_grows(grown: Grown, analysed: bool) -> None:
    if analysed:
        with grown.db.engine.begin() as connection:
            connection.exec_driver_sql("analyze")
        # Other connections learn of it when they are opened.
        grown.db.engine.dispose()
    bad = {
        (name, step, statement[:300])
        for name, does in hot(grown).items()
        for statement, step in plans(grown, does)
        if whole(statement, step)
    }
    assert not bad, "\n".join(map(str, sorted(bad)))


FITTING = {
    "quantity": "1", "currency": "GBP", "price": "9.99", "cost": "5.00", "stock": "4", "units_per_sale": "1", "use": "main", "country": "GB",
    "store": "EAST", "supplier": "S1", "carrier": "Parcel road",
}  # fmt: skip


@pytest.mark.parametrize("partners", [True, False], ids=["of partners we have", "of nobody"])
@pytest.mark.parametrize("name", sheet_kinds.KINDS)
def test_rows_of_things_that_nobody_knows_are_looked_up_all_at_once(grown: Grown, name: str, partners: bool) -> None:
    kind, asked = sheet_kinds.KINDS[name], []
    columns = (*kind.required, *kind.optional)
    fitting = FITTING if partners else {key: value for key, value in FITTING.items() if key not in ("store", "supplier", "carrier")}
    rows = [{column: fitting.get(column, f"no such {n}") for column in columns} for n in range(4000)]
    note = lambda *given: asked.append(given[2])  # noqa: E731
    event.listen(grown.db.engine, "before_cursor_execute", note)
    try:
        with grown.db.reading() as s:
            kind.check(grown.context(s), rows, lambda n: None)
    finally:
        event.remove(grown.db.engine, "before_cursor_execute", note)
    assert len(asked) < 30, asked[-3:]
