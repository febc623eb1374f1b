"""The real interface in Debian's headless Chromium, over a business that trades with the practice world."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
import uvicorn
from playwright.sync_api import Page, expect

from amber_lane.api.app import make_app, make_app_state
from amber_lane.settings import Settings

from ..business import Business, WorldProcess, Worlds, begin

# The part of it that has no window of its own: it works half as much.
CHROMIUM = "/usr/bin/chromium-headless-shell"
ARGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # Letters stand as they do in a window.
    "--font-render-hinting=none",
]
# On two busy cores a page may take longer than the library waits by itself.
expect.set_options(timeout=25_000)
WEB = Path(__file__).resolve().parents[2] / "web"


# What stands outside of its cell or panel, and words of a table that hardly a letter is left of.
CRAMPED = """() => {
  const out = []
  for (const one of document.querySelectorAll('main button, main a, main select')) {
    const around = one.closest('td, aside, section'), box = one.getBoundingClientRect()
    if (around && box.width && box.right > around.getBoundingClientRect().right + 2) out.push('outside: ' + one.innerText)
  }
  for (const one of document.querySelectorAll('main td .truncate, main td.truncate'))
    if (one.scrollWidth > one.clientWidth && one.clientWidth < 60) out.push('cut to nothing: ' + one.textContent.trim())
  return out
}"""


# What is right is neither kept nor named.
AXE = "axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'], resultTypes: ['violations'], selectors: false})"


@pytest.fixture(scope="session")
def browser_type_launch_args():
    return {"executable_path": CHROMIUM, "args": ARGS}


@pytest.fixture
def browser_context_args():
    return {"viewport": {"width": 1280, "height": 800}, "locale": "en-GB", "timezone_id": "UTC", "reduced_motion": "reduce"}


def eventually(check: Callable[[], bool], within: float = 25.0, page: Page | None = None) -> None:
    """Wait for what runs by itself; fails when it has not come about in time. page: one whose calls are to go on being met."""
    until = time.monotonic() + within
    while not check():
        assert time.monotonic() < until, "it did not come about in time"
        if page is None:
            time.sleep(0.05)
        else:
            page.wait_for_timeout(50)


class Served:
    """An application that is being served, with all that runs by itself."""

    def __init__(self, settings: Settings) -> None:
        begin(settings.data)
        # Bound at once, so that nobody takes it in the moment before it is used.
        here = socket.create_server(("127.0.0.1", 0))
        port = here.getsockname()[1]
        self.app_state = make_app_state(settings.model_copy(update={"port": port}))
        self.app_state.worker.delivery.settle = 0.5
        self.server = uvicorn.Server(
            uvicorn.Config(make_app(self.app_state), host="127.0.0.1", port=port, log_level="error", timeout_graceful_shutdown=1)
        )
        self.thread = threading.Thread(target=self.server.run, args=([here],), daemon=True)
        self.thread.start()
        until = time.monotonic() + 20
        while not self.server.started and time.monotonic() < until:
            time.sleep(0.02)
        self.address = f"http://127.0.0.1:{port}"

    def stop(self) -> None:
        self.server.should_exit = True
        self.thread.join(10)


@pytest.fixture(scope="module")
def shop(world: WorldProcess, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Business, Served]]:
    """A joined business, served."""
    folder = tmp_path_factory.mktemp("house")
    business = Business(world, folder)
    served = Served(Settings(data=folder, world=world.address, call_deadline=2, web=WEB / "dist"))
    business.beside = True
    yield business, served
    served.stop()
    business.close()


def flaws(page: Page) -> list[str]:
    """What is wrong with the page as it stands: rules of accessibility, and what does not fit."""
    page.wait_for_load_state("load")
    # As the tool of a tester, not as a script of the page: that would be refused.
    page.evaluate((WEB / "node_modules/axe-core/axe.min.js").read_text())
    found = page.evaluate(AXE)
    out = [f"{one['id']}: {one['nodes'][0]['html'][:160]} {one['nodes'][0]['failureSummary'][:200]}" for one in found["violations"]]
    if not page.evaluate("document.documentElement.scrollWidth <= innerWidth"):
        out.append("the page is wider than its window")
    return out + [one[:120] for one in page.evaluate(CRAMPED)]


def sign_in(page: Page, served: Served) -> None:
    page.set_default_timeout(25_000)
    page.goto(served.address)
    page.get_by_label("Mail address").fill("tester@amber-lane.example")
    page.get_by_label("Password").fill("long-enough-word")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("navigation", name="The road").wait_for()


@pytest.fixture
def app(page: Page, shop: tuple[Business, Served]) -> Page:
    """A page with the manager signed in."""
    sign_in(page, shop[1])
    return page


@pytest.fixture
def empty(worlds: Worlds, tmp_path: Path) -> Iterator[tuple[WorldProcess, Served]]:
    """A house where nobody is yet, and a world to join."""
    served = Served(Settings(data=tmp_path / "house", world="", call_deadline=2, web=WEB / "dist"))
    with worlds.one() as world:
        yield world, served
    served.stop()
