"""One unit from a depot held beside the same by the lane that would fill it otherwise, part by part, at one store's door."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from ...connectors.kinds import DEPOTS
from ...core.cartons import litres
from ...core.states import ListingState
from ...data.bulk import by_id
from ...data.lanes import Lane, LanePart
from ...data.setup import Store, Supplier
from ...data.shelf import Listing
from ...data.source import Item
from ..base.context import Context
from ..mapping.landed_cost import Costing
from .costs import fees_of, in_money
from .planning import Goods


@dataclass(frozen=True)
class Beside:
    """Minor units of a store's money. goods: with the freight in; stored: storage, picking and packing, of a lane its handling."""

    name: str
    goods: int
    stored: int
    parcel: int
    days: int

    @property
    def landed(self) -> int:
        return self.goods + self.stored + self.parcel


@dataclass(frozen=True)
class Compared:
    """depot, direct: None where nothing is sent there or no rate is known; saving: a month at its pace, in the store's money."""

    store: Store
    depot: Beside | None
    direct: Beside | None
    pace: float

    @property
    def saving(self) -> int | None:
        if self.depot is None or self.direct is None:
            return None
        return round((self.direct.landed - self.depot.landed) * self.pace * 30)


class Comparing:
    """Facts read once, for as many goods as are looked at."""

    def __init__(self, context: Context, rows: list[Goods]) -> None:
        self.context, self.costing = context, Costing(context)
        numbers = [row.sku.id for row in rows]
        s = context.session
        self.stores = {one.id: one for one in s.scalars(select(Store).order_by(Store.id))}
        self.sold: dict[int, int] = {}
        live = select(Listing.sku_id, Listing.store_id).where(
            Listing.sku_id.in_(numbers), Listing.state.in_((ListingState.live, ListingState.paused))
        )
        for sku, store in s.execute(live.order_by(Listing.store_id)):
            self.sold.setdefault(sku, store)
        self.lanes: dict[int, Lane] = {}
        others = (
            select(Lane)
            .join(Supplier, Supplier.id == Lane.supplier_id)
            .where(Lane.sku_id.in_(numbers), Lane.closed_at.is_(None), ~Lane.is_substitute, Supplier.kind.not_in(DEPOTS))
            .order_by(Lane.priority, Lane.id)
        )
        for lane in s.scalars(others):
            self.lanes.setdefault(lane.sku_id, lane)
        self.parts: dict[int, list[LanePart]] = {}
        for part in s.scalars(select(LanePart).where(LanePart.lane_id.in_([one.id for one in self.lanes.values()]))):
            self.parts.setdefault(part.lane_id, []).append(part)
        self.items = by_id(s, Item, (part.item_id for mine in self.parts.values() for part in mine))

    def of(self, row: Goods, pace: float) -> Compared | None:
        """None where it is sold in no store."""
        store = self.stores.get(self.sold.get(row.sku.id, 0)) or next(iter(self.stores.values()), None)
        return None if store is None else Compared(store, self._depot(row, store, pace), self._direct(row, store), pace)

    def _depot(self, row: Goods, store: Store, pace: float) -> Beside | None:
        fees = fees_of(self.costing.facts, row.depot, row.terms, store.country, row.held.weight_g)
        if fees is None:
            return None
        money, sides = fees[0], (row.held.sides[0], row.held.sides[1], row.held.sides[2])
        # Half of what a stock lasts a unit lies there in the mean.
        days = row.stock.there / pace / 2 if pace > 0 else 0.0
        storage = round(money.storage * litres(sides) * days / 1_000_000)
        cost = row.stock.mean or self._bought(row)
        found = [self._turned(one, row, store) for one in (cost, storage + money.pick + money.pack, money.parcel)]
        if any(one is None for one in found):
            return None
        return Beside(row.depot.name, found[0] or 0, found[1] or 0, found[2] or 0, fees[1])

    def _bought(self, row: Goods) -> int:
        item = row.held.item_id and self.context.session.get(Item, row.held.item_id)
        return item.cost if item else 0

    def _turned(self, minor: int, row: Goods, store: Store) -> int | None:
        return in_money(self.context, minor, row.depot.currency, store.currency)

    def _direct(self, row: Goods, store: Store) -> Beside | None:
        lane = self.lanes.get(row.sku.id)
        if lane is None:
            return None
        found = self.costing.landed(self.costing.of_lane(lane, self.parts.get(lane.id, []), self.items, store.country), store)
        if found.reason:
            return None
        name = self.costing.facts.suppliers[lane.supplier_id].name
        return Beside(name, found.goods, found.handling, found.ship, found.days_high)
