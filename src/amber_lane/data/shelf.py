"""SKUs, listings and the rules for their words."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import ListingState
from .base import Row, Versioned, part


class Sku(Versioned):
    """Our own number of a thing; `pace` is sales a day in millionths, from the last 28 days."""

    __tablename__ = "sku"
    __table_args__ = (Index("ix_sku_gtin", "gtin"),)
    code: Mapped[str] = mapped_column(unique=True)
    title: Mapped[str]
    gtin: Mapped[str] = mapped_column(default="")
    mpn: Mapped[str] = mapped_column(default="")
    brand: Mapped[str] = mapped_column(default="")
    category: Mapped[str] = mapped_column(default="")
    options: Mapped[str] = mapped_column(default="")
    weight_g: Mapped[int] = mapped_column(default=0)
    pace: Mapped[int] = mapped_column(default=0)


_OVERSELL = "state = 'paused' and shown_state = 'live' and shown_quantity > 0"
_NO_RULE = "outcome = 5 and hand_price is null and state in ('live', 'paused')"
_BARE = "lane_id is null and state in ('live', 'paused')"


class Listing(Versioned):
    """A SKU's offer in one store. `shown_*` is what the store last confirmed, `wanted_*` what we want there.

    paused_by: '' while live, else stock, hold (a limit) or hand; hand_price: a price fixed by a person.
    """

    __tablename__ = "listing"
    __table_args__ = (
        UniqueConstraint("store_id", "sku_id"),
        CheckConstraint("state in ('preparing','live','paused','ended')", name="state"),
        Index("ix_listing_sku_id", "sku_id", "state"),
        Index("ix_listing_state_wanted_price", "state", "wanted_price", "id"),
        Index("ix_listing_oversell", "store_id", "id", **part(_OVERSELL)),
        Index("ix_listing_no_rule", "store_id", "sku_id", **part(_NO_RULE)),
        Index("ix_listing_theirs", "store_id", **part("theirs is not null")),
        Index("ix_listing_out", "sku_id", **part("state = 'paused' and paused_by = 'stock'")),
        Index("ix_listing_hand_until", "hand_until", "sku_id", **part("hand_until is not null")),
        Index("ix_listing_message", "id", **part("message <> ''")),
        Index("ix_listing_lane_id", "lane_id"),
        Index("ix_listing_bare", "sku_id", **part(_BARE)),
    )
    store_id: Mapped[int] = mapped_column(ForeignKey("store.id"))
    sku_id: Mapped[int] = mapped_column(ForeignKey("sku.id"))
    title: Mapped[str]
    description: Mapped[str] = mapped_column(default="")
    state: Mapped[ListingState]
    paused_by: Mapped[str] = mapped_column(default="")
    currency: Mapped[str]
    wanted_price: Mapped[int]
    wanted_quantity: Mapped[int]
    shown_price: Mapped[int]
    shown_quantity: Mapped[int]
    shown_state: Mapped[str]
    shown_at: Mapped[datetime | None]
    hand_price: Mapped[int | None]
    hand_until: Mapped[datetime | None]
    hand_reason: Mapped[str] = mapped_column(default="")
    ceiling: Mapped[int | None]
    least_price: Mapped[int | None]
    # The price that the largest step of a day is counted from, and since when.
    step_price: Mapped[int | None]
    step_at: Mapped[datetime | None]
    steady: Mapped[int] = mapped_column(default=0)
    lane_id: Mapped[int | None]
    landed: Mapped[int | None]
    profit: Mapped[int | None]
    net: Mapped[int | None]
    # "Only from the next change on": what the rule asked then, and the quantity that stock asked for; while the same is asked, it rests.
    rest_price: Mapped[int | None]
    rest_stock: Mapped[int | None]
    set_by: Mapped[int] = mapped_column(default=-1)
    outcome: Mapped[int] = mapped_column(default=0)
    # What it says beside its title and description; category '' = the SKU's.
    category: Mapped[str] = mapped_column(default="")
    tags: Mapped[str] = mapped_column(default="")
    compare_at: Mapped[int | None]
    pictures: Mapped[list[Any]] = mapped_column(default=list)
    # The listing that it was copied from, and whether it takes that one's changed words.
    copied_from: Mapped[int | None]
    follow_words: Mapped[bool] = mapped_column(default=False)
    # Words as the store shows them, where they are not ours.
    theirs: Mapped[dict[str, Any] | None]
    # Its words are to go to the store with the next change.
    words_due: Mapped[bool] = mapped_column(default=False)
    # The most that the store's allowance lets it show; None = as many as the policy says.
    most: Mapped[int | None]
    # Why the last publishing failed; '' when it did not.
    message: Mapped[str] = mapped_column(default="")


# The rows of its partial indexes, word for word: off sale here and still shown; without a price rule; without a lane.
IS_OVERSOLD: Any = text("listing.state = 'paused' and listing.shown_state = 'live' and listing.shown_quantity > 0")
HAS_NO_RULE: Any = text("listing.outcome = 5 and listing.hand_price is null and listing.state in ('live', 'paused')")
IS_OUT_OF_STOCK: Any = text("listing.state = 'paused' and listing.paused_by = 'stock'")
HAS_HAND_UNTIL: Any = text("listing.hand_until is not null")
IS_DIFFERING: Any = text("listing.theirs is not null")
IS_BARE: Any = text("listing.lane_id is null and listing.state in ('live', 'paused')")


class Picture(Row):
    """Our own copy of a picture, checked when it came in; the same bytes are kept once. is_evidence: it shows what came to a buyer."""

    __tablename__ = "picture"
    is_evidence: Mapped[bool] = mapped_column(default=False)
    sha: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    data: Mapped[bytes]


class PictureAt(Row):
    """The name that a store gave one of our pictures."""

    __tablename__ = "picture_at"
    __table_args__ = (UniqueConstraint("picture_id", "store_id"),)
    picture_id: Mapped[int] = mapped_column(ForeignKey("picture.id"))
    store_id: Mapped[int] = mapped_column(ForeignKey("store.id"))
    name: Mapped[str]


class PhraseRule(Versioned):
    __tablename__ = "phrase_rule"
    find: Mapped[str]
    put: Mapped[str]
    store_id: Mapped[int | None] = mapped_column(ForeignKey("store.id"))


class Variant(Versioned):
    """A combination of options under one parent title."""

    __tablename__ = "variant"
    family: Mapped[str]
    sku_id: Mapped[int] = mapped_column(ForeignKey("sku.id"), unique=True)
    options: Mapped[dict[str, Any]]
