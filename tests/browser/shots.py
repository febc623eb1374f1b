"""Take the pictures of the README from the running demo: `make demo` in one window, `make shots` in another."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from . import first_day
from .conftest import ARGS, CHROMIUM

TARGET = Path(__file__).resolve().parents[2] / "docs" / "screenshots"
VIEWS = {
    "today": "/today",
    "source": "/source?words=red+lamp&days=8",
    "shelf": "/shelf",
    "lanes": "/lanes",
    "print": "/shelf/print/1?colour=navy",
    "price": "/price",
    "watch": "/watch?state=reprice",
    "orders": "/orders?state=held",
    "transit": "/transit?show=trouble",
    "cases": "/transit?show=cases&mail=1",
    "returns": "/transit?show=cases",
    "depot": "/depot",
    "books": "/books?period=last-week",
    "settled": "/books?view=settled",
    "partners": "/setup/partners",
    "files": "/setup/files",
}


# The description of a newcomer of the practice world, made as a person would by the interface.
_MAKE = """async (text) => {
  const ask = async (path, body) => (await fetch('/api/v1/setup/descriptions' + path, {method: 'POST', body: JSON.stringify(body),
    headers: {'X-Amber-Lane': '1', 'Content-Type': 'application/json'}})).json()
  const known = (await (await fetch('/api/v1/setup/descriptions')).json()).own.find((one) => one.name === 'Fernmoor Trade')
  const id = known?.id ?? (await ask('', {name: 'Fernmoor Trade', text})).id
  await ask(`/${id}/trial`, {address: 'http://127.0.0.1:8701/fern', key: 'practice-fernmoor'})
  return id
}"""


def described(page: Page) -> None:
    """A partner described beside its live answers."""
    text = (Path(__file__).parents[1] / "connectors" / "descriptions" / "fern.yaml").read_text()
    number = page.evaluate(_MAKE, text)
    page.goto(f"http://127.0.0.1:8700/setup/descriptions?one={number}")
    page.get_by_role("navigation", name="Steps of the description").get_by_role("button", name="Price and stock").click()
    page.get_by_role("button", name="Ask it now").click()
    page.get_by_text("all of them can be read").wait_for()
    page.get_by_label("Where is: units in stock").scroll_into_view_if_needed()
    page.wait_for_timeout(600)
    page.screenshot(path=TARGET / "described.png")


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=ARGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800}, locale="en-GB", timezone_id="UTC", reduced_motion="reduce")
        page.goto("http://127.0.0.1:8700/")
        page.get_by_text("Go in as its manager").click()
        page.get_by_role("navigation", name="The road").wait_for()
        for name, path in VIEWS.items():
            page.goto(f"http://127.0.0.1:8700{path}")
            page.get_by_role("main").locator("h1, h2").first.wait_for(state="attached")
            if name == "price":
                page.get_by_role("button", name="margin of 28 %").click()
                page.get_by_label("How much").fill("30")
                page.get_by_role("button", name="Save as a draft").click()
                page.get_by_role("heading", name="If you make it so").wait_for()
            if name in ("orders", "transit"):
                page.get_by_role("row").nth(2).click()
            if name == "returns":
                page.get_by_role("button", name="Coming back").click()
                page.get_by_role("heading", name="Story").scroll_into_view_if_needed()
            if name == "source":
                page.get_by_role("heading", name="What becomes of a sale").wait_for()
            page.wait_for_timeout(1200)
            # Asked again and again from here: a page of ours lets no script of a text run.
            for _ in range(60):
                if page.evaluate("[...document.images].every((one) => one.complete)"):
                    break
                page.wait_for_timeout(250)
            page.screenshot(path=TARGET / f"{name}.png")
        described(page)
        first_day.take(browser, TARGET)
        browser.close()


if __name__ == "__main__":
    main()
