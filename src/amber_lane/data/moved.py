"""Which SKUs were changed since when, kept by the database's own triggers: whoever keeps columns of all of them reads those few anew."""

from __future__ import annotations

from sqlalchemy import Connection, text
from sqlalchemy.orm import Session

TABLE = "moved"
# So many changes are kept; who has seen none of them for longer reads everything.
KEPT = 100_000
_BEHIND = (
    "select lane.sku_id from lane_part join lane on lane.id = lane_part.lane_id where lane.closed_at is null and lane_part.item_id = {}.id"
)
_LISTING = (
    "store_id, sku_id, state, paused_by, currency, wanted_price, wanted_quantity, hand_price, hand_until, ceiling, least_price, step_price,"
    " step_at, steady, lane_id, landed, profit, set_by, most, rest_price, rest_stock, version"
)
_LANE = "sku_id, store_id, supplier_id, origin_id, service, services, priority, state, closed_at, begun, is_substitute"
# table: the columns that count, and what says which SKUs it is about; {} = new or old.
_WATCHED = {
    "listing": (_LISTING, "select {}.sku_id"),
    "lane": (_LANE, "select {}.sku_id"),
    "lane_part": ("item_id, units_num, units_den, origin_id, service", "select sku_id from lane where id = {}.lane_id"),
    "item": ("supplier_id, origin_id, cost, stock, offer, least_price, weight_g, currency, tiers", _BEHIND),
    "sku": ("code, category, pace", "select {}.id"),
}


def make(connection: Connection) -> None:
    """Make the table and the triggers that are not there."""
    run = connection.exec_driver_sql
    run(f"create table if not exists {TABLE} (n integer primary key autoincrement, sku_id integer not null)")
    for name, (columns, which) in _WATCHED.items():
        for when, row in (("insert", "new"), ("delete", "old"), (f"update of {columns}", "new")):
            does = f"insert into {TABLE}(sku_id) {which.format(row)};"
            run(f"create trigger if not exists {TABLE}_{name}_{when.split()[0]} after {when} on {name} begin {does} end")


def newest(s: Session) -> int:
    """The number of the last change."""
    return int(s.scalar(text(f"select coalesce(max(n), 0) from {TABLE}")) or 0)


def since(s: Session, n: int, most: int) -> list[int] | None:
    """SKUs that were changed after a change; None where it is not known any more, or there are too many."""
    least, last = s.execute(text(f"select coalesce(min(n), 0), coalesce(max(n), 0) from {TABLE}")).one()
    if n > last or (n + 1 < least and n != last) or last - n > most:
        return None
    return [row[0] for row in s.execute(text(f"select distinct sku_id from {TABLE} where n > :n order by sku_id"), {"n": n})]


def forget(s: Session) -> None:
    """Leave the oldest changes out."""
    s.execute(text(f"delete from {TABLE} where n <= (select max(n) from {TABLE}) - :kept"), {"kept": KEPT})
