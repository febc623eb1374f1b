"""Sheets in every dialect, and the price calculator at the command line."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
from pathlib import Path

import pytest

from amber_lane.sheets.opened import NotASheet
from amber_lane.sheets.price import price_sheet
from amber_lane.sheets.table import csv_bytes, read_sheet, unsafe, xlsx_bytes

HERE = Path(__file__).parent
ROWS = [{"sku": "A-1", "price": "19.95"}, {"sku": "=B", "price": "5"}]


def test_the_calculator_equals_the_example_to_the_cent(tmp_path):
    out = tmp_path / "out.csv"
    done = subprocess.run(
        [sys.executable, "-m", "amber_lane.cli", "calc", "price", str(HERE / "price_in.csv"), str(out)], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    assert out.read_bytes() == (HERE / "price_out.csv").read_bytes()


def test_a_bad_row_says_why_and_the_others_are_solved(tmp_path):
    source = (HERE / "price_in.csv").read_text().splitlines()
    bad = source[1].replace("7.95", "much"), source[1].replace(",margin,", ",magic,"), source[1].replace("7.95", "-7.95")
    rows = price_sheet("\n".join([source[0], *bad, source[2]]).encode(), "GBP")
    assert [row[6] for row in rows] == ["bad_row", "bad_row", "bad_row", "ok"]
    assert "not a number" in rows[0][7] and "not one of" in rows[1][7] and "negative" in rows[2][7]


@pytest.mark.parametrize(
    "content",
    [
        b"",
        b"\x89PNG\r\n\x1a\n\x00\x00",
        b"PK\x03\x04 not really",
        b"name,price\nA,1\n",
        b"sku,sku,price\nA,A,1\n",
        b"\xff\xfes\x00k\x00u\x00",
    ],
)
def test_what_is_not_a_sheet_is_told_in_one_line(content, tmp_path):
    with pytest.raises(NotASheet) as told:
        list(read_sheet(content, ["sku", "price"]).rows)
    assert "\n" not in str(told.value) and len(str(told.value)) < 200
    (tmp_path / "in.csv").write_bytes(content)
    done = subprocess.run(
        [sys.executable, "-m", "amber_lane.cli", "calc", "price", str(tmp_path / "in.csv"), str(tmp_path / "out.csv")],
        capture_output=True,
        text=True,
    )
    assert done.returncode == 2 and len(done.stderr.strip().splitlines()) == 1


@pytest.mark.parametrize(
    "content",
    [
        b"sku,price\r\nA-1,19.95\r\n=B,5\r\n",
        b"\xef\xbb\xbfprice;SKU\n19,95;A-1\n5;=B\n\n",
        b"price\tsku\textra\n19.95\tA-1\tx\n5\t=B\t\n",
        xlsx_bytes(["sku", "price"], [["A-1", 19.95], ["=B", 5]]),
    ],
)
def test_every_dialect_reads_the_same(content):
    sheet = read_sheet(content, ["sku", "price"])
    assert [{"sku": unsafe(row["sku"]), "price": row["price"]} for row in sheet.rows] == ROWS
    assert sheet.unknown == (["extra"] if b"extra" in content else [])


def test_no_value_runs_as_a_formula():
    body = csv_bytes(["sku", "note"], [["=1+1", "@cmd"], ["-0.85", "+44 1632"]]).decode("utf-8-sig")
    assert list(csv.reader(body.splitlines())) == [["sku", "note"], ["'=1+1", "'@cmd"], ["-0.85", "+44 1632"]]


def route_calc(tmp_path: Path, **replaced: str) -> subprocess.CompletedProcess[str]:
    names = ("orders", "lanes", "origins", "limits")
    for name in names:
        (tmp_path / f"{name}.csv").write_text(replaced.get(name, (HERE / "route" / f"{name}.csv").read_text()))
    paths = [str(tmp_path / f"{name}.csv") for name in (*names, "out")]
    asked = ["--today", "2026-03-12", "--min-profit", "-1", "--cancel-cost", "5"]
    return subprocess.run([sys.executable, "-m", "amber_lane.cli", "calc", "route", *paths, *asked], capture_output=True, text=True)


def test_the_routing_calculator_reaches_the_proven_best(tmp_path) -> None:
    done = route_calc(tmp_path)
    told = json.loads(done.stdout)
    assert done.returncode == 0 and {name: told[name] for name in ("objective", "filled", "held", "proven_gap")} == {
        "objective": 202.73,
        "filled": 13,
        "held": 27,
        "proven_gap": 0.0,
    }
    rows = list(csv.DictReader((tmp_path / "out.csv").open()))
    nets = {(row["order_no"], row["line_no"]): row for row in csv.DictReader((HERE / "route" / "orders.csv").open())}
    assert len(rows) == len(nets) and all((row["outcome"] == "filled") == bool(row["lane"]) == (not row["reason"]) for row in rows)
    one = next(row for row in rows if row["order_no"] == "O00010")
    assert (one["lane"], one["goods"], one["next_lane"], one["next_costs_more"]) == (
        "S00001-quayside",
        "22.10",
        "S00001-northlight",
        "5.73",
    )


@pytest.mark.parametrize(
    ("name", "text", "told"),
    [
        ("orders", "order_no,line_no\n1,1\n", "missing"),
        ("limits", "supplier,spend_cap\nsable,lots\n", "limits, row 2: spend_cap"),
        ("orders", "order_no,line_no,sku,quantity,country,promised_by,sale_net\nA,1,X,0,GB,,1\n", "orders, row 2: quantity"),
    ],
)
def test_a_routing_sheet_that_cannot_be_read_says_which_row(tmp_path, name, text, told) -> None:
    done = route_calc(tmp_path, **{name: text})
    assert done.returncode == 2 and told in done.stderr and len(done.stderr.splitlines()) == 1 and not (tmp_path / "out.csv").exists()


@pytest.mark.parametrize(("money", "cost", "price"), [("JPY", "350", "500"), ("KWD", "3.500", "5.000"), ("GBP", "3.50", "5.00")])
def test_a_price_list_has_as_many_decimals_as_its_money(tmp_path: Path, money: str, cost: str, price: str) -> None:
    source, out = tmp_path / "in.csv", tmp_path / "out.csv"
    source.write_text(f"sku,unit_cost,rule,rule_value\nA,{cost},margin,30\n")
    asked = ["calc", "price", str(source), str(out), "--currency", money]
    assert subprocess.run([sys.executable, "-m", "amber_lane.cli", *asked], capture_output=True).returncode == 0
    (row,) = list(csv.DictReader(out.open(encoding="utf-8-sig")))
    assert (row["landed_cost"], row["price"], row["margin_pct"], row["outcome"]) == (cost, price, "30.00", "ok")
    asked[-1] = "XXX"
    done = subprocess.run([sys.executable, "-m", "amber_lane.cli", *asked], capture_output=True, text=True)
    assert done.returncode == 2 and "unknown currency" in done.stderr
