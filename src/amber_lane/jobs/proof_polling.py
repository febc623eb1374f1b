"""A print house's own pictures of our samples, held beside ours. A call is never inside a transaction."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy.orm import Session

from ..connectors.errors import Malformed
from ..connectors.print_protocol import PrintLink
from ..data.session import Database
from ..services.base.context import Context
from ..services.base.errors import Invalid
from ..services.printing import files
from ..services.sourcing import print_samples


def read_proofs(db: Database, context_of: Callable[[Session], Context], link: PrintLink, supplier: int) -> None:
    """Every proof that is wanted and there. Malformed where one is no picture."""
    with db.reading() as s:
        context = context_of(s)
        wanted = {reference: print_samples.ours(context, reference) for reference in print_samples.without_proof(context, supplier)}
    for reference, mine in wanted.items():
        data = link.proof(reference)
        if data is None or mine is None:
            continue
        try:
            theirs = files.check(data)
        except Invalid as error:
            raise Malformed(f"the proof of {reference} cannot be read: {error.message}") from error
        differs = print_samples.compared(mine, theirs)
        with db.writing() as s:
            print_samples.take_proof(context_of(s), reference, theirs, differs)
