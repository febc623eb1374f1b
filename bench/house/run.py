"""One house measured: its looks, its acts with somebody else writing meanwhile, what it takes when nobody does anything."""

from __future__ import annotations

import contextlib
import re
import tempfile
import threading
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from . import acts
from .looks import Look, looks
from .make import make
from .server import Server

TURNS = 9


@dataclass(frozen=True)
class Figure:
    """One line of the table. unit: ms, s, MB or %; most: the aim at 100,000 SKUs (None = none); at: the size of the house."""

    name: str
    value: float
    unit: str
    most: float | None
    kind: str


def _timed(server: Server, look: Look) -> float:
    begun = time.perf_counter()
    answer = server.client.get(look.path) if look.body is None else server.client.post(look.path, json=look.body)
    took = (time.perf_counter() - begun) * 1000
    if answer.status_code >= 400:
        raise RuntimeError(f"{look.path}: {answer.status_code} {answer.text[:300]}")
    return took


def _p95(values: list[float]) -> float:
    return sorted(values)[max(round(len(values) * 0.95) - 1, 0)]


def look_all(server: Server, n: int, turns: int = TURNS) -> list[Figure]:
    """Every look, its first one left out but where the first is what is asked for."""
    out: list[Figure] = []
    # What is asked for the first time comes first.
    for look in sorted(looks(n), key=lambda look: not look.name.endswith(", first")):
        once = look.name.endswith(", first")
        if not once:
            if not out or out[-1].name.endswith(", first"):
                # The first search makes all SKUs ready for comparing, beside what people do.
                server.quiet()
            _timed(server, look)
        values = [_timed(server, look) for _ in range(1 if once else turns)]
        out.append(Figure(look.name, _p95(values), "ms", look.most, "look"))
    return out


def look_with_writer(server: Server, n: int, turns: int = TURNS) -> list[Figure]:
    """The pages people open all day, while very many rows are taken off sale and brought back."""
    wanted = ("Today", "pulse", "listings of Shelf, first page", "listings of Price, first page", "lanes, first page", "orders, first page")
    going = threading.Event()

    def work() -> None:
        while not going.is_set():
            acts.off_sale(server, n // 20)
            acts.undo_off_sale(server, n // 20)

    thread, values = threading.Thread(target=work), {look.name: [0.0] for look in looks(n) if look.name in wanted}
    thread.start()
    try:
        with contextlib.closing(server.person()) as client:
            for _ in range(turns):
                for look in looks(n):
                    if look.name in wanted:
                        # Spread over what goes on, and as often as somebody turns a page.
                        time.sleep(0.2)
                        begun = time.perf_counter()
                        client.get(look.path).raise_for_status()
                        values[look.name].append((time.perf_counter() - begun) * 1000)
    finally:
        going.set()
        thread.join()
    return [Figure(f"{name}, during a bulk act", _p95(took), "ms", None, "look beside") for name, took in values.items()]


@contextlib.contextmanager
def _pages(server: Server, many: int) -> Iterator[None]:
    """So many pages that stand open: each listens to what moves."""
    going = threading.Event()

    def listen() -> None:
        with contextlib.closing(server.person()) as client, contextlib.suppress(Exception), client.stream("GET", "/events") as stream:
            for _ in stream.iter_raw():
                if going.is_set():
                    return

    threads = [threading.Thread(target=listen, daemon=True) for _ in range(many)]
    for thread in threads:
        thread.start()
    try:
        yield
    finally:
        going.set()


def idle(server: Server, seconds: float = 20) -> Figure:
    """What it takes of a core with five pages open while nothing happens."""
    with _pages(server, 5):
        time.sleep(3)
        before = server.cpu()
        time.sleep(seconds)
        return Figure("idle, five pages open", 100 * (server.cpu() - before) / seconds, "%", 3, "machine")


def act(server: Server, name: str, does: acts.AuditEntry, rows: int, most: float | None = None) -> list[Figure]:
    """One act on many rows with somebody writing meanwhile: seconds, and what those small writes took."""
    with acts.Writer(server.person()) as writer:
        begun = time.perf_counter()
        does(server, rows)
        took = time.perf_counter() - begun
    if writer.refused:
        raise RuntimeError(f"{name}: {writer.refused} small writes were refused")
    small = [one * 1000 for one in writer.took]
    return [
        Figure(f"{name}, {rows:,} rows", took, "s", most, "act"),
        Figure(f"a small write during it ({name}, {rows:,})", _p95(small), "ms", 150, "write"),
        Figure(f"the longest of these ({name}, {rows:,})", max(small), "ms", 1000, "write"),
    ]


def readers(server: Server, many: int = 16, seconds: float = 5) -> list[Figure]:
    """Pages by so many readers at once against one reader: how many a second, and the p95 of each."""
    path = "/shelf?limit=100"

    def run(count: int) -> tuple[float, float]:
        took: list[float] = []
        until = time.perf_counter() + seconds

        def read() -> None:
            with contextlib.closing(server.person()) as client:
                while time.perf_counter() < until:
                    begun = time.perf_counter()
                    client.get(path)
                    took.append((time.perf_counter() - begun) * 1000)

        threads = [threading.Thread(target=read) for _ in range(count)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        return len(took) / seconds, _p95(took)

    alone, _ = run(1)
    together, slow = run(many)
    return [
        Figure(f"{many} readers at once, of one reader's throughput", 100 * together / alone, "%", None, "machine"),
        Figure(f"{many} readers at once, p95 of a page", slow, "ms", None, "machine"),
    ]


class _Told(list[Figure]):
    """Figures that are told as they come: a large house takes its time."""

    def __iadd__(self, more: Iterable[Figure]) -> _Told:  # type: ignore[override,misc]
        for one in more:
            self.append(one)
        return self

    def append(self, one: Figure) -> None:
        print(f"  {one.name}: {one.value:,.1f} {one.unit}", flush=True)
        super().append(one)


def measure(n: int, turns: int = TURNS) -> list[Figure]:
    """All of one house of n SKUs."""
    print(f"a house of {n:,} SKUs", flush=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        begun = time.perf_counter()
        make(folder, n).close()
        out = _Told()
        out.append(Figure("made in", time.perf_counter() - begun, "s", None, "machine"))
        size = (folder / "house.db").stat().st_size / 2**20
        out.append(Figure("its file", size, "MB", None, "machine"))
        server = Server(folder)
        try:
            out.append(Figure("start", server.started, "s", 3, "machine"))
            # What it does by itself after a start: looking over what it finds.
            acts.settle(server, calm=10 + n / 10_000)
            out += look_all(server, n, turns)
            out += look_with_writer(server, n, turns)
            out.append(idle(server))
            out += readers(server)
            out += act(server, "two quiet seconds", acts.plain, 1)
            for share, told in ((20, "a twentieth"), (10, "a tenth")):
                out += act(server, f"{told} off sale", acts.off_sale, n // share)
                out += act(server, f"{told} back by undo", acts.undo_off_sale, n // share)
            out += act(server, "a sweep by a sheet", acts.items_sheet, n // 2)
            out += act(server, "a lanes sheet", acts.lanes_sheet, n)
            out += act(server, "a rule for all", acts.rule, n)
            out += act(server, "a replay of 60 days", acts.replay, n, most=20)
            # The worker begins anew after large work.
            server.quiet()
            acts.settle(server, calm=15)
            out.append(Figure("memory", server.memory(), "MB", 600, "machine"))
            out.append(Figure("most memory", server.most, "MB", 1200, "machine"))
        finally:
            out.append(Figure("stop", server.stop(), "s", None, "machine"))
        again = Server(folder)
        try:
            out.append(Figure("start again", again.started, "s", 3, "machine"))
            first = next(look for look in looks(n) if look.name == "search, first")
            out.append(Figure("search right after a start", _timed(again, first), "ms", 1000, "look"))
        finally:
            again.stop()
    return out


def plain(name: str) -> str:
    """The name of a figure without the rows of its own house."""
    return re.sub(r",? ?[\d,]{3,}( rows)?(?=\)|$)", "", name).replace("()", "").strip()


def growth(small: list[Figure], large: list[Figure]) -> dict[str, float]:
    """How much more each figure is in the larger house, by plain name."""
    was: dict[str, float] = {}
    for one in small:
        was.setdefault(plain(one.name), one.value)
    return {plain(one.name): one.value / was[plain(one.name)] for one in large if was.get(plain(one.name))}
