"""What the marketplace really takes and pays out: a payout for each day of the world, row by row."""

from __future__ import annotations

import json
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

from . import lands
from .state import World, iso

DAY_MS = 86_400_000
# It pays out the day after, at two in the morning.
PAYS_AT = 2 * 3_600_000
# Group, percent, and the least in pence, as it tells them.
FEES = (("", "9.5", 30), ("optics", "7", 60), ("charts", "12", 25), ("paper", "12", 25), ("lights", "10.5", 40))


def fee_of(world: World, group: str, paid: int, units: int) -> int:
    """What it takes of a line; of some groups (facts such as `fair_fee_charts`, in percent) another share than it tells."""
    told = {name: (percent, least) for name, percent, least in FEES}
    percent, least = told.get(group, told[""])
    share = Decimal(str(world.fact(f"fair_fee_{group if group in told and group else 'other'}") or percent)) / 100
    return max(int((paid * share).to_integral_value(ROUND_HALF_UP)), lands.here().amount(least) * units)


def payouts_after(world: World, after: int, most: int) -> tuple[list[dict[str, Any]], int, bool]:
    """Payouts of days after a number that is known, the number of the last day that is over, and whether there are more."""
    over = (world.now() - PAYS_AT) // DAY_MS - 1
    rows = world.rows("select * from shop_order where store = 'fair' order by seq")
    days: dict[int, list[dict[str, Any]]] = {}
    given = [one for one in (world.fact("refunds", {}) or {}).values() if "at" in one]
    groups = {row["sku"]: row["category"] for row in world.rows("select sku, category from shop_listing where store = 'fair'")}
    for row in rows:
        body = json.loads(row["body"])
        paid = sum(line["unit_price"] * line["quantity"] for line in body["lines"])
        fee = sum(fee_of(world, groups.get(one["sku"], ""), one["unit_price"] * one["quantity"], one["quantity"]) for one in body["lines"])
        _row(days, row["at"], row["number"], "sale", paid)
        _row(days, row["at"], row["number"], "commission", -fee)
        if row["state"] == "cancelled" and body.get("ended_at"):
            before = sum(lands.minor_of(one["paid"]) for one in given if one["order"] == row["number"] and one["store"] == "fair")
            _row(days, body["ended_at"], row["number"], "money back", before - paid)
            _row(days, body["ended_at"], row["number"], "commission back", fee - _share(fee, before, paid))
        for one in given:
            if (one["store"], one["order"]) == ("fair", row["number"]):
                back = lands.minor_of(one["paid"])
                _row(days, one["at"], row["number"], "money back", -back)
                _row(days, one["at"], row["number"], "commission back", _share(fee, back, paid))
    due = sorted(day for day in days if after < day <= over)
    told = [_told(day, days[day]) for day in due[:most]]
    more = len(due) > most
    return told, due[most - 1] if more else max(after, over), more


def _share(fee: int, back: int, paid: int) -> int:
    return int((Decimal(fee) * back / paid).to_integral_value(ROUND_HALF_UP)) if paid else 0


def _row(days: dict[int, list[dict[str, Any]]], at: int, order: str, about: str, amount: int) -> None:
    days.setdefault(at // DAY_MS, []).append({"order": order, "about": about, "amount": amount, "at": at})


def _told(day: int, rows: list[dict[str, Any]]) -> dict[str, Any]:
    return {
        "payout": f"FP-{iso(day * DAY_MS)[:10]}",
        "paid": lands.text(sum(row["amount"] for row in rows)),
        "at": iso((day + 1) * DAY_MS + PAYS_AT),
        "rows": [
            {"row": n, "order": row["order"], "about": row["about"], "amount": lands.text(row["amount"]), "at": iso(row["at"])}
            for n, row in enumerate(rows, 1)
        ],
    }
