"""Exchange rates by day: told by a source once a day, brought in by a sheet, or entered by hand."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal

from sqlalchemy import ColumnElement, case, literal, select
from sqlalchemy.orm import InstrumentedAttribute

from ...connectors.protocols import RateTable
from ...core.currency import minor_digits
from ...core.numbers import PPM, half_up, parse_rate, show_rate
from ...data.prices import HAS_AMOUNT, PriceRule, Rate
from ...data.setup import RateSource, Store, Supplier
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict
from ..base.import_frame import Checked, Row, each, need
from ..base.regional import home_of
from .inputs import house_ppm, newest_rates

# A rate that moves by more than a tenth in a day is not believed before it is told again the day after, or entered by hand.
DOUBT = 10
# After so many days without a new one a rate is old, and that is told.
OLD_DAYS = 4


@dataclass(frozen=True)
class Pair:
    """A rate that prices need. nano: units of 1e-9, None = nobody has said; old: it has stood for too long beside a source."""

    base: str
    quote: str
    nano: int | None
    since: datetime | None
    source: str
    old: bool


def needed(context: Context) -> set[tuple[str, str]]:
    """From every supplier's money to every store's; of stores to the house's; and of price rules with amounts to those of stores."""
    stores = set(context.session.scalars(select(Store.currency)))
    pairs = context.session.execute(select(Supplier.currency, Supplier.also)).tuples().all()
    monies = {money for own, also in pairs for money in (own, *(also or []))}
    home = home_of(context.session)
    found = {(money, quote) for money in monies for quote in stores if money != quote} | {
        (money, home) for money in stores if money != home
    }
    # The rate the other way round would do for them.
    return found | {(money, quote) for money, quote, _ in rule_pairs(context) if (quote, money) not in found}


def rule_pairs(context: Context) -> list[tuple[str, str, PriceRule]]:
    """Price rules with amounts in another currency than some store's: (money, the store's, rule)."""
    stores = list(context.session.execute(select(Store.currency, Store.code).where(Store.ended_at.is_(None))).tuples())
    rules = context.session.scalars(select(PriceRule).where(HAS_AMOUNT, PriceRule.currency != "")).all()
    pairs = ((one.currency, quote, one, code) for one in rules for quote, code in stores if quote != one.currency)
    return [(money, quote, one) for money, quote, one, code in pairs if one.scope != "store" or one.scope_key == code]


def newest(context: Context) -> dict[tuple[str, str], Rate]:
    return {(row.base, row.quote): row for row in context.session.scalars(select(Rate).order_by(Rate.day, Rate.id))}


class HomeWorth:
    """What amounts are worth in the house's currency, by the newest rates. An amount without a rate is worth nothing here and is never
    added one to one: `left_out` says of which currencies that was so."""

    def __init__(self, context: Context) -> None:
        self.home = home_of(context.session)
        self.rates = context.kept("newest rates", lambda own: newest_rates(own.session))
        self.left_out: set[str] = set()
        self._ppm: dict[str, int | None] = {}

    def ppm(self, currency: str) -> int | None:
        if currency not in self._ppm:
            self._ppm[currency] = house_ppm(self.rates, currency, self.home)
        return self._ppm[currency]

    def of(self, minor: int, currency: str) -> int:
        ppm = self.ppm(currency)
        if ppm is None:
            if minor:
                self.left_out.add(currency)
            return 0
        return half_up(minor * ppm, PPM)


def factor(context: Context, currency: InstrumentedAttribute[str]) -> ColumnElement[float]:
    """In a query: what a row's currency is worth in the house's, for estimates alone; 0 where there is no rate."""
    worth = HomeWorth(context)
    known = {money: ppm / PPM for money in context.session.scalars(select(Store.currency).distinct()) if (ppm := worth.ppm(money))}
    return case(known, value=currency, else_=0.0) if known else literal(0.0)


def pairs(context: Context) -> list[Pair]:
    """All rates that are needed or kept."""
    kept, limit = newest(context), context.now - timedelta(days=OLD_DAYS)
    out = []
    for base, quote in sorted(needed(context) | set(kept)):
        row = kept.get((base, quote))
        out.append(
            Pair(
                base,
                quote,
                row.nano if row else None,
                row.day if row else None,
                row.source if row else "",
                row is not None and row.day < limit and (base, quote) in needed(context),
            )
        )
    return out


def take_table(context: Context, source: RateSource, table: RateTable) -> int:
    """What a source says of the day. Rates that moved beyond belief wait; where others moved, prices follow.

    Returns how many rates were new. A table that was taken before changes nothing.
    """
    source.next_ask = context.now + timedelta(hours=6)
    kept, doubted, taken = newest(context), dict(source.doubted or {}), []
    for base, quote in sorted(needed(context)):
        if base not in table.rates or quote not in table.rates:
            continue
        nano = int((table.rates[quote] / table.rates[base] * 10**9).quantize(Decimal(1), ROUND_HALF_UP))
        was, name = kept.get((base, quote)), f"{base} {quote}"
        if nano <= 0 or (was is not None and (was.day >= table.as_of or was.nano == nano)):
            if was is not None and was.nano == nano and was.day < table.as_of:
                # It did not move, but it is of today; whatever was odd about it is over.
                was.day, was.source = table.as_of, source.name
                doubted.pop(name, None)
            continue
        if was is not None and abs(nano - was.nano) * DOUBT > was.nano and not _again(doubted.get(name), nano, table.as_of):
            if doubted.get(name, {}).get("nano") != nano:
                doubted[name] = {"nano": nano, "at": table.as_of.isoformat(), "was": was.nano}
            continue
        doubted.pop(name, None)
        context.session.add(Rate(base=base, quote=quote, day=table.as_of, nano=nano, source=source.name))
        taken.append(f"1 {base} is {show_rate(nano)} {quote}")
    source.doubted = doubted
    context.session.flush()
    if taken:
        follow(context, source.name, taken, f"{source.name}'s rates of {house_days.day_text(context, table.as_of)}")
    return len(taken)


def _again(before: dict[str, object] | None, nano: int, day: datetime) -> bool:
    """Whether a doubted rate is told again on another day, much as it was."""
    if not before:
        return False
    was = int(str(before["nano"]))
    return abs(nano - was) * DOUBT <= was and datetime.fromisoformat(str(before["at"])) < day


def answer_doubt(context: Context, number: int, name: str, believe: bool) -> None:
    """A person's word on a doubted rate."""
    source = context.get(RateSource, number, "source of rates")
    doubted = dict(source.doubted or {})
    one = doubted.pop(name, None)
    source.doubted = doubted
    if one is None:
        raise Conflict(f"the rate for {name} is not in doubt any more; nothing was changed")
    base, _, quote = name.partition(" ")
    if believe:
        context.session.add(Rate(base=base, quote=quote, day=context.now, nano=int(one["nano"]), source=source.name))
        context.session.flush()
        follow(context, name, [f"1 {base} is {show_rate(int(one['nano']))} {quote}"], "believed by a person", seen=True)
    else:
        context.log("rate.doubt", name, f"{show_rate(int(one['nano']))} for {name} set aside, the old rate stands")


def follow(context: Context, on: str, messages: list[str], reason: str, seen: bool = False) -> None:
    """Prices and plans after rates have moved."""
    act = context.log("rate.daily", on, "; ".join(messages), reason=reason, count=len(messages))
    context.session.flush()
    context.reprice(None, act=act.id, alone=not seen, seen=seen)
    context.reroute()


def check_sheet(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    """The rates sheet: from, to, rate, and the day that it holds from."""
    out, kept = Checked(), newest(context)

    def read(row: Row) -> None:
        base, quote = need(row, "from").upper(), need(row, "to").upper()
        for money in (base, quote):
            minor_digits(money)
        if base == quote:
            raise ValueError("from and to are the same currency")
        nano = parse_rate(need(row, "rate").replace(",", "."))
        if not 0 < nano < 10**13:
            raise ValueError(f"rate: {row['rate']} must be more than 0 and less than 10,000")
        day = context.now
        if row.get("day"):
            try:
                day = house_days.begin(context, date.fromisoformat(row["day"].strip()))
            except ValueError:
                raise ValueError(f"day: {row['day']!r} is not a day such as 2026-03-12") from None
            if day > context.now:
                raise ValueError(f"day: {row['day']} has not come yet")
        was = kept.get((base, quote))
        kind = "new" if was is None else "same" if was.nano == nano or was.day > day else "changed"
        if was is not None and kind == "changed" and abs(nano - was.nano) * 3 > was.nano * 2:
            raise ValueError(f"rate: {row['rate']} is far from {show_rate(was.nano)}; enter it by hand if it is right")
        out.add(kind, (base, quote, nano, day), f"1 {base} is {show_rate(nano)} {quote}" + (f", was {show_rate(was.nano)}" if was else ""))

    each(rows, progress, out, read)
    return out


def take_sheet(context: Context, checked: Checked) -> int:
    known = {(row.base, row.quote, row.day): row for row in context.session.scalars(select(Rate))}
    for base, quote, nano, day in checked.good:
        if row := known.get((base, quote, day)):
            row.nano, row.source = nano, "sheet"
        else:
            row = known[base, quote, day] = Rate(base=base, quote=quote, day=day, nano=nano, source="sheet")
            context.session.add(row)
    context.session.flush()
    if checked.good:
        lines = [f"1 {base} is {show_rate(nano)} {quote}" for base, quote, nano, _ in checked.good[:6]]
        follow(context, "rates", lines, f"{len(checked.good)} rates brought in by a sheet", seen=True)
    return len(checked.good)


def sources(context: Context) -> Sequence[RateSource]:
    """Who tells rates by themselves."""
    return context.session.scalars(select(RateSource)).all()
