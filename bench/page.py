"""The first view, and a key, in Debian's Chromium over 100,000 listings."""

from __future__ import annotations

import socket
import statistics
import tempfile
import threading
import time
from pathlib import Path

import uvicorn
from playwright.sync_api import sync_playwright

from amber_lane.api.app import make_app, make_app_state
from amber_lane.clock import SystemClock
from amber_lane.settings import Settings
from tests.browser.conftest import ARGS, CHROMIUM

from . import big
from .measure import Report

MOVE = """async () => {
  const at = () => document.querySelector('tr[aria-selected=true]')?.textContent
  const before = at(); const start = performance.now()
  document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'j', bubbles: true }))
  while (at() === before && performance.now() - start < 2000) await new Promise(requestAnimationFrame)
  return performance.now() - start
}"""


def run(report: Report, n: int = 100_000) -> None:
    with tempfile.TemporaryDirectory() as name, socket.socket() as probe:
        folder = Path(name)
        big.make(folder, n).close()
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
        probe.close()
        house = make_app_state(Settings(data=folder, database_url=f"sqlite:///{folder / 'big.db'}", jobs=False), clock=SystemClock())
        server = uvicorn.Server(
            uvicorn.Config(make_app(house), host="127.0.0.1", port=port, log_level="error", timeout_graceful_shutdown=1)
        )
        thread = threading.Thread(target=server.run, daemon=True)
        thread.start()
        while not server.started:
            time.sleep(0.02)
        try:
            _look(report, f"http://127.0.0.1:{port}", n)
        finally:
            server.should_exit = True
            thread.join(10)


def _look(report: Report, address: str, n: int) -> None:
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=ARGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800}, reduced_motion="reduce")
        page.goto(address)
        page.get_by_label("Your name").fill("Bench")
        page.get_by_label("Mail address").fill("bench@amber-lane.example")
        page.get_by_label("Password").fill("long-enough-word")
        page.get_by_role("button", name="Make my account").click()
        page.get_by_role("navigation", name="The road").wait_for()
        views = []
        for _ in range(5):
            start = time.perf_counter()
            page.goto(f"{address}/price?view=listings")
            page.get_by_role("row").nth(5).wait_for()
            views.append(time.perf_counter() - start)
        first = statistics.median(views)
        report.add(f"page: first view with rows, {n:,} listings behind it", f"{first:.2f} s", "under 1 s", first < 1)
        keys = [float(page.evaluate(MOVE)) for _ in range(30)]
        slow = sorted(keys)[-2]
        report.add(
            f"page: a key answered with {n:,} rows behind the table",
            f"{statistics.median(keys):.0f} ms, at most {slow:.0f}",
            "within 100 ms",
            slow < 100,
        )
        browser.close()
