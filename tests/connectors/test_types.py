"""A wrong call of a connector is an error of the type checker: `connect` returns what its kind can do, and nothing more."""

from __future__ import annotations

from pathlib import Path

import pytest
from mypy import api

ROOT = Path(__file__).parents[2]
CALLS = """
from amber_lane.connectors.kinds import connect
from amber_lane.connectors.payloads import PurchasePayload
from amber_lane.connectors.protocols import StoreLink, SupplierLink

shop = connect("store", "own_site", "https://shop.example", "key", 1.0)
house = connect("supplier", "wholesale_api", "https://house.example", "key", 1.0)
post = connect("carrier", "post_api", "https://post.example", "key", 1.0)
right: tuple[StoreLink, SupplierLink] = (shop, house)
post.track(["RR473124829GB"])
shop.buy(None)  # 1
house.buy("two lamps")  # 2
post.track("RR473124829GB")  # 3
post.refund("7", [], "GBP", "r")  # 4
wrong: StoreLink = house  # 5


def send(payload: PurchasePayload) -> None:
    payload.send(shop, "key")  # 6
"""


def test_a_wrong_call_of_a_connector_is_an_error_of_the_type_checker(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MYPYPATH", str(ROOT / "src"))
    source = tmp_path / "calls.py"
    source.write_text(CALLS)
    said, _, status = api.run([str(source), "--config-file", str(ROOT / "pyproject.toml"), "--cache-dir", str(ROOT / ".mypy_cache")])
    lines = CALLS.splitlines()
    wrong = {n for n, line in enumerate(lines, 1) if "  # " in line}
    found = {int(line.split(":")[1]) for line in said.splitlines() if ": error:" in line and Path(line.split(":")[0]).name == source.name}
    assert status == 1 and found == wrong, said
