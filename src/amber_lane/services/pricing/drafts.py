"""What a person may change about how prices are made: as a draft it is only looked at, kept it is in force and in the log."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, Protocol

from sqlalchemy import delete, select

from ...core import price
from ...core.currency import MINOR_DIGITS, minor_digits
from ...core.numbers import PPM, show_rate
from ...core.plans import Membership, plan_faults
from ...core.writing import grouped
from ...data.outbox import AuditEntry
from ...data.prices import Policy, PriceRule, Rate
from ...data.setup import FeeRow, Store, Supplier
from ..base.context import Context
from ..base.errors import Invalid
from .inputs import Facts, laid_over, plans_of
from .policy import POLICY_DEFAULTS, RULE_FIELDS, WORDS, parse_endings

STORE_TERMS = ("tax_in_price", "payment", "payment_fixed")
SUPPLIER_TERMS = ("discount", "rebate", "tax")


class Change(Protocol):
    """A change that can be laid over the facts, or kept. `keep` returns its act in the log, which can be undone."""

    def lay(self, facts: Facts) -> Facts: ...
    def keep(self, context: Context) -> AuditEntry: ...


def invalid(wrong: dict[str, str]) -> None:
    """Raise Invalid with what is wrong with each field, if anything is."""
    if wrong:
        raise Invalid("; ".join(f"{name} {message}" for name, message in wrong.items()), wrong)


@dataclass(frozen=True)
class Draft:
    """One rule as a person drafts it; money in minor units, rates in ppm."""

    scope: str
    scope_key: str
    band_from: int
    fields: dict[str, Any]
    # What its amounts are in; '' = what is usual for such a rule (see `Facts.rule_money`).
    currency: str = ""

    def checked(self) -> PriceRule:
        """As a rule, or Invalid with what is wrong with each field."""
        wrong: dict[str, str] = {}
        fields = {name: self.fields.get(name) for name in RULE_FIELDS}
        if fields["rule"] is not None:
            try:
                kind = price.Rule.named(fields["rule"])
                if fields["rule_value"] is None:
                    wrong["rule_value"] = "is needed with a rule"
                elif kind is price.Rule.margin and fields["rule_value"] >= PPM:
                    wrong["rule_value"] = "must be below 100 % for a margin"
                elif kind is not price.Rule.add and fields["rule_value"] > 100 * PPM:
                    wrong["rule_value"] = "must be at most 100 times"
            except ValueError as error:
                wrong["rule"] = str(error)
        for name in ("rule_value", "min_margin", "ceiling", "step", "reserve", "least_price", "compare_at"):
            value = fields[name]
            if value is not None and not 0 <= value <= (10**9 if name in ("ceiling", "rule_value", "least_price") else 100 * PPM):
                wrong[name] = "is out of bounds"
        if fields["endings"] is not None:
            try:
                fields["endings"] = "|".join(f"{end:02d}" for end in parse_endings(fields["endings"]))
            except ValueError as error:
                wrong["endings"] = str(error)
        if fields["least_price"] is not None and fields["ceiling"] is not None and fields["least_price"] > fields["ceiling"]:
            wrong["least_price"] = "lies above the ceiling"
        if self.scope != "house" and not self.scope_key:
            wrong["scope_key"] = "says whose rule it is"
        if self.currency and self.currency not in MINOR_DIGITS:
            wrong["currency"] = "must be a currency such as EUR, USD or JPY"
        invalid(wrong)
        key = (self.scope, self.scope_key, self.band_from)
        return PriceRule(scope=key[0], scope_key=key[1], band_from=key[2], currency=self.currency, version=1, **fields)


@dataclass(frozen=True)
class RuleChange:
    """Other price rules in place of all that there are."""

    rules: Sequence[Draft]

    def lay(self, facts: Facts) -> Facts:
        return replace(facts, rules=[rule.checked() for rule in self.rules])

    def keep(self, context: Context) -> AuditEntry:
        before = [asdict(_as_draft(rule)) for rule in context.session.scalars(select(PriceRule))]
        context.session.execute(delete(PriceRule))
        made, facts = [rule.checked() for rule in self.rules], Facts.read(context.session)
        for one in made:
            one.currency = one.currency or facts.rule_money(one.scope, one.scope_key)
        context.session.add_all(made)
        return context.log("rule.change", "price rules", "price rules changed", before={"rules": before}, undo=True)


def _as_draft(rule: PriceRule) -> Draft:
    return Draft(rule.scope, rule.scope_key, rule.band_from, {name: getattr(rule, name) for name in RULE_FIELDS}, rule.currency)


@dataclass(frozen=True)
class FeeChange:
    """What a store takes: tax in price, payment terms, and fee rows by category."""

    store: int
    terms: dict[str, int]
    fees: Sequence[dict[str, Any]]
    version: int | None = None

    def _check(self) -> None:
        wrong = {name: "must not be negative" for name in STORE_TERMS if not 0 <= self.terms[name] < PPM * 100}
        if len({fee["category"] for fee in self.fees}) != len(self.fees):
            wrong["category"] = "is there twice; keep one row for each"
        for fee in self.fees:
            least, cap = fee["least"], fee["cap"]
            if not 0 <= fee["percent"] < PPM or least < 0 or fee["fixed"] < 0 or (cap is not None and cap < least):
                name = fee["category"] or "all others"
                wrong[f"fee of {name}"] = "cannot be: percent below 100, nothing negative, the cap not under the least"
        invalid(wrong)

    def lay(self, facts: Facts) -> Facts:
        self._check()
        return facts.with_fees(self.store, self.terms, self.fees) if self.store in facts.stores else facts

    def keep(self, context: Context) -> AuditEntry:
        self._check()
        store = context.get_version(Store, self.store, self.version, "store")
        rows = context.session.scalars(select(FeeRow).where(FeeRow.store_id == store.id)).all()
        old = [{name: getattr(row, name) for name in ("category", "percent", "least", "cap", "fixed")} for row in rows]
        before = {"store": store.id, "terms": {name: getattr(store, name) for name in STORE_TERMS}, "fees": old}
        for name in STORE_TERMS:
            setattr(store, name, self.terms[name])
        context.session.execute(delete(FeeRow).where(FeeRow.store_id == store.id))
        context.session.add_all(FeeRow(store_id=store.id, **fee) for fee in self.fees)
        return context.log("fees.change", store.name, f"what {store.name} takes was changed", before=before, undo=True)


@dataclass(frozen=True)
class SupplierChange:
    """What a supplier gives: discount and expected rebate on goods, its tax; in ppm. plans: its memberships and volume
    discounts, all of them; None = as they are."""

    supplier: int
    terms: dict[str, int]
    version: int | None = None
    plans: Sequence[Membership] | None = None

    def _check(self) -> None:
        bounds = {"discount": PPM, "rebate": PPM, "tax": 10 * PPM}
        invalid({name: "is out of bounds" for name, most in bounds.items() if not 0 <= self.terms[name] < most})
        if message := plan_faults(self.plans or ()):
            raise Invalid(message, {"plans": message})

    def _values(self, supplier: Supplier) -> dict[str, Any]:
        """What is to stand in the supplier's row; whether a volume is reached is not for a person to say."""
        if self.plans is None:
            return dict(self.terms)
        reached = {plan.name: plan.reached for plan in plans_of(supplier)}
        return {**self.terms, "plans": [asdict(replace(plan, reached=reached.get(plan.name, False))) for plan in self.plans]}

    def lay(self, facts: Facts) -> Facts:
        self._check()
        known = facts.suppliers.get(self.supplier)
        return facts if known is None else facts.with_supplier(self.supplier, self._values(known))

    def keep(self, context: Context) -> AuditEntry:
        self._check()
        supplier = context.get_version(Supplier, self.supplier, self.version, "supplier")
        terms = {name: getattr(supplier, name) for name in SUPPLIER_TERMS}
        before = {"supplier": supplier.id, "terms": terms, "plans": list(supplier.plans or [])}
        for name, value in self._values(supplier).items():
            setattr(supplier, name, value)
        return context.log("terms.change", supplier.name, f"what {supplier.name} gives was changed", before=before, undo=True)


def _least(name: str) -> int:
    """The least that a limit may be: only what an order must earn may be less than nothing."""
    return -(10**9) if name == "least_order_profit" else 0


# Times that nobody means to be longer, and that no calendar could hold.
TIMES_MOST = {
    "arrived_after_days": 3_650,
    "claim_days": 365,
    "claim_window": 3_650,
    "claim_reminders": 20,
    "sheet_days": 3_650,
    "stale_hours": 87_600,
    "look_gap_hours": 87_600,
    "send_minutes": 525_600,
}


def _most(name: str) -> int:
    return TIMES_MOST.get(name, 10**9)


@dataclass(frozen=True)
class PolicyChange:
    """How we respond and what we hold, for one scope; a field set to None is inherited again."""

    scope: str
    key: str
    fields: dict[str, Any]

    def _check(self) -> None:
        wrong: dict[str, str] = {}
        for name, value in self.fields.items():
            if name not in POLICY_DEFAULTS:
                wrong[name] = "is not a limit that we know"
            elif value is not None and name in WORDS and value not in WORDS[name]:
                wrong[name] = f"must be one of {', '.join(WORDS[name])}"
            elif value is not None and name not in WORDS and (not isinstance(value, int) or not _least(name) <= value <= _most(name)):
                most = f" of at most {grouped(_most(name))}" if name in TIMES_MOST else ""
                wrong[name] = "must be a whole number" + ("" if _least(name) else " of 0 or more") + most
        invalid(wrong)

    def lay(self, facts: Facts) -> Facts:
        self._check()
        return facts.with_policy(self.scope, self.key, self.fields)

    def keep(self, context: Context) -> AuditEntry:
        self._check()
        row = context.session.scalar(select(Policy).where(Policy.scope == self.scope, Policy.scope_key == self.key))
        if row is None:
            row = Policy(scope=self.scope, scope_key=self.key, fields={}, version=0)
            context.session.add(row)
        before = dict(row.fields)
        row.fields = laid_over(before, self.fields)
        row.version += 1
        context.session.flush()
        context.reroute()
        # To undo is to put every field back that this change touched, the inherited ones too.
        old = {name: before.get(name) for name in {*before, *self.fields}}
        kept = {"scope": self.scope, "key": self.key, "fields": old}
        return context.log(
            "policy.change",
            self.key or self.scope,
            f"limits of {self.key} changed" if self.key else "general limits changed",
            before=kept,
            after=row.fields,
            undo=True,
        )


@dataclass(frozen=True)
class RateChange:
    """What one unit of `base` is worth in `quote`, in units of 1e-9; None: there was no rate, and there is none again."""

    base: str
    quote: str
    nano: int | None

    def _check(self) -> None:
        wrong = {}
        for name in ("base", "quote"):
            try:
                minor_digits(getattr(self, name))
            except ValueError as error:
                wrong[name] = str(error)
        if self.nano is not None and not 0 < self.nano < 10**13:
            wrong["rate"] = "must be more than 0 and less than 10,000"
        invalid(wrong)

    def lay(self, facts: Facts) -> Facts:
        self._check()
        return facts if self.nano is None else facts.with_rate(self.base, self.quote, self.nano)

    def keep(self, context: Context) -> AuditEntry:
        self._check()
        pair = (Rate.base == self.base, Rate.quote == self.quote)
        old = context.session.scalar(select(Rate).where(*pair).order_by(Rate.day.desc()).limit(1))
        before = {"base": self.base, "quote": self.quote, "nano": old.nano if old else None}
        if self.nano is None:
            context.session.execute(delete(Rate).where(*pair))
        elif old is not None and old.day == context.now:
            old.nano = self.nano
        else:
            context.session.add(Rate(base=self.base, quote=self.quote, day=context.now, nano=self.nano))
        context.session.flush()
        context.reroute()
        message = f"1 {self.base} is {show_rate(self.nano)} {self.quote}" if self.nano else "rate taken back"
        return context.log("rate.change", f"{self.base} to {self.quote}", message, before=before, undo=True)


def as_it_was(act: AuditEntry) -> Change:
    """The change that takes back a kept one, from its act in the log; KeyError for an act of another kind."""
    was: dict[str, Any] = act.before or {}
    kinds: dict[str, Callable[[], Change]] = {
        "rule.change": lambda: RuleChange([Draft(**one) for one in was["rules"]]),
        "fees.change": lambda: FeeChange(was["store"], was["terms"], was["fees"]),
        "terms.change": lambda: SupplierChange(
            was["supplier"], was["terms"], plans=[Membership(**one) for one in was["plans"]] if "plans" in was else None
        ),
        "rate.change": lambda: RateChange(was["base"], was["quote"], was["nano"]),
        "policy.change": lambda: PolicyChange(was["scope"], was["key"], was["fields"]),
    }
    return kinds[act.kind]()
