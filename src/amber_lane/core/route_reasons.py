"""Why an order is filled as it is, or held: the reason, and per line the next best lane and what it would cost."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from .route import REASONS, Considered, Key, Next, OrderPlan, OrderToFill, Usable, Way, way_of


def plan_of(
    order: OrderToFill,
    considered: tuple[Considered, ...],
    lanes: Usable,
    all_ways: Sequence[Way],
    able: Sequence[Way],
    chosen: Way | None,
    left: Mapping[Key, int],
) -> OrderPlan:
    """The plan of one order. able: the ways that were worth taking, best first; left: what the whole plan leaves of everything."""
    if chosen is not None:
        return _plan(order, considered, chosen, None, _next_best(order, lanes, all_ways, chosen, left))
    picked, stuck = _cheapest(order, considered, lanes)
    if stuck is not None:
        goods, risk = (sum(getattr(one, name) for one in picked.values()) for name in ("goods", "risk"))
        shipping, handling = (sum(getattr(one, name) for one in picked.values()) for name in ("shipping", "handling"))
        profit = sum(line.sale_net for line in order.lines) - goods - shipping - handling - risk
        shown = {line: one.lane for line, one in picked.items()}
        return OrderPlan(shown, considered, goods, shipping, handling, risk, profit, len(shown), stuck)
    best = _shown(order, all_ways, able, picked)
    return replace(_plan(order, considered, best, _reason_held(order, all_ways, able, best, left), {}), outbid=bool(able))


def _plan(order: OrderToFill, considered: tuple[Considered, ...], way: Way, reason: str | None, others: dict[int, Next]) -> OrderPlan:
    chosen = {line.line: line.lanes[place].lane for line, place in zip(order.lines, way.lanes, strict=True)}
    return OrderPlan(chosen, considered, way.goods, way.shipping, way.handling, way.risk, way.profit, way.parcels, reason, others)


def _cheapest(order: OrderToFill, considered: Sequence[Considered], lanes: Usable) -> tuple[dict[int, Considered], str | None]:
    """Per line the cheapest lane that could be used; and where a line has none, the reason nearest to being filled."""
    picked: dict[int, Considered] = {}
    stuck: str | None = None
    rest = iter(considered)
    for line, places in zip(order.lines, lanes, strict=True):
        looked = [next(rest) for _ in line.lanes]
        if places:
            picked[line.line] = min((looked[place] for place in places), key=lambda one: one.all_in)
        else:
            # A lane without stock is closer than one that is too late.
            stuck = stuck or max((one.reason or "" for one in looked), key=REASONS.index, default="no_lane")
    return picked, stuck


def _shown(order: OrderToFill, all_ways: Sequence[Way], able: Sequence[Way], picked: Mapping[int, Considered]) -> Way:
    """The way by which a held order would best go."""
    if able:
        return able[0]
    if all_ways:
        return max(all_ways, key=lambda way: (way.takes, way.profit))
    places = []
    for line in order.lines:
        places.append(next(n for n, lane in enumerate(line.lanes) if lane.lane == picked[line.line].lane))
    return way_of(order, places)


def _reason_held(order: OrderToFill, all_ways: Sequence[Way], able: Sequence[Way], best: Way, left: Mapping[Key, int]) -> str:
    if able:
        return "no_stock" if any(key[0] == "stock" for key in _lacking(best, left)) else "spend_limit"
    fit = [way for way in all_ways if way.takes] or ([best] if best.takes and not all_ways else [])
    if not fit:
        return "no_stock" if _asks_twice(best, order) else "too_heavy"
    if all(way.profit < order.least_profit for way in fit):
        return "least_profit"
    # Worth it by itself, so a cap is in the way; or holding it costs less than what it would lose.
    return "spend_limit" if any(_lacking(way, left) for way in fit if way.profit >= order.least_profit) else "least_profit"


def _asks_twice(way: Way, order: OrderToFill) -> bool:
    """Whether two lines of the order together ask for more of an item than there is."""
    free = {item: stock for line in order.lines for lane in line.lanes for item, _, _, _, stock in lane.parts}
    return any(n > free[key[1]] for key, n in way.uses.items() if key[0] == "stock")


def _lacking(way: Way, left: Mapping[Key, int]) -> list[Key]:
    return [key for key, n in way.uses.items() if n > left.get(key, n)]


def _next_best(order: OrderToFill, lanes: Usable, all_ways: Sequence[Way], chosen: Way, left: Mapping[Key, int]) -> dict[int, Next]:
    """Per line the best way of the order with another lane for it, out of what the others leave and what is its own now."""
    found: dict[int, Next] = {}
    best: dict[int, Way] = {}
    for way in all_ways or _swaps(order, lanes, chosen):
        if way.lanes == chosen.lanes or not way.takes:
            continue
        if any(n > left[key] + chosen.uses.get(key, 0) for key, n in way.uses.items() if key in left):
            continue
        for at, (mine, other) in enumerate(zip(chosen.lanes, way.lanes, strict=True)):
            if mine != other and (at not in best or way.profit > best[at].profit):
                best[at] = way
    for at, way in best.items():
        line = order.lines[at]
        found[line.line] = Next(line.lanes[way.lanes[at]].lane, chosen.profit - way.profit)
    return found


def _swaps(order: OrderToFill, lanes: Usable, chosen: Way) -> Iterator[Way]:
    """Ways with one line by another lane, for an order whose ways are not written out."""
    for at, places in enumerate(lanes):
        for place in _others(places, chosen.lanes[at]):
            yield way_of(order, (*chosen.lanes[:at], place, *chosen.lanes[at + 1 :]))


def _others(places: Iterable[int], mine: int) -> Iterator[int]:
    return (place for place in places if place != mine)
