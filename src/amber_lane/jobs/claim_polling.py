"""What suppliers say of our claims. A call is never inside a transaction."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from sqlalchemy.orm import Session

from ..connectors.claim_protocol import ClaimLink
from ..data.session import Database
from ..services.base.context import Context
from ..services.claims import cases
from .depot_polling import Again

PAGE = 50


def read_claims(db: Database, context_of: Callable[[Session], Context], again: Again, link: ClaimLink, supplier: int) -> None:
    """Take the answers to every claim that a supplier may have news of. Errors are the connectors'."""
    with db.reading() as s:
        references = cases.under_way(context_of(s), supplier)
    for start in range(0, len(references), PAGE):
        found = again(partial(link.find_claims, references[start : start + PAGE]))[0]
        with db.writing(patient=True) as s:
            for answer in found:
                cases.take_answer(context_of(s), answer)
