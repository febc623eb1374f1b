"""The orders of a made house, what was bought and sent for them, and what waits to go out."""

from __future__ import annotations

import json

import numpy as np
from sqlalchemy import text
from sqlalchemy.orm import Session

from amber_lane.core.money import Ints
from amber_lane.data.orders import FillPlan, Hold, Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.transit import Parcel, ParcelLine

from .rows import DAY, DAYS, SUPPLIERS, write


def orders(s: Session, n: int, luck: np.random.Generator, now: int, cost: Ints) -> None:
    """Half an order a SKU over ninety days, one in two hundred of them open, some held, some late on the road."""
    m, ids = n // 2, np.arange(1, n // 2 + 1)
    at = np.sort(now - luck.integers(0, 90 * DAY, m))
    sku = np.minimum(luck.exponential(n / 6, m).astype(np.int64), n - 2) + 1
    sku = np.where(sku % 500 == 0, sku + 1, sku)
    lane = (np.cumsum(np.arange(1, n + 1) % 500 != 0) * 2 - 1)[sku - 1]
    unit, supplier = cost[3 * (sku - 1)], sku % SUPPLIERS + 1
    waits, road = ids > m - max(m // 200, 2), ids > m - max(m // 50, 4)
    state = np.where(waits, np.where(ids % 3 == 0, "held", "ready"), np.where(road, "on_the_road", "arrived"))
    write(
        s,
        Order,
        m,
        store_id=1,
        number=[f"P{i}" for i in ids.tolist()],
        buyer=[f"Buyer {i % 900}" for i in ids.tolist()],
        mail="buyer@mail.example",
        address=json.dumps({"name": "Buyer", "line1": "4 Row", "city": "Whitby", "postcode": "YO21 3PR", "country": "GB"}),
        country="GB",
        currency="GBP",
        ordered_at=at,
        came_at=at,
        promised_by=at + np.where(ids % 3 == 0, 1, 5) * DAY,
        manual_release=np.where(waits, 1, 0),
    )
    write(
        s,
        OrderLine,
        m,
        order_id=ids,
        line_no=1,
        sku_code=[f"SKU-{i:06d}" for i in sku.tolist()],
        sku_id=sku,
        title=[f"Thing {i}" for i in sku.tolist()],
        quantity=1,
        paid=unit * 2 + 500,
        store_fee=200,
        payment_fee=40,
        net_revenue=unit * 2 + 260,
        state=state,
        lane_id=lane,
    )
    write(
        s,
        FillPlan,
        m,
        order_id=ids,
        at=at,
        goods=unit,
        shipping=160,
        handling=30,
        risk=5,
        profit=unit + 70,
        parcels=1,
        reason=[("splits" if one == "held" else None) for one in state.tolist()],
        lanes="[]",
    )
    held = ids[state == "held"]
    write(s, Hold, len(held), order_id=held, limit="splits", message="it would go in 2 parcels", since=at[held - 1])
    gone = ids[~waits]
    g = len(gone)
    moving = np.where(road[gone - 1], "moving", "delivered")
    write(
        s,
        PurchaseOrder,
        g,
        reference=[f"EAST-P{i}-1" for i in gone.tolist()],
        supplier_id=supplier[gone - 1],
        order_id=gone,
        origin_id=supplier[gone - 1],
        service="std",
        state="shipped",
        currency="GBP",
        goods=unit[gone - 1],
        shipping=160,
        handling=30,
        made_at=at[gone - 1],
    )
    item = 3 * (sku - 1) + 1
    write(
        s,
        PurchaseLine,
        g,
        purchase_id=range(1, g + 1),
        order_line_id=gone,
        line_no=1,
        item_id=item[gone - 1],
        quantity=1,
        planned_cost=unit[gone - 1],
    )
    ended = at[gone - 1] + 3 * DAY
    write(
        s,
        Parcel,
        g,
        carrier_id=1,
        number=[f"N{i}" for i in gone.tolist()],
        state=moving,
        made_at=at[gone - 1],
        moved_at=at[gone - 1],
        ended_at=[None if one == "moving" else int(end) for one, end in zip(moving.tolist(), ended.tolist(), strict=True)],
        last_word="Sorted",
        ended_by=np.where(moving == "moving", "", "carrier"),
    )
    write(s, ParcelLine, g, parcel_id=range(1, g + 1), purchase_id=range(1, g + 1))


def outbox(s: Session, n: int, luck: np.random.Generator, now: int) -> None:
    """Two changes a SKU that went out, six of ten listings with one that waits, among them all those that are off sale; some refused."""
    hour = DAY // 24
    done = 2 * n
    listing = luck.integers(1, n + 1, done)
    off = [row[0] for row in s.execute(text("select id from listing where state = 'paused' and store_id = 1"))]
    waits = list(dict.fromkeys([*off, *luck.permutation(np.arange(1, n + 1))[: 6 * n // 10].tolist()]))[: 6 * n // 10]
    dead = luck.integers(1, n + 1, max(n // 2000, 2)).tolist()
    subjects = [*listing.tolist(), *waits, *dead]
    m = len(subjects)
    states = ["done"] * done + ["waiting"] * len(waits) + ["dead"] * len(dead)
    made = [*(now - np.sort(luck.integers(0, DAYS * DAY, done))[::-1]).tolist(), *[now - hour] * (m - done)]
    write(
        s,
        Outbox,
        m,
        key=lambda i: f"listing-{i}-old",
        target="store:1",
        subject=[f"listing:{i}" for i in subjects],
        kind="listing",
        body=[f'{{"listing":{i},"sku":"SKU-{i:06d}","price":"19.95","currency":"GBP","quantity":8,"state":"live"}}' for i in subjects],
        state=states,
        made_at=made,
        after=made,
        done_at=[at if one == "done" else None for at, one in zip(made, states, strict=True)],
        fault=["refused" if one == "dead" else "" for one in states],
        answer=["this listing is not known here" if one == "dead" else "" for one in states],
    )
