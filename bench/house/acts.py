"""What a person does with very many rows at once, over HTTP, while another person writes something small again and again."""

from __future__ import annotations

import csv
import io
import sqlite3
import threading
import time
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field
from typing import Any

import httpx

from .server import Server

AuditEntry = Callable[[Server, int], None]


@dataclass
class Writer:
    """Somebody who puts a trouble of Today off, again and again: a small write, and what each of them took."""

    client: httpx.Client
    took: list[float] = field(default_factory=list)
    refused: int = 0

    def __enter__(self) -> Writer:
        self.going = True
        self.thread = threading.Thread(target=self._run)
        self.thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.going = False
        self.thread.join()

    def _run(self) -> None:
        while self.going:
            begun = time.perf_counter()
            answer = self.client.post("/today/snooze", json={"key": "bench", "hours": 1})
            self.took.append(time.perf_counter() - begun)
            self.refused += answer.status_code >= 400
            time.sleep(0.05)


def settle(server: Server, calm: float = 1.5, within: float = 900) -> None:
    """Until no job was to be done for so many seconds."""
    until, last = time.monotonic() + within, time.monotonic()
    while time.monotonic() - last < calm:
        if time.monotonic() > until:
            raise TimeoutError("jobs are still going on")
        if _ok(server.client.get("/pulse"))["jobs"]:
            last = time.monotonic()
        time.sleep(0.1)


def _ok(answer: httpx.Response) -> Any:
    if answer.status_code >= 400:
        raise RuntimeError(f"{answer.request.url}: {answer.status_code} {answer.text[:300]}")
    return answer.json()


def off_sale(server: Server, n: int) -> None:
    """n listings of the first store are taken off sale."""
    ids = _ok(server.client.get("/sheets/lists/listings/ids", params={"filters": "state:live;store:EAST", "most": n}))["ids"]
    _ok(server.client.post("/prices/listings/on-sale", json={"listings": ids, "on": False}))
    settle(server)


def undo_off_sale(server: Server, n: int) -> None:
    """The last taking off sale is taken back."""
    last = _ok(server.client.get("/acts", params={"filters": "kind:listing.pause", "limit": 1}))["rows"][0]
    _ok(server.client.post(f"/acts/{last['id']}/undo"))
    settle(server)


def rule(server: Server, n: int) -> None:
    """Another rule for the whole house, looked at first and put in force."""
    draft = {
        "rules": [
            {"scope": "house", "scope_key": "", "band_from": 0, "rule": "margin", "rule_value": 290_000, "min_profit": 150, "endings": "95"}
        ]
    }
    seen = _ok(server.client.post("/prices/what-if", json=draft))["counts"]
    _ok(server.client.post("/prices/apply", json={**draft, "seen": seen}))
    settle(server)


def _sheet(server: Server, name: str, header: list[str], rows: list[list[Any]]) -> None:
    out = io.StringIO()
    csv.writer(out).writerows([header, *rows])
    job = _ok(server.client.post(f"/sheets/{name}/check", files={"file": (f"{name}.csv", out.getvalue().encode(), "text/csv")}))
    settle(server)
    _ok(server.client.post(f"/sheets/{name}/take", json={"token": job["token"]}))
    settle(server)


def lanes_sheet(server: Server, n: int) -> None:
    """A sheet that gives n SKUs a second spare."""
    rows = [["all", f"SKU-{i:06d}", f"S{(i + 2) % 5 + 1}", f"C-{i:06d}", "1", "spare 2"] for i in range(1, n + 1) if i % 500]
    _sheet(server, "lanes", ["store", "sku", "supplier", "item", "units_per_sale", "use"], rows)


def items_sheet(server: Server, n: int) -> None:
    """A sheet in which the main items of n SKUs cost a little more: a sweep by hand."""
    with closing(sqlite3.connect(f"file:{server.folder / 'house.db'}?mode=ro", uri=True)) as data:
        found = data.execute(
            "select supplier.code, number, item.title, item.cost, item.currency, item.stock from item"
            " join supplier on supplier.id = supplier_id where item.offer = 'good' and item.id % 3 = 1 order by item.id limit ?",
            (n,),
        ).fetchall()
    rows = [
        [code, number, title, f"{(cost * 103 // 100 + 1) / 100:.2f}", money, stock + 3] for code, number, title, cost, money, stock in found
    ]
    _sheet(server, "items", ["supplier", "item", "title", "cost", "currency", "stock"], rows)


def replay(server: Server, n: int) -> None:
    """Two sets of rules over sixty days."""
    job = _ok(server.client.post("/prices/replay", json={"days": 60}))["job"]
    settle(server)
    if job is not None and _ok(server.client.get(f"/jobs/{job}"))["state"] != "done":
        raise RuntimeError("the replay was not done")


def plain(server: Server, n: int) -> None:
    """Nothing but the small writes, for two seconds."""
    time.sleep(2)
