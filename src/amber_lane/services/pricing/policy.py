"""Rules and policies laid over columns of listings: house, supplier, category, store, SKU; the nearest wins."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.currency import show, usual_amount
from ...core.money import Bools, Ints, half_up_columns
from ...core.numbers import PPM
from ...core.price import NONE, Endings, Rule
from ...core.rules import SCOPES, Layer, resolve
from ...data.prices import Policy, PriceRule
from ..base.context import Context
from ..base.regional import home_of
from .inputs import Facts

# How we respond and what we hold, where nobody said otherwise. Shares in ppm, money in cents of a euro (see `defaults`).
POLICY_DEFAULTS: dict[str, Any] = {
    "follow_price": True,
    "follow_stock": True,
    "cushion": 2,
    "cap": 8,
    "pause_at": 0,
    "resume_at": 3,
    "resume_sweeps": 3,
    "at_none": "hide",
    "at_gone": "hide",
    "share": True,
    "loss_pauses": True,
    "held_pauses": False,
    "doubt_percent": 400_000,
    "doubt_again": 2,
    # How many robust deviations an item's cost may move from how it usually does; 0 = its usual moves say nothing.
    "doubt_deviations": 6,
    "hold_share": 300_000,
    "hold_median": 150_000,
    "hold_agree": 4,
    "stale_hours": 6,
    # A sheet that a person brings in is believed for so many days; 0 = for ever.
    "sheet_days": 7,
    # More prices than this at once wait for a person; 0 = as many as there are.
    "wait_over": 300,
    # No item that is sold goes without a look for longer, where looks are planned one by one.
    "look_gap_hours": 24,
    "currency_cushion": 20_000,
    "rebate_counts": False,
    # Where no rule sets a returns reserve, what really came back does.
    "reserve_real": True,
    "refund_cost": 150,
    "least_order_profit": 0,
    "look_over": 40_000,
    # What a late parcel costs on average: messages, and now and then a refund.
    "late_cost": 300,
    # A line of so many times what is usual for its SKU is looked at; a split order whose parcels cost more to send than that, too.
    "unusual_times": 3,
    "split_over": 1500,
    # Whether an order that looks like a repetition of another one is held.
    "hold_twice": True,
    # A parcel that moved, and of which nobody said for so many days that it arrived, is taken as arrived; 0 = never.
    "arrived_after_days": 30,
    # Claims: days that a supplier has to answer, and how often it is reminded (half as many days each) before it is a person's.
    "claim_days": 7,
    # A supplier takes claims for so many days after buying; 0 = for ever.
    "claim_window": 0,
    "claim_reminders": 2,
    # Letters that are not Latin: asked about, written in Latin ones by themselves, or printed as they are.
    "letters": "ask",
    "send": "after",
    "send_minutes": 30,
    # Lanes: whether the sure ones are opened without asking; what share must come in time, and be taken, at least.
    "open_sure": True,
    # Whether the same thing in another pack may be opened by itself too, in its units.
    "open_packs": False,
    "slow_below": 700_000,
    "shut_below": 300_000,
}
# Amounts, in the house's money.
AMOUNTS = ("refund_cost", "late_cost", "split_over", "least_order_profit", "look_over")
AT_NONE = ("hide", "zero", "leave", "end")
SENDS = ("hand", "once", "after")
LETTERS = ("ask", "latin", "all")
WORDS = {"at_none": AT_NONE, "at_gone": AT_NONE, "send": SENDS, "letters": LETTERS}
# Amounts in price rules, in the rule's money; and what a rule of "cost plus" adds.
CASH = ("min_profit", "ceiling", "least_price")
RULE_FIELDS = ("rule", "rule_value", "min_margin", "min_profit", "ceiling", "endings", "step", "reserve", "least_price", "compare_at")


@dataclass(frozen=True)
class Keys:
    """Whose rules a column of listings falls under: the code per row of each scope."""

    supplier: Sequence[str]
    category: Sequence[str]
    store: Sequence[str]
    sku: Sequence[str]


@dataclass
class Overlay:
    """Values per field as columns, and per field which layer gave them (an index into `names`).

    no_rate: rows in another currency than a rule of theirs, and nobody knows a rate between the two: such a rule says nothing there.
    """

    values: dict[str, Ints]
    source: dict[str, Ints]
    no_rate: Bools
    names: list[str] = field(default_factory=lambda: ["general rule"])


class BandLayer(NamedTuple):
    """One scope's fields, from a landed cost on. money: what its amounts are in."""

    scope: str
    key: str
    band_from: int
    fields: Mapping[str, int | None]
    money: str = ""


def _rows_of(keys: Keys | None, scope: str, wanted: Iterable[str]) -> dict[str, Ints]:
    """Row numbers of each key that has a rule."""
    if keys is None:
        return {}
    column: Sequence[str] = getattr(keys, scope)
    asked = set(wanted)
    found: dict[str, list[int]] = {}
    for place, key in enumerate(column):
        if key in asked:
            found.setdefault(key, []).append(place)
    return {key: np.array(places, dtype=np.int64) for key, places in found.items()}


def lay_over(
    n: int, layers: Sequence[BandLayer], keys: Keys, landed: Ints | None = None, turned: Callable[[str], Ints] | None = None
) -> Overlay:
    """Lay layers over n rows, widest scope first; within a scope the highest band that fits.

    landed: of each row in its own currency, minor units; None = nothing goes by it. turned: a currency -> per row, ppm of its minor unit
    in the row's (0 = no rate), by which amounts are turned, rounded half up.
    """
    over = Overlay({}, {}, np.zeros(n, dtype=np.bool_))
    order = sorted(layers, key=lambda one: (SCOPES.index(one.scope), one.band_from))
    ppm = {money: turned(money) for money in sorted({one.money for one in order})} if turned else {}
    plain = {money: bool((column == PPM).all()) for money, column in ppm.items()}
    wanted: dict[str, list[str]] = {}
    for one in order:
        wanted.setdefault(one.scope, []).append(one.key)
    rows_of = {scope: _rows_of(keys, scope, names) for scope, names in wanted.items() if scope != "house"}
    everyone = np.arange(n)
    layer_of = [""]
    for at, (scope, key, band, fields, money) in enumerate(order):
        rows = everyone if scope == "house" else rows_of[scope].get(key, everyone[:0])
        # A band reaches up to the next one of the same scope and key, whatever that one leaves unset.
        above = [o.band_from for o in order[at + 1 :] if o.scope == scope and o.key == key and o.band_from > band]
        turns = bool(ppm) and not plain[money]
        if turns and (band or above or _has_amount(fields)):
            over.no_rate[rows[ppm[money][rows] == 0]] = True
            rows = rows[ppm[money][rows] > 0]
        if landed is not None:
            turn = ppm[money][rows] if turns else np.full(len(rows), PPM, dtype=np.int64)
            inside = landed[rows] >= half_up_columns(band * turn, PPM)
            if above:
                inside &= landed[rows] < half_up_columns(min(above) * turn, PPM)
            rows = rows[inside]
        if not len(rows):
            continue
        over.names.append(_named(scope, key, band, money))
        layer_of.append(money)
        for name, value in fields.items():
            if value is None:
                continue
            over.values.setdefault(name, np.full(n, NONE, dtype=np.int64))[rows] = value
            over.source.setdefault(name, np.full(n, -1, dtype=np.int64))[rows] = len(over.names) - 1
    if not all(plain.values()):
        _turn(over, layer_of, ppm)
    return over


def _has_amount(fields: Mapping[str, int | None]) -> bool:
    """Whether anything of a rule is money."""
    adds = fields.get("rule_value") is not None and fields.get("rule") in (None, int(Rule.add))
    return adds or any(fields.get(name) is not None for name in CASH)


def _turn(over: Overlay, layer_of: Sequence[str], ppm: Mapping[str, Ints]) -> None:
    """Amounts of rules, which each row has from a layer in its money, in the row's own."""
    adds = over.values.get("rule")
    for name in (*CASH, "rule_value"):
        values = over.values.get(name)
        if values is None or (name == "rule_value" and adds is None):
            continue
        for at in np.unique(over.source[name][over.source[name] >= 0]).tolist():
            rows = over.source[name] == at
            if name == "rule_value":
                # A share stays one; an amount laid on top of the cost is money.
                rows &= adds == int(Rule.add)
            values[rows] = half_up_columns(values[rows] * ppm[layer_of[at]][rows], PPM)


def _named(scope: str, key: str, band: int, money: str) -> str:
    """A rule as the bench calls it: 'general rule', 'store BF', 'general rule from €5.00'."""
    whose = {"house": "general rule", "sku": f"SKU {key}"}.get(scope, f"{scope} {key}")
    return f"{whose} from {show(band, money)}" if band else whose


def price_layers(facts: Facts, endings: Endings, rules: Iterable[PriceRule] | None = None) -> list[BandLayer]:
    """Price rules (of some, or all that there are) as layers of integers; endings become numbers of sets."""
    out = []
    for one in facts.rules if rules is None else rules:
        fields: dict[str, int | None] = {name: getattr(one, name) for name in RULE_FIELDS if name not in ("rule", "endings")}
        fields["rule"] = None if one.rule is None else int(Rule.named(one.rule))
        fields["endings"] = None if one.endings is None else endings.add(parse_endings(one.endings))
        money = one.currency or facts.rule_money(one.scope, one.scope_key)
        out.append(BandLayer(one.scope, one.scope_key, one.band_from, fields, money))
    return out


def parse_endings(text: str) -> list[int]:
    """'49|99' as minor parts; ValueError otherwise."""
    parts = [part.strip().lstrip(".") for part in text.replace(",", "|").replace(" ", "|").split("|") if part.strip()]
    if any(not part.isdecimal() or len(part) > 2 for part in parts):
        raise ValueError(f"{text!r} is not endings such as 49|99")
    return [int(part) for part in parts]


def defaults(home: str) -> dict[str, Any]:
    """Where every field begins; amounts in minor units of the house's currency."""
    return POLICY_DEFAULTS | {name: usual_amount(POLICY_DEFAULTS[name], home) for name in AMOUNTS}


def policy_columns(facts: Facts, n: int, keys: Keys, currency: Sequence[str]) -> dict[str, Ints]:
    """Every policy field as a column; words become their place in their list.

    currency: of each row, which its amounts are turned into; where there is no rate to it they stay as they are.
    """
    layers = []
    for one in facts.policies:
        layers.append(BandLayer(one.scope, one.scope_key, 0, {name: _number(name, value) for name, value in one.fields.items()}))
    over = lay_over(n, layers, keys)
    columns = {}
    for name, default in defaults(facts.home).items():
        start = np.full(n, _number(name, default), dtype=np.int64)
        given = over.values.get(name)
        columns[name] = start if given is None else np.where(given == NONE, start, given)
    if any(money != facts.home for money in currency):
        ppm, _ = facts.worth(currency)
        for name in AMOUNTS:
            columns[name] = np.where(ppm > 0, half_up_columns(columns[name] * PPM, np.maximum(ppm, 1)), columns[name])
    return columns


def _number(name: str, value: str | int | None) -> int | None:
    if value is None:
        return None
    return WORDS[name].index(str(value)) if name in WORDS else int(value)


def policy_for(s: Session, **keys: str) -> dict[str, Any]:
    """The policy of one place, as a person reads it; keys: supplier=…, store=…, sku=…, category=…."""
    layers = [Layer("house", "default", defaults(home_of(s)))]
    for one in s.scalars(select(Policy)):
        if one.scope == "house" or keys.get(one.scope) == one.scope_key:
            layers.append(Layer(one.scope, one.scope_key or "house", one.fields))
    return resolve(layers).values


def refund_cost(context: Context) -> int:
    """What one refund costs beside the lost profit, in the house's money."""
    return int(policy_for(context.session)["refund_cost"])


def of_scopes(s: Session) -> list[Policy]:
    """What suppliers, stores, categories and SKUs have otherwise than all."""
    rows = s.scalars(select(Policy).where(Policy.scope != "house").order_by(Policy.scope, Policy.scope_key))
    return [row for row in rows if row.fields]
