"""Rules and policies with inheritance, and exchange rates."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, UniqueConstraint, or_
from sqlalchemy.orm import Mapped, mapped_column

from .base import Row, Versioned


class PriceRule(Versioned):
    """One scope's fields of the price rule, for a band of landed cost; a field that is not set is inherited.

    scope_key: '' for the house, else the code of the supplier, category, store or SKU. currency: what its amounts are in; a store in
    another one has them at the newest rate.
    """

    __tablename__ = "price_rule"
    __table_args__ = (
        UniqueConstraint("scope", "scope_key", "band_from"),
        CheckConstraint("scope in ('house','supplier','category','store','sku')", name="scope"),
    )
    scope: Mapped[str]
    scope_key: Mapped[str] = mapped_column(default="")
    band_from: Mapped[int] = mapped_column(default=0)
    currency: Mapped[str] = mapped_column(default="", server_default="")
    rule: Mapped[str | None]
    rule_value: Mapped[int | None]
    min_margin: Mapped[int | None]
    min_profit: Mapped[int | None]
    ceiling: Mapped[int | None]
    endings: Mapped[str | None]
    step: Mapped[int | None]
    reserve: Mapped[int | None]
    # The least that the price may be, in minor units of `currency`; and how far above it the crossed-out price stands, in ppm.
    least_price: Mapped[int | None]
    compare_at: Mapped[int | None]


# Rules of which something is money.
HAS_AMOUNT = or_(
    PriceRule.band_from > 0,
    PriceRule.rule == "add",
    PriceRule.min_profit.is_not(None),
    PriceRule.ceiling.is_not(None),
    PriceRule.least_price.is_not(None),
)


class Policy(Versioned):
    """One scope's fields of how we respond and what we hold; see services.pricing.policy.POLICY_DEFAULTS."""

    __tablename__ = "policy"
    __table_args__ = (
        UniqueConstraint("scope", "scope_key"),
        CheckConstraint("scope in ('house','supplier','category','store','sku')", name="scope"),
    )
    scope: Mapped[str]
    scope_key: Mapped[str] = mapped_column(default="")
    fields: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Rate(Row):
    """Units of `quote` per unit of `base` on a day; `ppm` would be too coarse, so 1e-9."""

    __tablename__ = "rate"
    __table_args__ = (UniqueConstraint("base", "quote", "day"),)
    base: Mapped[str]
    quote: Mapped[str]
    day: Mapped[datetime]
    nano: Mapped[int]
    # hand, sheet, or the name of the source that told it.
    source: Mapped[str] = mapped_column(default="hand")
