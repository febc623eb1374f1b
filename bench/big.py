"""A generated house of any size, written with plain SQL, for the benchmarks of sweeps, lists and delivery."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from amber_lane.clock import SystemClock
from amber_lane.data.base import to_ms
from amber_lane.data.session import Database

AT = to_ms(datetime(2026, 3, 12, 9, tzinfo=UTC))


def make(folder: Path, n: int) -> Database:
    """A store, a supplier and n SKUs, each with a listing, a lane and an item."""
    db = Database(f"sqlite:///{folder / 'big.db'}")
    db.migrate()
    rng = np.random.default_rng(3)
    cost = rng.integers(100, 8000, n).tolist()
    with db.writing() as s:
        run = s.connection().exec_driver_sql
        run(
            "insert into store(id, version, code, name, kind, country, currency, tax_in_price, payment, payment_fixed, read_orders, write_prices, write_stock, buy_orders, mass_agreed)"
            " values (1, 1, 'BIG', 'Big shop', 'own_site', 'GB', 'GBP', 0, 19000, 20, 1, 1, 1, 1, 1)"
        )
        run("insert into fee_row(version, store_id, category, percent, least, fixed) values (1, 1, '', 110000, 0, 0)")
        run(
            "insert into supplier(id, version, code, name, kind, country, currency, tax, discount, rebate, sweep_minutes, watching, stale, note)"
            " values (1, 1, 'NT', 'Supplier', 'wholesale_api', 'GB', 'GBP', 0, 0, 0, 15, 1, 0, '')"
        )
        run(
            "insert into origin(id, version, supplier_id, code, name, country, cut_off, handling, holidays, return_address) values (1, 1, 1, 'leeds', 'Leeds', 'GB', '16:00', 30, '[]', '')"
        )
        run(
            "insert into service(version, origin_id, code, name, country, first, following, weight_bands, days_low, days_high, tracked)"
            " values (1, 1, 't48', 'Tracked', 'GB', 160, 50, '[]', 2, 3, 1)"
        )
        run(
            "insert into price_rule(version, scope, scope_key, band_from, rule, rule_value, min_profit, endings) values (1, 'house', '', 0, 'margin', 250000, 150, '95')"
        )
        run("insert into policy(version, scope, scope_key, fields) values (1, 'house', '', '{\"hold_median\": 900000, \"wait_over\": 0}')")
        ids = range(1, n + 1)
        run(
            "insert into sku(id, version, code, title, gtin, mpn, brand, category, options, weight_g, pace) values (?, 1, ?, ?, '', '', '', ?, '', 100, 500000)",
            [(i, f"SKU-{i:06d}", f"Thing number {i} of {'red' if i % 3 else 'blue'} canvas", f"cat {i % 20}") for i in ids],
        )
        run(
            "insert into item(id, supplier_id, origin_id, number, title, gtin, mpn, brand, category, options, link, pack_size, weight_g, lead_days, currency, cost, stock,"
            " offer, seen_at, changed_at, doubt_cost, doubt_stock, doubt_seen) values (?, 1, 1, ?, ?, '', '', '', '', '', '', 1, 100, 0, 'GBP', ?, 40, 'good', ?, ?, -1, -1, 0)",
            [(i, f"IT-{i:06d}", f"Thing {i}", cost[i - 1], AT, AT) for i in ids],
        )
        run(
            "insert into lane(id, version, sku_id, sku_code, supplier_id, origin_id, service, priority, state, reason, opened_at, opened_by) values (?, 1, ?, ?, 1, 1, 't48', 0, 'open', '', ?, 'bench')",
            [(i, i, f"SKU-{i:06d}", AT) for i in ids],
        )
        run("insert into lane_part(lane_id, item_id, units_num, units_den) values (?, ?, 1, 1)", [(i, i) for i in ids])
        run(
            "insert into listing(id, version, store_id, sku_id, title, description, state, paused_by, currency, wanted_price, wanted_quantity, shown_price, shown_quantity,"
            " shown_state, hand_reason, steady, set_by, outcome) values (?, 1, 1, ?, ?, '', 'live', '', 'GBP', ?, 8, ?, 8, 'live', '', 0, -1, 0)",
            [(i, i, f"Thing number {i}", cost[i - 1] * 2, cost[i - 1] * 2) for i in ids],
        )
    return db


CLOCK = SystemClock()
