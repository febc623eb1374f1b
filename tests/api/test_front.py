"""Behind a server in front: under a path, with a cookie of its own, and pages that know where they stand; the world's front page."""

from __future__ import annotations

import re
from importlib.metadata import version
from pathlib import Path
from typing import Any

from fastapi.testclient import TestClient

from amber_lane import __version__
from amber_lane.api.app import make_app, make_app_state
from amber_lane.data.backups import CHANGES, notes
from amber_lane.settings import Settings
from amber_lane.world.front import DOORS, doors, told

from ..business import begin


def test_it_stands_under_any_path_and_its_pages_know(tmp_path: Path) -> None:
    web = tmp_path / "web"
    web.mkdir()
    (web / "index.html").write_text('<html><head><base href="/" /></head><body>pages</body></html>')
    settings = Settings(data=tmp_path / "house", web=web, jobs=False, root_path="amber/", public="https://desk.example/amber/")
    assert (settings.root, settings.address) == ("/amber", "https://desk.example/amber")
    begin(settings.data)
    with TestClient(make_app(make_app_state(settings)), root_path="/amber", base_url="https://desk.example") as client:
        assert client.get("/amber/api/health").json() == {"status": "ok", "version": __version__}
        for path in ("/amber/", "/amber/setup/partners"):
            assert '<base href="/amber/" />' in client.get(path).text
        body = {"name": "Ada", "country": "GB", "zone": "Europe/London", "mail": "ada@amber-lane.example", "password": "long-enough-word"}
        answer = client.post("/amber/api/v1/session/first", json=body, headers={"x-amber-lane": "1"})
        cookie = answer.headers["set-cookie"].lower()
        assert answer.json()["version"] == __version__ and "path=/amber" in cookie and "secure" in cookie


def test_the_practice_world_says_who_is_there_and_where_to_look(world: Any) -> None:
    page = world.client.get("/").text
    for one in DOORS:
        assert f"{world.address}{one.path}" in page and one.key in page and one.key in told(world.address)
    assert "/shop/api/orders/{number}/fulfilments" in page and any(where.startswith("imap://") for *_, where, _ in doors(world.address))
    wrong = world.client.get("/shop/v2/orders")
    assert wrong.status_code == 404 and "/shop/api" in wrong.json()["error"] and f"{world.address}/" in wrong.json()["error"]


def test_the_version_is_one_and_has_its_notes() -> None:
    """What it calls itself, what is installed, and the newest of the list of changes are the same."""
    newest = re.search(r"^## (\S+)$", CHANGES.read_text("utf-8"), re.MULTILINE)
    assert newest is not None and newest[1] == __version__ == version("amber-lane")
    told = notes(__version__)
    assert told.startswith(f"Amber Lane {__version__}\n\n- ") and "\n## " not in told
