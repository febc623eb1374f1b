"""A page of 100 rows out of 100,000 listings, filtered and sorted, against raw sqlite3 plus JSON; and the first view."""

from __future__ import annotations

import gzip
import json
import sqlite3
import tempfile
from functools import partial
from pathlib import Path

from amber_lane.api.app import make_app_state
from amber_lane.api.schemas import rows_out
from amber_lane.clock import SystemClock
from amber_lane.services.base.context import Context
from amber_lane.services.grids import goods_grids
from amber_lane.services.grids.goods_grids import GridQuery
from amber_lane.settings import Settings

from . import big
from .measure import Report, in_turn, percentile, seconds, signed_in

SQL = """
select l.id, k.id, k.code, l.title, s.name, l.state, l.paused_by, l.wanted_price, l.currency, l.wanted_quantity, l.landed, l.profit, l.net, p.name, a.state,
  l.set_by, l.outcome, k.pace, l.version, l.hand_price
from listing l join sku k on k.id = l.sku_id join store s on s.id = l.store_id
left join lane a on a.sku_id = l.sku_id and a.closed_at is null and a.priority = 0 and a.store_id is null left join supplier p on p.id = a.supplier_id
where l.state in ('live') and (k.code like '%SKU%' or l.title like '%SKU%') order by l.wanted_price desc, l.id limit 100 offset 2000"""
COUNT = "select count(*) from listing l join sku k on k.id = l.sku_id where l.state in ('live') and (k.code like '%SKU%' or l.title like '%SKU%')"


def run(report: Report, n: int = 100_000) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        big.make(folder, n).close()
        house = make_app_state(Settings(data=folder, database_url=f"sqlite:///{folder / 'big.db'}", jobs=False), clock=SystemClock())
        raw = sqlite3.connect(folder / "big.db")
        ask = GridQuery("SKU", "price", True, 2000, 100, {"state": "live"})

        def ours() -> None:
            with house.db.reading() as s:
                rows, total = goods_grids.page(Context(s, house.clock, "bench"), "listings", ask)
                json.dumps(
                    {"rows": rows_out(rows, dict.fromkeys(("price", "landed", "profit", "net", "hand_price"), "currency")), "total": total}
                )

        def plain() -> None:
            json.dumps({"rows": raw.execute(SQL).fetchall(), "total": raw.execute(COUNT).fetchone()[0]})

        one, other, ratio = in_turn(ours, plain, 9)
        report.add(
            f"reading: 100 rows of {n:,}, searched, filtered and sorted",
            f"{one * 1000:.0f} ms, {ratio:.2f} times raw sqlite3 and JSON ({other * 1000:.0f} ms)",
            "at most 3 times",
            ratio <= 3,
        )
        with signed_in(house) as client:
            path = "/api/v1/prices/listings?sort=price&limit=100&filters=state:live"
            client.get(path)
            times = [seconds(partial(client.get, f"{path}&offset={i * 700}")) for i in range(80)]
            report.add(
                "reading: the same by HTTP, filtered and sorted, p95",
                f"{percentile(times, 0.95) * 1000:.0f} ms",
                "under 40 ms",
                percentile(times, 0.95) < 0.04,
            )
        house.db.close()
    dist = Path(__file__).resolve().parents[1] / "web" / "dist" / "assets"
    scripts = sum(len(gzip.compress(one.read_bytes())) for one in dist.glob("*.js"))
    report.add("page: all scripts together, gzipped", f"{scripts / 1024:.0f} kB", "at most 250 kB", scripts <= 250 * 1024)
