"""The world's own data file and clock. One connection and one lock: the world does one thing at a time."""

from __future__ import annotations

import json
import random
import sqlite3
import threading
import time
from collections import defaultdict, deque
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from . import lands

SCHEMA = """
create table if not exists fact(name text primary key, value text);
create table if not exists dial(service text, name text, value real, primary key(service, name));
create table if not exists event(id integer primary key, due integer, kind text, body text);
create index if not exists event_due on event(due);
create table if not exists shop_listing(store text, sku text, title text, gtin text, mpn text, brand text,
  category text, options text, weight_g integer, price integer, quantity integer, state text, popularity real,
  description text default '', compare_at integer, tags text default '', pictures text default '[]', family text default '',
  primary key(store, sku));
create table if not exists shop_show(seq integer primary key, at integer, store text, sku text, price integer, quantity integer,
  state text, key text, by text);
create index if not exists shop_show_sku on shop_show(store, sku, seq);
create table if not exists shop_order(seq integer primary key, store text, number text unique, at integer, state text, body text);
create table if not exists shop_fulfilment(id integer primary key, store text, number text, at integer, reference text,
  tracking_number text, carrier text);
create table if not exists shop_picture(id text primary key, store text, bytes blob);
create table if not exists batch(store text, key text, at integer, due integer, body text, results text, primary key(store, key));
create table if not exists supply_item(supplier text, number text, title text, gtin text, mpn text, brand text,
  category text, options text, pack_size integer, weight_g integer, base integer, cost integer, stock integer,
  origin text, gone integer default 0, primary key(supplier, number));
create table if not exists supply_frozen as select supplier, number, cost, stock from supply_item where 0;
create table if not exists supply_history(supplier text, number text, at integer, cost integer, stock integer);
create index if not exists supply_history_number on supply_history(supplier, number, at);
create table if not exists purchase(id integer primary key, supplier text, reference text, at integer, state text, body text,
  told text, billed integer, tracking_number text, updated integer);
create index if not exists purchase_reference on purchase(reference);
create table if not exists parcel(number text primary key, purchase integer, country text, stuck integer);
create table if not exists parcel_event(id integer primary key, number text, at integer, kind text, told text, place text);
create index if not exists parcel_event_number on parcel_event(number);
create table if not exists print_file(supplier text, sha text, bytes blob, width integer, height integer, at integer,
  primary key(supplier, sha));
create table if not exists depot_goods(number text primary key, title text, body text, state text, message text, at integer, answer text);
create table if not exists depot_load(reference text primary key, body text, state text, at integer, came text, counted text, told text);
create table if not exists depot_move(id integer primary key, at integer, number text, units integer, kind text, reference text, note text);
create table if not exists claim(id integer primary key, reference text unique, supplier text, body text, state text, told text,
  amount integer, at integer, tracking text);
create table if not exists buyer_return(id integer primary key, number text unique, store text, order_no text, body text, state text,
  at integer, due integer, seq integer);
create table if not exists post_label(reference text primary key, number text, body text, at integer);
create table if not exists mail(id integer primary key, at integer, reference text, recipient text, subject text, body text);
create table if not exists wharf(path text primary key, bytes blob, at integer);
create table if not exists inbox(id integer primary key, at integer, raw blob);
"""


SCHEMA_NUMBER = 8


class OldWorld(RuntimeError):
    """The data file is of another make; nothing in it was touched."""


class World:
    """State, clock and dials. Times are integer milliseconds since 1970, money is minor units of each partner's currency."""

    def __init__(self, path: Path | str, seed: int = 7, key: str = "practice", land: str = "GB") -> None:
        self.lock = threading.RLock()
        if isinstance(path, Path):
            path.parent.mkdir(parents=True, exist_ok=True)
        self.db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self.db.row_factory = sqlite3.Row
        for pragma in ("journal_mode=WAL", "synchronous=NORMAL"):
            self.db.execute(f"pragma {pragma}")
        if self.db.execute("select 1 from sqlite_master where name = 'fact'").fetchone():
            if self.db.execute("pragma user_version").fetchone()[0] != SCHEMA_NUMBER:
                raise OldWorld("this practice world was made by an older version; make fresh empties the demo data")
        else:
            self.db.execute(f"pragma user_version = {SCHEMA_NUMBER}")
        self.db.executescript(SCHEMA)
        self.seed = int(self.fact("seed", seed))
        self.key = str(self.fact("key", key))
        lands.settle(str(self.fact("land", land)))
        self.moments: dict[str, sqlite3.Connection] = {}
        self._wake()

    def _wake(self) -> None:
        """What is held in memory, as the data file has it; nobody has called yet."""
        self.numbers: list[tuple[str, str]] = []
        # When somebody called whom, by a clock that only goes forward.
        self.calls: defaultdict[str, deque[float]] = defaultdict(deque)
        self._dials = {(s, n): float(v) for s, n, v in self.db.execute("select service, name, value from dial")}
        self.luck = random.Random(f"luck-{self.seed}")
        start = int(datetime(2026, 3, 12, 9, 0, tzinfo=UTC).timestamp() * 1000)
        self.world_at = int(self.fact("world_at", start))
        self.speed = float(self.fact("speed", 0))
        self.mark = time.monotonic()

    def keep(self, name: str) -> None:
        """Remember this moment, so that a practice can begin at it again."""
        with self.lock:
            self.set_clock()
            kept = sqlite3.connect(":memory:", check_same_thread=False)
            self.db.backup(kept)
            self.moments[name] = kept

    def back(self, name: str) -> None:
        """Everything is as it was at a moment that was kept; KeyError where there is none."""
        with self.lock:
            self.moments[name].backup(self.db)
            self._wake()

    def fact(self, name: str, default: Any = None) -> Any:
        """A remembered fact, entered with its default on first use."""
        row = self.db.execute("select value from fact where name = ?", (name,)).fetchone()
        if row:
            return json.loads(row[0])
        if default is not None:
            self.remember(name, default)
        return default

    def remember(self, name: str, value: Any) -> None:
        self.db.execute("insert or replace into fact values (?, ?)", (name, json.dumps(value)))

    def now(self) -> int:
        with self.lock:
            return self.world_at + int((time.monotonic() - self.mark) * 1000 * self.speed)

    def set_clock(self, at: int | None = None, speed: float | None = None) -> None:
        """Move the hand or change the speed; what falls due in between happens at the next tick."""
        with self.lock:
            self.world_at = self.now() if at is None else at
            self.mark = time.monotonic()
            if speed is not None:
                self.speed = speed
            self.remember("world_at", self.world_at)
            self.remember("speed", self.speed)

    @contextmanager
    def change(self) -> Iterator[sqlite3.Connection]:
        """One all-or-nothing change of the world."""
        with self.lock:
            if self.db.in_transaction:
                yield self.db
                return
            self.db.execute("begin immediate")
            try:
                yield self.db
                self.db.execute("commit")
            except BaseException:
                self.db.execute("rollback")
                raise

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[dict[str, Any]]:
        with self.lock:
            return [dict(row) for row in self.db.execute(sql, values)]

    def one(self, sql: str, values: Sequence[Any] = ()) -> dict[str, Any] | None:
        found = self.rows(sql, values)
        return found[0] if found else None

    def plan(self, due: int, kind: str, **body: Any) -> None:
        """Let something happen at a later time."""
        self.db.execute("insert into event(due, kind, body) values (?, ?, ?)", (due, kind, json.dumps(body)))

    def dial(self, service: str, name: str) -> float:
        return self._dials.get((service, name), 0.0)

    def turn(self, service: str, name: str, value: float) -> None:
        """Turn a fault dial; it is remembered."""
        self.db.execute("insert or replace into dial values (?,?,?)", (service, name, value))
        self._dials[service, name] = value


def iso(ms: int) -> str:
    """A world time as ISO 8601 with offset."""
    return datetime.fromtimestamp(ms / 1000, UTC).isoformat(timespec="milliseconds")
