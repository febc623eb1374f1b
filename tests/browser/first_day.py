"""The two pictures of a first day: an empty house beside the demo's practice world, joined, mapped, ruled, and not yet turned on."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx
from playwright.sync_api import Browser

WORLD, HERE = "http://127.0.0.1:8701", "http://127.0.0.1:8790"
PERSON = {"name": "Mira Vale", "mail": "mira@amber-lane.example", "password": "long-enough-word"} | {
    "country": "GB",
    "zone": "Europe/London",
}
RULE = {"rules": [{"scope": "house", "scope_key": "", "band_from": 0, "rule": "margin", "rule_value": 280_000, "endings": "95"}]}


def take(browser: Browser, target: Path) -> None:
    with tempfile.TemporaryDirectory() as data:
        env = os.environ | {"AMBER_LANE_DATA": data, "AMBER_LANE_PORT": "8790"}
        process = subprocess.Popen([sys.executable, "-m", "amber_lane.cli", "serve", "--world", WORLD], env=env)
        try:
            _begin()
            page = browser.new_page(viewport={"width": 1280, "height": 800}, locale="en-GB", timezone_id="UTC", reduced_motion="reduce")
            page.request.post(f"{HERE}/api/v1/session", data={k: PERSON[k] for k in ("mail", "password")}, headers={"x-amber-lane": "1"})
            page.goto(f"{HERE}/today")
            page.get_by_role("region", name="First steps").wait_for()
            page.wait_for_timeout(1200)
            page.screenshot(path=target / "first-steps.png")
            page.goto(f"{HERE}/setup/partners?out=prices&store=1")
            page.get_by_role("dialog").get_by_role("table").wait_for()
            page.wait_for_timeout(600)
            page.screenshot(path=target / "going-live.png")
        finally:
            process.terminate()
            process.wait(20)


def _begin() -> None:
    """Join a store and a supplier, wait until the sure lanes are open, and set one rule."""
    with httpx.Client(base_url=f"{HERE}/api/v1", timeout=120, headers={"x-amber-lane": "1"}, trust_env=False) as client:
        until = time.monotonic() + 60
        while True:
            try:
                client.post("/session/first", json=PERSON).raise_for_status()
                break
            except httpx.HTTPError:
                if time.monotonic() > until:
                    raise
                time.sleep(0.5)
        for owner, kind, path, key in (
            ("store", "own_site", "/shop/api", "dusk-dial:practice-shop"),
            ("supplier", "wholesale_api", "/wholesale/api", "practice-northlight"),
        ):
            client.post("/setup/partners", json={"owner": owner, "kind": kind, "address": f"{WORLD}{path}", "key": key}).raise_for_status()
        client.put("/house/place", json={"country": "GB", "zone": "Europe/London", "dates": "dmy", "decimal": "."}).raise_for_status()
        until = time.monotonic() + 180
        while time.monotonic() < until:
            steps = {one["key"]: one for one in client.get("/house/steps").json()}
            if not steps["lanes"]["message"].startswith("0 of") and steps["lanes"]["state"] != "later":
                break
            time.sleep(2)
        # What a rule does may have moved since it was looked at, while the last lanes open; then it is looked at again.
        while True:
            seen = client.post("/prices/what-if", json=RULE).json()["counts"]
            answer = client.post("/prices/apply", json=RULE | {"seen": seen})
            if answer.status_code != 409 or time.monotonic() > until:
                answer.raise_for_status()
                break
            time.sleep(1)
        # Of so many listings the prices follow in portions.
        while client.get("/pulse").json()["jobs"] and time.monotonic() < until + 120:
            time.sleep(0.5)
