"""What stores tell of returns that their buyers ask for. A call is never inside a transaction."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from sqlalchemy.orm import Session

from ..connectors.return_protocol import ReturnsLink
from ..data.session import Database
from ..data.setup import Store
from ..services.base.context import Context
from ..services.claims import return_requests, returns
from ..services.fulfilment.parcel_tracking import find_carrier
from .depot_polling import Again


def read_returns(db: Database, context_of: Callable[[Session], Context], again: Again, link: ReturnsLink, store: int) -> None:
    """Take what changed since the last look; each page and its cursor in one transaction. Errors are the connectors'."""
    more = True
    while more:
        with db.reading() as s:
            cursor = context_of(s).get(Store, store, "store").returns_cursor
        page = again(partial(link.returns, cursor))[0]
        if page.asked or page.unreadable or page.cursor != cursor:
            with db.writing(patient=True) as s:
                context = context_of(s)
                for row, asked in return_requests.take_page(context, context.get(Store, store, "store"), page):
                    if asked.tracking is not None:
                        carrier = find_carrier(context, asked.tracking.carrier)
                        returns.follow_store(context, row.id, asked.tracking.number, carrier)
        more = page.more and page.cursor != cursor
