"""A supplier by its description."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict

from ...core.currency import plain
from ..claim_protocol import ClaimAnswer, ClaimAsk
from ..errors import Malformed, NotThere, Refused, Unavailable, UnknownOutcome
from ..protocols import (
    CatalogueItem,
    CataloguePage,
    ItemSeen,
    OriginTerms,
    Purchase,
    PurchaseAnswer,
    ServiceTerms,
    SweepPage,
    Tracking,
)
from ..wire import purchase_body
from .partner import DescribedPartner
from .records import Record, words_of


class DescribedSupplier(DescribedPartner):
    def origins(self) -> list[OriginTerms]:
        if not self.call.has("origins"):
            return []
        self.money("origins")
        found = self.call.rows("origins", {})
        if found.bad:
            raise Malformed(f"{self.call.name}'s services cannot be read: {found.bad[0]}")
        return [_origin(one) for one in found.rows]

    def catalogue(self) -> Iterator[CataloguePage]:
        if not self.call.has("items"):
            return
        currency = self.money("items")
        for found in self.call.all_of("items"):
            yield CataloguePage([self._item(row, currency) for row in found.rows], found.bad)

    def sweep_page(self, page: int, cursor: str = "") -> SweepPage:
        currency = self.money("offers")
        found, after, pages = self.call.portion("offers", page, cursor)
        seen = [
            ItemSeen(row["number"], row["cost"], row.get("currency") or currency, row["stock"], _tiers(row), row.get("pack", 0))
            for row in found.rows
        ]
        return SweepPage(found.whole.get("as_of"), seen, pages, found.bad, cursor=after)

    def item(self, number: str) -> CatalogueItem | None:
        currency = self.money("item")
        try:
            row = self.call.one("item", {"number": number})
        except NotThere:
            return None
        if row["number"] != number:
            raise Malformed(f"{self.call.name} answered with {row['number']} when asked for {number}")
        return self._item(row, currency)

    def _item(self, row: Record, currency: str) -> CatalogueItem:
        # Where it tells of no warehouses, what an item says of one means nothing here: a person entered how it sends.
        origin = row.get("origin", "") if self.call.has("origins") else ""
        words = words_of(row)
        sizes = (max(row.get("pack_size", 1), 1), max(row.get("weight_g", 0), 0))
        return CatalogueItem(
            row["number"], row["title"], row["cost"], row.get("currency") or currency, row["stock"], origin, *words, *sizes,
            _tiers(row), lead_days=max(row.get("lead_days", 0), 0), link=row.get("link", ""),
        )  # fmt: skip

    def buy(self, purchase: Purchase) -> PurchaseAnswer:
        # What the bill is in is known before anything is sent, so that its answer can be read.
        self.money("buy")
        said = self.call.one("buy", purchase_body(purchase))
        if said["reference"] != purchase.reference:
            raise UnknownOutcome(f"{self.call.name} was sent {purchase.reference} and answered about another")
        return _purchase(said)

    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]:
        self.call.must_find("buy")
        self.money("purchases")
        return [_purchase(one) for one in self.call.asked_of("purchases", references) if one["reference"] in references]

    def recall(self, reference: str) -> PurchaseAnswer:
        if not self.call.has("recall"):
            raise Refused(f"{self.call.name} takes no cancelling of an order; write to the supplier, or ask it for a return")
        self.money("recall")
        said = self.call.one("recall", {"reference": reference})
        return _purchase(said)

    def keep_evidence(self, data: bytes, kind: str) -> str:
        try:
            return str(self.call.one("evidence", {}, data, kind)["name"])
        except UnknownOutcome as error:
            raise Unavailable(error.message) from error

    def claim(self, ask: ClaimAsk) -> ClaimAnswer:
        given = {**asdict(ask), "amount": plain(ask.amount, ask.currency), "pictures": list(ask.pictures)}
        self.money("claim")
        try:
            said = self.call.one("claim", given)
        except UnknownOutcome as error:
            # The same again adds nothing there, so it is simply tried again.
            raise Unavailable(error.message) from error
        if said["reference"] != ask.reference:
            raise Unavailable(f"the supplier was asked about claim {ask.reference} and answered about another")
        return _claim(said)

    def find_claims(self, references: list[str]) -> list[ClaimAnswer]:
        if not self.call.has("claims"):
            return []
        self.money("claims")
        found = self.call.rows("claims", {"references": references, "reference": references[0]})
        good = [_claim(one) for one in found.rows if one["reference"] in references]
        # One that cannot be read is told, and stops no other.
        good += [ClaimAnswer(name, "", "", why) for name, why in found.unread if name in references]
        return sorted(good, key=lambda one: references.index(one.reference))


def _tiers(row: Record) -> tuple[tuple[int, int], ...]:
    return tuple((one["at"], one["cost"]) for one in row.get("tiers", ()))


def _tracking(row: Record) -> Tracking | None:
    number = row.get("tracking_number")
    return Tracking(number, row.get("carrier", "")) if number else None


def _purchase(row: Record) -> PurchaseAnswer:
    return PurchaseAnswer(
        row["reference"], row.get("number", ""), row["state"], row.get("message", ""), row.get("billed"), _tracking(row),
        currency=row.get("currency", "").upper(),
    )  # fmt: skip


def _claim(row: Record) -> ClaimAnswer:
    amount = row.get("amount")
    if amount is not None and amount < 0:
        return ClaimAnswer(row["reference"], "", row.get("number", ""), "what the supplier pays for it is below nought")
    return ClaimAnswer(
        row["reference"],
        row["state"],
        row.get("number", ""),
        row.get("message", ""),
        amount,
        row.get("currency", "").upper(),
        _tracking(row),
    )


def _origin(row: Record) -> OriginTerms:
    services = [
        ServiceTerms(
            one["code"], one["name"], one["country"], one["first"], one["following"], one.get("free_over"), one["days_low"],
            one["days_high"], one.get("tracked", True),
            tuple(sorted((band["up_to_g"], band["first"], band["following"]) for band in one.get("bands", ()))),
        )
        for one in row["services"]
    ]  # fmt: skip
    return OriginTerms(
        row["code"], row["name"], row["country"], row.get("cut_off", "16:00"), row.get("handling", 0), services,
        row.get("return_address", ""), row.get("holidays", ()),
    )  # fmt: skip
