"""What every described partner can do: who we are there, and how often it may be called."""

from __future__ import annotations

from ..errors import Malformed
from ..protocols import Account, Budget, FeeTerms
from .caller import DescribedCaller
from .fields import OPERATIONS
from .records import Record
from .schema import FieldRead
from .values import maker

# What an operation lets our key do, in a person's words.
_MAY = {
    "listings": "read listings", "change": "write listings", "send_batch": "write listings", "publish": "make listings",
    "orders": "read orders", "fulfil": "write fulfilments", "refund": "refund orders", "settlements": "read settlements",
    "items": "read items", "offers": "read items", "item": "read items one by one", "buy": "send purchase orders", "claim": "send claims",
    "track": "read tracking", "label": "make labels", "table": "read rates",
}  # fmt: skip
_PLAIN = FieldRead(at="@")
# The question that shows whether the key is good, where nobody tells of an account.
_TRIES = ("table", "listings", "offers", "items", "orders")


class DescribedPartner:
    """A connector that a description makes."""

    def __init__(self, call: DescribedCaller) -> None:
        self.call, self.description = call, call.description
        has = call.has
        # What each kind's protocol says of itself.
        self.one_by_one = not has("offers") and has("item")
        self.batch_most = self.description.batch_most if has("send_batch") else 0
        self.tells_settlements = has("settlements")

    def budget(self) -> Budget | None:
        return self.call.budget

    def account(self) -> Account:
        told = self._account()
        may = list(dict.fromkeys(told.get("may") or (text for name, text in _MAY.items() if self.call.has(name))))
        self.call.currency = self.call.currency or str(told.get("currency", ""))
        fees = tuple(FeeTerms(one.get("category", ""), one["percent"], one.get("least") or 0) for one in told.get("fees", ()))
        return Account(
            told.get("name") or self.description.name, told.get("country", ""), told.get("currency", "") or self.call.currency, may,
            told.get("site", ""), told.get("tax", 0), fees, told.get("units_most"), told.get("listings_most"), told.get("carriers", ()),
            told.get("number", ""),
        )  # fmt: skip

    def _account(self) -> Record:
        facts = self._facts()
        if self.call.has("account"):
            told = self.call.one("account", {})
            for name in ("country", "currency"):
                if name in self.call.operation("account").fields and not told.get(name):
                    raise Malformed(f"{self.call.name}'s answer cannot be read (account): {name} is missing")
            return {**facts, **told}
        tried = next((name for name in _TRIES if self.call.has(name)), "")
        if tried:
            self.call.portion(tried, 1, "")
        return facts

    def _facts(self) -> Record:
        """What the description itself says of the account."""
        specs, out = OPERATIONS[self.description.owner]["account"].fields, {}
        for name, raw in self.description.facts.items():
            spec = specs.get(name)
            if spec is None:
                continue
            try:
                out[name] = maker(spec, _PLAIN, self.description.time)(raw)
            except (KeyError, ValueError) as error:
                raise Malformed(f"the description's {name} cannot be read: {error}") from error
        return out

    def money(self, name: str) -> str:
        """The partner's currency, where the rows of an operation do not name it."""
        if not self.call.currency and self.call.has("account") and "currency" not in self.call.operation(name).fields:
            self.account()
        return self.call.currency
