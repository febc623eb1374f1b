"""Goods that a depot is asked to hold: the question, its answer, its own questions; and the lanes to what it holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from fractions import Fraction
from typing import Any, NoReturn

from sqlalchemy import select

from ...connectors.depot_payloads import HoldAnswerPayload, HoldPayload
from ...connectors.depot_protocol import HoldAnswer
from ...connectors.kinds import DEPOTS
from ...core.cartons import fits
from ...core.currency import show
from ...core.states import HELD, HeldState
from ...core.writing import grouped
from ...data.depot import HeldGoods
from ...data.lanes import Lane, LanePart
from ...data.outbox import AuditEntry
from ...data.setup import UNCALLED, Origin, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..mapping import lanes
from ..outbox import queue
from . import ledger
from .costs import in_money
from .terms import limits_of, terms_of

SIDE_MOST, WEIGHT_MOST = 5_000, 1_000_000


@dataclass(frozen=True)
class HoldWish:
    """What is asked. sides: of one unit as it is packed, mm; source: the item that it is bought as, None = as its main lane buys it."""

    sku: int
    depot: int
    sides: tuple[int, int, int]
    weight_g: int
    inner: int = 1
    least: int = 0
    carton: int = 0
    kind: str = ""
    source: int | None = None


def ask(context: Context, wish: HoldWish) -> HeldGoods:
    """Ask a depot to hold a SKU. Invalid where its terms say already that it will not, or a carton would not take one."""
    sku, depot = context.get(Sku, wish.sku, "SKU"), context.get(Supplier, wish.depot, "depot")
    if depot.kind not in DEPOTS:
        raise Invalid(f"{depot.name} holds no goods for others", {"depot": "is no depot"})
    there = context.session.scalar(select(HeldGoods).where(HeldGoods.supplier_id == depot.id, HeldGoods.sku_id == sku.id))
    if there is not None and there.state not in (HeldState.refused, HeldState.ended):
        raise Conflict(f"{depot.name} was asked already to hold {sku.code}")
    source = _source(context, sku, wish.source)
    value = _value(context, depot, source)
    kind = wish.kind or sku.category
    _check(context, depot, wish, value, kind)
    row = there or HeldGoods(supplier_id=depot.id, sku_id=sku.id, number=sku.code, state=HELD.first, asked_at=context.now)
    if there is not None:
        row.state = HELD.step(row.state, "ask_again" if row.state == HeldState.refused else "resume")
        row.version += 1
    part = source[1] if source else None
    row.sides, row.weight_g, row.value, row.kind = list(wish.sides), wish.weight_g, value, kind
    row.inner, row.least, row.carton, row.asked_at, row.message = wish.inner, wish.least, wish.carton, context.now, ""
    row.source_id, row.source_num, row.source_den = (source[0].id, part.numerator, part.denominator) if source and part else (None, 1, 1)
    row.pictures = _pictures(context, sku.id)
    context.session.add(row)
    context.session.flush()
    if row.state == HeldState.asked and depot.kind not in UNCALLED:
        payload = HoldPayload(
            number=row.number, title=sku.title, goods=kind, weight_g=row.weight_g, sides=wish.sides, value=value, currency=depot.currency,
            pictures=tuple(row.pictures),
        )  # fmt: skip
        key = f"hold-{row.id}-{row.version}"
        queue.put(context, f"supplier:{depot.id}", f"held:{row.id}", key, payload)
    context.log(
        "depot.ask",
        sku.code,
        f"{depot.name} asked to hold {sku.code}",
        after={"held": row.id, "key": f"hold-{row.id}-{row.version}"},
        undo=there is None,
    )
    return row


def _pictures(context: Context, sku: int) -> list[Any]:
    """Numbers of the pictures that its listings show."""
    rows = context.session.scalars(select(Listing.pictures).where(Listing.sku_id == sku).order_by(Listing.id))
    return list(dict.fromkeys(number for one in rows for number in one or [] if isinstance(number, int)))[:3]


def _source(context: Context, sku: Sku, item: int | None) -> tuple[Item, Fraction] | None:
    """What it is bought as: the item named, or that of its first lane that leads to no depot; and how many of it a unit takes."""
    rows = (
        select(Item, LanePart, Lane)
        .join(LanePart, LanePart.item_id == Item.id)
        .join(Lane, Lane.id == LanePart.lane_id)
        .join(Supplier, Supplier.id == Item.supplier_id)
        .where(Lane.sku_id == sku.id, Lane.closed_at.is_(None), Lane.items == 1, Supplier.kind.not_in(DEPOTS))
        .order_by(Lane.is_substitute, Lane.priority, Lane.id)
    )
    for one, part, _ in context.session.execute(rows):
        if item is None or one.id == item:
            return one, Fraction(part.units_num, part.units_den)
    if item is not None:
        return context.get(Item, item, "item"), Fraction(1)
    return None


def _value(context: Context, depot: Supplier, source: tuple[Item, Fraction] | None) -> int:
    if source is None:
        return 0
    item, units = source
    return int(in_money(context, int(item.cost * units), item.currency, depot.currency) or 0)


def _check(context: Context, depot: Supplier, wish: HoldWish, value: int, kind: str) -> None:
    terms, wrong = terms_of(context, depot.id), {}
    if min(wish.sides) <= 0 or max(wish.sides) > SIDE_MOST:
        wrong["sides"] = f"must be three lengths of 1 to {grouped(SIDE_MOST)} mm"
    if not 0 < wish.weight_g <= WEIGHT_MOST:
        wrong["weight_g"] = "must be its weight in grams, as it is packed"
    if not 1 <= wish.inner <= 10_000 or not 0 <= wish.least <= 1_000_000 or not 0 <= wish.carton <= 100_000:
        wrong["inner"] = "must be units from 1"
    if wish.carton and wish.inner > 0 and wish.carton % wish.inner:
        wrong["carton"] = f"must be whole packs of {wish.inner}"
    if wrong:
        raise Invalid("say what it weighs and measures as it is packed", wrong)
    if terms.weight_most and wish.weight_g > terms.weight_most:
        wrong["weight_g"] = f"{depot.name} takes up to {grouped(terms.weight_most)} g"
    if terms.side_most and max(wish.sides) > terms.side_most:
        wrong["sides"] = f"{depot.name} takes up to {grouped(terms.side_most)} mm"
    if terms.value_most and value > terms.value_most:
        wrong["value"] = f"{depot.name} takes goods of up to {show(terms.value_most, depot.currency)}"
    if terms.kinds and kind not in terms.kinds:
        wrong["kind"] = f"{depot.name} takes {', '.join(terms.kinds)}"
    if not wrong and not fits(limits_of(terms), wish.weight_g, wish.sides, wish.inner):
        wrong["inner"] = "one pack of it goes into no carton that the depot takes"
    if wrong:
        raise Invalid("; ".join(wrong.values()), wrong)


def take_answer(context: Context, depot: int, answer: HoldAnswer) -> None:
    """What a depot says of goods; what is known already changes nothing."""
    row = context.session.scalar(select(HeldGoods).where(HeldGoods.supplier_id == depot, HeldGoods.number == answer.number))
    if row is not None:
        say(context, row, answer.state, answer.message)


MOVES = {"question": "question", "agreed": "agree", "refused": "refuse"}


def say(context: Context, row: HeldGoods, state: str, message: str = "") -> None:
    """The depot's word, by its interface or typed by a person."""
    move = MOVES.get(state)
    if move is None or row.state not in HELD.sources(move) or (row.state == HeldState.refused and state == "agreed"):
        return
    depot = context.get(Supplier, row.supplier_id, "depot")
    row.state, row.message = HELD.step(row.state, move), message[:500]
    row.version += 1
    told = {"question": "asks", "agreed": "will hold it", "refused": "will not hold it"}[state]
    context.log("depot.answer", row.number, f"{depot.name} {told}: {row.number}" + (f": {row.message}" if row.message else ""))
    if row.state == HeldState.agreed:
        _make_item(context, row, depot)


def _make_item(context: Context, row: HeldGoods, depot: Supplier) -> None:
    """The item that lanes to this stock lead to."""
    origin = context.session.scalar(select(Origin).where(Origin.supplier_id == depot.id).order_by(Origin.id).limit(1))
    if origin is None:
        raise Invalid(f"say first how {depot.name} sends: Set-up, Suppliers")
    sku = context.get(Sku, row.sku_id, "SKU")
    item = context.session.scalar(select(Item).where(Item.supplier_id == depot.id, Item.number == row.number))
    if item is None:
        item = Item(supplier_id=depot.id, number=row.number, title=sku.title, currency=depot.currency, cost=max(row.value, 1), stock=0)
        context.session.add(item)
    item.origin_id, item.weight_g, item.gtin, item.mpn, item.brand = origin.id, row.weight_g, sku.gtin, sku.mpn, sku.brand
    item.options, item.category, item.offer, item.seen_at = sku.options, sku.category, "good", context.now
    context.session.flush()
    row.item_id = item.id
    ledger.refresh(context, [row])


def answer_question(context: Context, number: int, version: int | None, text: str) -> HeldGoods:
    """Answer what the depot asked."""
    row = context.get_version(HeldGoods, number, version, "goods of a depot")
    text = text.strip()
    if row.state != HeldState.question:
        raise Conflict(f"the depot asks nothing about {row.number}")
    if not 0 < len(text) <= 1000:
        raise Invalid("write an answer of up to 1,000 letters", {"text": "is empty" if not text else "is too long"})
    depot = context.get(Supplier, row.supplier_id, "depot")
    row.state, row.answer = HELD.step(row.state, "answer"), text
    if depot.kind not in UNCALLED:
        payload = HoldAnswerPayload(number=row.number, text=text)
        queue.put(context, f"supplier:{depot.id}", f"held:{row.id}", f"hold-answer-{row.id}-{row.version}", payload)
    context.log("depot.answered", row.number, f"{depot.name} told about {row.number}: {text[:120]}")
    return row


@dataclass(frozen=True)
class HeldChange:
    """What is not given stays. service: ppm, 0 = as the house wishes."""

    sides: tuple[int, int, int] | None = None
    weight_g: int | None = None
    inner: int | None = None
    carton: int | None = None
    least: int | None = None
    service: int | None = None
    seasons: Sequence[dict[str, Any]] | None = None


def change(context: Context, number: int, version: int | None, wanted: HeldChange) -> HeldGoods:
    """What a unit measures, and how much of it shall be there. Can be undone."""
    row = context.get_version(HeldGoods, number, version, "goods of a depot")
    before = _as_it_is(row)
    sides = wanted.sides or (row.sides[0], row.sides[1], row.sides[2])
    weight = row.weight_g if wanted.weight_g is None else wanted.weight_g
    inner, least = (row.inner if wanted.inner is None else wanted.inner), (row.least if wanted.least is None else wanted.least)
    carton = row.carton if wanted.carton is None else wanted.carton
    depot = context.get(Supplier, row.supplier_id, "depot")
    _check(context, depot, HoldWish(row.sku_id, depot.id, sides, weight, inner, least, carton), 0, row.kind)
    row.sides, row.weight_g, row.inner, row.least, row.carton = list(sides), weight, inner, least, carton
    if wanted.service is not None:
        if wanted.service and not 500_000 <= wanted.service <= 999_000:
            raise Invalid("it can be there on 50 to 99.9 % of days", {"service": "must be 50 to 99.9 %"})
        row.service = wanted.service or None
    if wanted.seasons is not None:
        row.seasons = [_season(one) for one in wanted.seasons]
    context.log("depot.change", row.number, f"{row.number}: how it is held at {depot.name}", before=before, undo=True)
    context.session.flush()
    return row


def _season(one: dict[str, Any]) -> dict[str, Any]:
    try:
        first, last, times = date.fromisoformat(str(one["first"])), date.fromisoformat(str(one["last"])), int(one["times"])
    except (KeyError, ValueError) as error:
        raise Invalid("a season has a first day, a last day and how many times as much is sold", {"seasons": str(error)}) from error
    if last < first or not 0 <= times <= 20_000_000 or (last - first).days > 366:
        raise Invalid(
            "a season ends after it begins, lasts a year at most, and sells 0 to 20 times as much", {"seasons": "is not possible"}
        )
    return {"name": str(one.get("name", ""))[:60], "first": first.isoformat(), "last": last.isoformat(), "times": times}


CHANGED = ("sides", "weight_g", "inner", "carton", "least", "service", "seasons")


def _as_it_is(row: HeldGoods) -> dict[str, Any]:
    return {"held": row.id, **{name: getattr(row, name) for name in CHANGED}}


@undoing.undoes("depot.change")
def undo_change(context: Context, act: AuditEntry) -> None:
    before = undoing.before(act)
    row = context.get(HeldGoods, before["held"], "goods of a depot")
    for name in CHANGED:
        setattr(row, name, before[name])
    row.version += 1


@undoing.undoes("depot.ask")
def undo_ask(context: Context, act: AuditEntry) -> None:
    """Before the question has gone out."""
    after = undoing.after(act)
    row = context.get(HeldGoods, after["held"], "goods of a depot")
    if row.state != HELD.first:
        raise Conflict(f"the depot has answered about {row.number}; end it instead")
    if queue.is_there(context, after["key"]):
        queue.stop(context, after["key"])
    context.session.delete(row)
    context.session.flush()


def end(context: Context, number: int, version: int | None) -> HeldGoods:
    """Nothing more is sent there; what is there is still sold. Can be undone."""
    row = context.get_version(HeldGoods, number, version, "goods of a depot")
    before = {"held": row.id, "state": row.state}
    row.state = HELD.step(row.state, "end")
    context.log("depot.end", row.number, f"{row.number}: no more of it is sent to the depot", before=before, undo=row.item_id is not None)
    ledger.refresh(context, [row])
    return row


@undoing.undoes("depot.end")
def undo_end(context: Context, act: AuditEntry) -> None:
    row = context.get(HeldGoods, undoing.before(act)["held"], "goods of a depot")
    row.state = HELD.step(row.state, "resume")
    row.version += 1
    ledger.refresh(context, [row])


def not_now(context: Context, number: int, days: int) -> HeldGoods:
    """Nothing is proposed for it before so many days are over. Can be undone."""
    row = context.get(HeldGoods, number, "goods of a depot")
    before = {"held": row.id, "quiet_until": row.quiet_until.isoformat() if row.quiet_until else None}
    row.quiet_until = house_days.today(context) + timedelta(days=max(1, min(days, 366)))
    row.version += 1
    told = house_days.day_text(context, row.quiet_until)
    context.log("depot.not_now", row.number, f"{row.number}: nothing is proposed before {told}", before=before, undo=True)
    return row


@undoing.undoes("depot.not_now")
def undo_not_now(context: Context, act: AuditEntry) -> None:
    before = undoing.before(act)
    row = context.get(HeldGoods, before["held"], "goods of a depot")
    row.quiet_until = date.fromisoformat(before["quiet_until"]) if before["quiet_until"] else None
    row.version += 1


def open_lane(context: Context, number: int, use: int = 0) -> Lane:
    """A lane to what the depot holds: main (0), or a spare at its place. Undone as any lane that was opened."""
    row = context.get(HeldGoods, number, "goods of a depot")
    if row.item_id is None:
        raise Conflict(f"the depot has not said yet that it holds {row.number}")
    return lanes.open_lane(context, row.sku_id, [lanes.LaneItem(row.item_id, Fraction(1))], use)


def asked(context: Context, most: int = 200) -> list[HeldGoods]:
    """What depots were asked to hold and have not agreed to, the newest first."""
    rows = (
        select(HeldGoods).where(HeldGoods.state.in_((HeldState.asked, HeldState.question, HeldState.refused))).order_by(HeldGoods.id.desc())
    )
    return list(context.session.scalars(rows.limit(most)))


def source_of(context: Context, row: HeldGoods) -> tuple[Item, Supplier] | None:
    """The item that it is bought as, and from whom."""
    if row.source_id is None:
        return None
    item = context.get(Item, row.source_id, "item")
    return item, context.get(Supplier, item.supplier_id, "supplier")


def not_held(row: HeldGoods) -> NoReturn:
    """Nothing can be told of stock that a depot does not hold."""
    raise Conflict(f"the depot does not hold {row.number} yet")


def lane_of(context: Context, row: HeldGoods) -> Lane | None:
    """The lane to this stock that is open."""
    if row.item_id is None:
        return None
    rows = select(Lane).join(LanePart, LanePart.lane_id == Lane.id).where(LanePart.item_id == row.item_id, Lane.closed_at.is_(None))
    return context.session.scalars(rows.order_by(Lane.priority).limit(1)).first()
