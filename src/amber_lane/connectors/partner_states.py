"""The few words that partners' states are made into at the edge."""

from __future__ import annotations

# Of a listing, a store's order, a purchase at its supplier, and what a carrier says of a parcel.
LISTING_STATES = ("live", "paused", "ended")
ORDER_STATES = ("open", "cancelled", "sent", "refunded")
PURCHASE_STATES = ("received", "accepted", "refused", "shipped", "withdrawn")
CARRIER_KINDS = ("label", "collected", "moving", "delivered", "returned")
