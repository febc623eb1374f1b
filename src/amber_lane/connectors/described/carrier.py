"""A carrier, and a source of exchange rates, by their descriptions."""

from __future__ import annotations

from decimal import Decimal

from ..errors import Malformed, NotThere, UnknownOutcome
from ..protocols import CarrierWord, RateTable
from ..return_protocol import Label, LabelAsk
from ..wire import one_line
from .partner import DescribedPartner
from .records import Record


class DescribedCarrier(DescribedPartner):
    def track(self, numbers: list[str]) -> dict[str, list[CarrierWord]]:
        most = max(self.call.operation("track").most, 1)
        found = self.call.asked_of("track", numbers[: 50 if most > 1 else 10])
        return {row["number"]: _words(row) for row in found if row["number"] in numbers}

    def make_label(self, ask: LabelAsk) -> Label:
        given = {"reference": ask.reference, "sender": one_line(ask.sender), "to": ask.to, "weight_g": ask.weight_g}
        self.money("label")
        said = self.call.one("label", given)
        try:
            return _label(said)
        except Malformed as error:
            raise UnknownOutcome(error.message) from error

    def find_label(self, reference: str) -> Label | None:
        self.call.must_find("label")
        self.money("find_label")
        try:
            return _label(self.call.one("find_label", {"reference": reference}))
        except NotThere:
            return None


class DescribedRates(DescribedPartner):
    def table(self) -> RateTable:
        """Units of each currency for one of the base's; currencies that cannot be read are left out."""
        found = self.call.rows("table", {})
        rates: dict[str, Decimal] = {found.whole["base"]: Decimal(1)}
        for row in found.rows:
            value = row["rate"]
            if value.is_finite() and 0 < value < 10**6 and len(row["currency"]) == 3:
                rates[row["currency"]] = value
        if len(rates) < 2 or "as_of" not in found.whole:
            raise Malformed(f"{self.call.name}'s table holds no rate that can be read, or not of which day it is")
        return RateTable(found.whole["as_of"], rates)


def _words(row: Record) -> list[CarrierWord]:
    words = [CarrierWord(one["at"], one["kind"], one.get("message", ""), one.get("place", "")) for one in row["events"]]
    return sorted(words, key=lambda one: one.at)


def _label(row: Record) -> Label:
    """Malformed where it is no PDF, or costs nothing that can be read."""
    if not row["pdf"].startswith(b"%PDF-") or row["cost"] < 0:
        raise Malformed("the carrier's label is no PDF, or costs less than nothing")
    return Label(row["reference"], row["number"], row["pdf"], row["cost"], row.get("currency", ""))
