"""A week of the practice world at ×600 in a house of 10,000 SKUs with three people working: is a write refused, a page slow, does it grow?

Run by `make bench-week`; what it found is written to docs/benchmarks-week.md.
"""

from __future__ import annotations

import contextlib
import csv
import io
import itertools
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx

from amber_lane.api.people.sign_in import DEMO

from .server import resident

TARGET = Path(__file__).resolve().parents[2] / "docs" / "benchmarks-week.md"
SPEED, DAYS, SKUS = 600.0, 7, 10_000
DAY_SECONDS = 86_400 / SPEED
# A person reads what was opened before the next hand's turn.
THINKS = (0.3, 1.5)


class Demo:
    """Application, practice world and the craft market's program, as `amber-lane demo` starts them, in a folder of their own."""

    def __init__(self, folder: Path, skus: int = SKUS, ports: tuple[int, int] | None = None) -> None:
        """ports: the application's and the world's, where the folder holds a house already: it knows its partners by them."""
        self.folder = folder
        port, world = ports or _free_ports()
        self.address, self.world = f"http://127.0.0.1:{port}", f"http://127.0.0.1:{world}"
        env = os.environ | {"AMBER_LANE_DATA": str(folder), "AMBER_LANE_PORT": str(port), "AMBER_LANE_WORLD_PORT": str(world)}
        self.log = (folder / "demo.log").open("wb")
        command = [str(Path(sys.executable).parent / "amber-lane"), "demo", "--skus", str(skus), "--speed", "0"]
        self.process = subprocess.Popen(command, env=env, stdout=self.log, stderr=self.log)
        until = time.monotonic() + 1800
        while not self._up():
            if self.process.poll() is not None or time.monotonic() > until:
                raise RuntimeError((folder / "demo.log").read_text()[-3000:])
            time.sleep(1)

    def _up(self) -> bool:
        # It answers before the demo has set the clock going; only then does nothing else follow.
        return b"is open at" in (self.folder / "demo.log").read_bytes()

    def run_at(self, speed: float) -> None:
        httpx.post(f"{self.world}/world/clock", json={"speed": speed}, timeout=20, trust_env=False).raise_for_status()

    def serving(self) -> list[int]:
        """The processes of the application: its server and the worker beside it, not the world."""
        return [one for one in _below(self.process.pid) if b"serve" in _command(one) or b"beside" in _command(one)]

    def memory(self) -> float:
        """Megabytes that they hold together."""
        return resident(self.serving())

    def size(self) -> float:
        """Megabytes of the data on the disk."""
        return sum(one.stat().st_size for one in self.folder.glob("amber-lane.db*")) / 2**20

    def stop(self) -> None:
        self.process.send_signal(signal.SIGINT)
        self.process.wait(60)
        self.log.close()


def _free_ports() -> tuple[int, int]:
    """One for the application, and one with four free behind it for the world and its mails."""
    while True:
        with contextlib.ExitStack() as held:
            one, *rest = (held.enter_context(socket.socket()) for _ in range(5))
            one.bind(("127.0.0.1", 0))
            first = one.getsockname()[1]
            with contextlib.suppress(OSError, OverflowError):
                for n, other in enumerate(rest, 1):
                    other.bind(("127.0.0.1", first + n))
                apart = held.enter_context(socket.socket())
                apart.bind(("127.0.0.1", 0))
                return apart.getsockname()[1], first


def _below(root: int) -> Iterator[int]:
    """All processes that one has started, and those that they have."""
    for path in Path(f"/proc/{root}/task").glob("*/children"):
        with contextlib.suppress(OSError):
            for child in path.read_text().split():
                yield int(child)
                yield from _below(int(child))


def _command(one: int) -> bytes:
    with contextlib.suppress(OSError):
        return Path(f"/proc/{one}/cmdline").read_bytes()
    return b""


@dataclass
class Seen:
    """What the three met. looks and writes: (what, milliseconds, status); broken: what should not be; at: (day, memory, disk), in megabytes."""

    looks: list[tuple[str, float, int]] = field(default_factory=list)
    writes: list[tuple[str, float, int]] = field(default_factory=list)
    broken: list[str] = field(default_factory=list)
    at: list[tuple[float, float, float]] = field(default_factory=list)

    def refused(self) -> list[tuple[str, float, int]]:
        return [one for one in self.writes if one[2] >= 429]

    def slow(self, most: float = 1000) -> list[tuple[str, float, int]]:
        return [one for one in self.looks if one[1] > most]


class Person:
    """Somebody at work: opens pages, reads, does something. Luck is seeded, so that every run works through the same kinds of things."""

    def __init__(self, address: str, seen: Seen, luck: int) -> None:
        self.seen, self.luck = seen, random.Random(luck)
        self.client = httpx.Client(base_url=f"{address}/api/v1", headers={"X-Amber-Lane": "1"}, timeout=60, trust_env=False)
        self.client.post("/session", json={"mail": DEMO.mail, "password": DEMO.password}).raise_for_status()

    def look(self, what: str, path: str, **params: Any) -> Any:
        begun = time.perf_counter()
        answer = self.client.get(path, params=params)
        self.seen.looks.append((what, (time.perf_counter() - begun) * 1000, answer.status_code))
        if answer.status_code >= 400:
            self.seen.broken.append(f"{what}: {answer.status_code} {answer.text[:200]}")
            return {"rows": [], "total": 0}
        time.sleep(self.luck.uniform(*THINKS))
        return answer.json()

    def do(self, what: str, path: str, body: Any = None, how: str = "POST", **more: Any) -> Any:
        begun = time.perf_counter()
        answer = (
            self.client.request(how, path, json=body, **more) if body is not None or not more else self.client.request(how, path, **more)
        )
        self.seen.writes.append((what, (time.perf_counter() - begun) * 1000, answer.status_code))
        if answer.status_code >= 429:
            self.seen.broken.append(f"{what}: {answer.status_code} {answer.text[:200]}")
        return answer.json() if answer.is_success else None

    def some(self, rows: list[Any], most: int) -> list[Any]:
        return self.luck.sample(rows, min(most, len(rows)))

    def done(self, job: Any) -> None:
        """Until a long piece of work is over; looked at as the page does."""
        number = (job or {}).get("job")
        while number is not None and self.look("a job under way", f"/jobs/{number}").get("state") in ("waiting", "running", "claimed"):
            time.sleep(0.5)


def prices(me: Person) -> None:
    """Whoever looks after prices: Today, the list, a price by hand and its undo, what waits under Watch, another rule once in a while."""
    me.look("Today", "/today")
    me.look("pulse", "/pulse")
    page = me.look(
        "Price", "/prices/listings", limit=100, offset=me.luck.randrange(0, 9000, 100), sort=me.luck.choice(("sku", "profit", "price"))
    )
    for row in me.some([one for one in page["rows"] if one["profit"]], 2):
        me.look("a price's why", f"/prices/listings/{row['id']}/why")
        price = {"amount": f"{float(row['price']['amount']) + 1:.2f}", "currency": row["price"]["currency"]}
        if me.do("a price by hand", f"/prices/listings/{row['id']}/hand", {"version": row["version"], "price": price, "reason": "tried"}):
            last = me.look("log", "/acts", filters="kind:price.hand", limit=1)["rows"]
            if last and me.luck.random() < 0.5:
                me.do("undo", f"/acts/{last[0]['id']}/undo", {})
    for group in me.some(me.look("Watch, groups", "/watch/groups"), 1):
        if group["state"] == "waits":
            asked = {key: group[key] for key in ("kind", "sweep", "act")} | {"approve": me.luck.random() < 0.8, "many": True}
            me.do("a group of changes", "/watch/groups/settle", asked)
    if me.luck.random() < 0.08:
        value = me.luck.choice((270_000, 280_000, 290_000))
        rule = {
            "scope": "house",
            "scope_key": "",
            "band_from": 0,
            "rule": "margin",
            "rule_value": value,
            "min_profit": 150,
            "endings": "95",
        }
        counts = (me.do("what-if", "/prices/what-if", {"rules": [rule]}) or {}).get("counts")
        if counts:
            me.do("a rule for all", "/prices/apply", {"rules": [rule], "seen": counts})


def orders(me: Person) -> None:
    """Whoever sends orders: the list, some of them opened, sent, made to wait or let go; parcels; a word from carriers."""
    me.look("Today", "/today")
    page = me.look("Orders", "/orders", limit=100, words=me.luck.choice(("", "", "lamp")))
    me.look("Orders, how they stand", "/orders/standing")
    for row in me.some(page["rows"], 3):
        me.look("an order", f"/orders/{row['id']}")
    ready = [one["id"] for one in page["rows"] if one["state"] in ("ready", "waits", "planned")]
    if ready:
        me.do("orders made to wait", "/orders/wait", {"orders": me.some(ready, 5), "by_hand": True})
        me.do("orders sent", "/orders/send", {"orders": ready[:40]})
    held = [one["id"] for one in page["rows"] if one["state"] == "held"]
    if held:
        me.do("limits let go", "/orders/many/allow", {"orders": me.some(held, 5), "reason": "looked at"})
    me.look("Transit", "/transit/parcels", limit=100)
    me.look("Transit, troubled", "/transit/troubled")
    me.do("a row of Today put off", "/today/snooze", {"key": f"week-{me.luck.randrange(9)}", "hours": 1})


def goods(me: Person) -> None:
    """Whoever maps: what is to settle, a search, candidates, a lane's use, a sheet of lanes, things off sale and back, the list as a sheet."""
    me.look("Lanes, to settle", "/lanes/to-settle")
    page = me.look("Lanes", "/lanes", limit=100, offset=me.luck.randrange(0, 9000, 100), sort=me.luck.choice(("sku", "landed", "stock")))
    for row in me.some(page["rows"], 2):
        me.look("Lanes, a SKU", f"/lanes/skus/{row['sku_id']}")
        me.look("Lanes, candidates", f"/lanes/skus/{row['sku_id']}/candidates")
        me.do(
            "a lane shut or opened", f"/lanes/{row['id']}", {"version": row["version"], "state": me.luck.choice(("shut", "open"))}, "PATCH"
        )
    words = me.luck.choice(("lamp", "red wool", "folding chair", "bag"))
    me.look("Source", "/source/search", filters="store:1", words=words, limit=50)
    chance = me.luck.random()
    if chance < 0.1:
        ids = me.look("ids of a list", "/sheets/lists/listings/ids", filters="state:live", most=400)["ids"]
        if me.do("400 off sale", "/prices/listings/on-sale", {"listings": ids, "on": False}):
            me.look("Shelf", "/shelf", limit=100)
            last = me.look("log", "/acts", filters="kind:listing.pause", limit=1)["rows"]
            if last:
                me.do("400 back by undo", f"/acts/{last[0]['id']}/undo", {})
    elif chance < 0.2:
        _lanes_sheet(me, page["rows"])
    elif chance < 0.25:
        begun = time.perf_counter()
        answer = me.client.get("/sheets/lists/listings.csv")
        me.seen.writes.append(("a list as a sheet", (time.perf_counter() - begun) * 1000, answer.status_code))


def _lanes_sheet(me: Person, rows: list[dict[str, Any]]) -> None:
    """The lanes of a page brought in again, as spares: most of them are there already."""
    out = io.StringIO()
    told = [["all", one["sku"], one["supplier"], one["item"], "1", "spare 3"] for one in rows]
    csv.writer(out).writerows([["store", "sku", "supplier", "item", "units_per_sale", "use"], *told])
    job = me.do("a lanes sheet looked at", "/sheets/lanes/check", files={"file": ("lanes.csv", out.getvalue().encode(), "text/csv")})
    me.done(job)
    if job:
        me.done(me.do("a lanes sheet taken", "/sheets/lanes/take", {"token": job["token"]}))


WORK: dict[str, Callable[[Person], None]] = {"prices": prices, "orders": orders, "goods": goods}


def live(demo: Demo, days: float = DAYS) -> Seen:
    """The three at work for so many days of the world; what they met, and what the application held of memory and disk meanwhile."""
    seen, over, failed = Seen(), threading.Event(), []

    def work(name: str, luck: int) -> None:
        try:
            me = Person(demo.address, seen, luck)
            while not over.is_set():
                WORK[name](me)
        except (httpx.HTTPError, KeyError, ValueError) as error:
            # A person who cannot go on is a fault.
            failed.append(f"{name}: {error!r}")

    demo.run_at(SPEED)
    threads = [threading.Thread(target=work, args=(name, n)) for n, name in enumerate(WORK)]
    for thread in threads:
        thread.start()
    begun = time.monotonic()
    while (past := time.monotonic() - begun) < days * DAY_SECONDS and not failed:
        seen.at.append((past / DAY_SECONDS, demo.memory(), demo.size()))
        time.sleep(2)
    over.set()
    for thread in threads:
        thread.join()
    demo.run_at(0)
    seen.broken += failed
    return seen


def _p(values: list[float], share: float) -> float:
    return sorted(values)[min(int(len(values) * share), len(values) - 1)]


def told(seen: Seen) -> Iterator[str]:
    """The page of the documents."""
    yield "# A week with three people\n"
    yield f"Written by `make bench-week`: the demo with {SKUS:,} SKUs, its world at ×{SPEED:g} for {DAYS} days, and three people who never"
    yield "stop: one prices, one sends orders, one maps. Everything over HTTP, with the world and the craft market's program on the same two cores.\n"
    yield f"- Writes: {len(seen.writes):,}; refused by the house (429 and above): {len(seen.refused())}."
    yield f"  Not done since somebody or something was faster (409, 422): {sum(400 <= one[2] < 429 for one in seen.writes):,}."
    yield f"- Pages: {len(seen.looks):,}; over one second: {len(seen.slow())}; the longest took {max(one[1] for one in seen.looks):,.0f} ms.\n"
    yield "| day | memory, mean | memory, most | data on the disk |"
    yield "|---|---:|---:|---:|"
    for day, group in itertools.groupby(seen.at, lambda one: int(one[0])):
        held = list(group)
        memory = [one[1] for one in held]
        yield f"| {day + 1} | {sum(memory) / len(memory):,.0f} MB | {max(memory):,.0f} MB | {held[-1][2]:,.0f} MB |"
    for title, rows in (("page", seen.looks), ("act", seen.writes)):
        yield f"\n| {title} | times | median | p95 | longest |"
        yield "|---|---:|---:|---:|---:|"
        for what in sorted({one[0] for one in rows}):
            took = [one[1] for one in rows if one[0] == what]
            yield f"| {what} | {len(took):,} | {_p(took, 0.5):,.0f} ms | {_p(took, 0.95):,.0f} ms | {max(took):,.0f} ms |"
    yield ""


def main() -> int:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(os.environ.get("AMBER_LANE_WEEK", name))
        demo = Demo(folder)
        try:
            seen = live(demo)
        finally:
            demo.stop()
    TARGET.write_text("\n".join(told(seen)))
    counted = Counter(seen.broken)
    for what, many in counted.most_common(20):
        print(f"{many} × {what}")
    return int(bool(seen.refused() or seen.slow() or seen.broken))


if __name__ == "__main__":
    sys.exit(main())
