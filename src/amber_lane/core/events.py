"""What happens here that an address of one's own can be told of: groups of acts, each known by the first part of its kind."""

from __future__ import annotations

from enum import StrEnum


class EventGroup(StrEnum):
    """A choice of what is told. Beside ORDERS_NEW each is made of acts as the log has them."""

    orders_new = "orders_new"
    orders = "orders"
    purchases = "purchases"
    parcels = "parcels"
    cases = "cases"
    prices = "prices"
    listings = "listings"
    lanes = "lanes"
    depot = "depot"
    books = "books"


# The first part of an act's kind -> its group. What people do to each other's sign-ins, and to settings, is told to nobody outside.
_OF: dict[str, EventGroup] = {
    "order": EventGroup.orders,
    **dict.fromkeys(("purchase", "agent", "sample", "batch"), EventGroup.purchases),
    **dict.fromkeys(("transit", "parcel"), EventGroup.parcels),
    **dict.fromkeys(("claim", "return", "letter"), EventGroup.cases),
    **dict.fromkeys(("watch", "response", "price", "rule", "drift", "rate"), EventGroup.prices),
    "listing": EventGroup.listings,
    "lane": EventGroup.lanes,
    **dict.fromkeys(("depot", "load"), EventGroup.depot),
    **dict.fromkeys(("settlement", "statement", "month", "overhead"), EventGroup.books),
}
ORDER_CAME = "order.came"


def group_of(kind: str) -> EventGroup | None:
    """The group that an act's kind belongs to.

    >>> group_of("claim.settled"), group_of(ORDER_CAME), group_of("person.password")
    (<EventGroup.cases: 'cases'>, <EventGroup.orders_new: 'orders_new'>, None)
    """
    return EventGroup.orders_new if kind == ORDER_CAME else _OF.get(kind.partition(".")[0])
