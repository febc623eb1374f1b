"""Reading a depot: its terms, answers on goods, loads and their counts, its own book and stock. A call is never inside a transaction."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import timedelta
from functools import partial
from typing import Protocol, TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..clock import Clock
from ..connectors.depot_protocol import DepotLink, LoadState
from ..core.states import HeldState
from ..data.depot import HeldGoods
from ..data.session import Database
from ..data.setup import Supplier
from ..services.base.context import Context
from ..services.base.errors import Invalid
from ..services.depot import arrivals, goods, terms
from ..services.listings import images
from ..services.partners import partner_terms

T = TypeVar("T")
PAGE = 50
# Its terms and its stock are read so often; answers, loads and its book with every look.
EVERY = timedelta(hours=2)


class Again(Protocol):
    """Asks, and asks again after short waits; gives the answer and how many tries were in vain."""

    def __call__(self, ask: Callable[[], T]) -> tuple[T, int]: ...


class DepotReader:
    """Reads depots for one database."""

    def __init__(self, db: Database, clock: Clock, again: Again) -> None:
        self.db, self.clock, self.again = db, clock, again

    def _context(self, session: Session) -> Context:
        return Context(session, self.clock, "Depot")

    def read(self, number: int, link: DepotLink) -> None:
        """All that it has news of, in the order in which it makes sense: loads before stock, so that what came in is known."""
        with self.db.reading() as s:
            told_at = terms.terms_of(self._context(s), number).told_at
        look = told_at is None or self.clock.now() - told_at >= EVERY
        if look:
            self._terms(number, link)
        self._answers(number, link)
        self._loads(number, link)
        self._moves(number, link)
        if look:
            stock = self.again(link.stock)[0]
            with self.db.writing(patient=True) as s:
                context = self._context(s)
                arrivals.take_stock(context, number, stock)
                terms.terms_of(context, number).told_at = context.now

    def _terms(self, number: int, link: DepotLink) -> None:
        told, sends = self.again(link.depot_terms)[0], self.again(link.origins)[0]
        with self.db.writing(patient=True) as s:
            context = self._context(s)
            depot = context.get(Supplier, number, "depot")
            partner_terms.follow_origins(context, depot, sends)
            terms.take_told(context, depot, told)

    def _answers(self, number: int, link: DepotLink) -> None:
        with self.db.reading() as s:
            waits = select(HeldGoods.number).where(
                HeldGoods.supplier_id == number, HeldGoods.state.in_((HeldState.asked, HeldState.question))
            )
            numbers = list(s.scalars(waits.order_by(HeldGoods.id)))
        for start in range(0, len(numbers), PAGE):
            part = numbers[start : start + PAGE]
            found = self.again(partial(link.holdings, part))[0]
            with self.db.writing(patient=True) as s:
                for one in found:
                    goods.take_answer(self._context(s), number, one)

    def _loads(self, number: int, link: DepotLink) -> None:
        with self.db.reading() as s:
            references = arrivals.expected(self._context(s), number)
        for start in range(0, len(references), PAGE):
            part = references[start : start + PAGE]
            for one in self.again(partial(link.find_loads, part))[0]:
                pictures = self._pictures(link, one)
                with self.db.writing(patient=True) as s:
                    context = self._context(s)
                    kept = {name: images.keep(context, made, is_evidence=True).id for name, made in pictures}
                    arrivals.take_state(context, one, kept)

    def _pictures(self, link: DepotLink, load: LoadState) -> Sequence[tuple[str, images.Made]]:
        """The depot's pictures of what came damaged, made anew; one that is none is left out."""
        out = []
        for line in load.lines:
            data = link.damage_picture(load.reference, line.number) if line.picture else None
            if data is not None:
                try:
                    out.append((line.number, images.check(data)))
                except Invalid:
                    continue
        return out

    def _moves(self, number: int, link: DepotLink) -> None:
        more = True
        while more:
            with self.db.reading() as s:
                cursor = terms.terms_of(self._context(s), number).cursor
            page = self.again(partial(link.movements, cursor))[0]
            if page.moves:
                with self.db.writing(patient=True) as s:
                    context = self._context(s)
                    arrivals.take_moves(context, number, page.moves)
                    terms.terms_of(context, number).cursor = page.cursor
            more = page.more and page.cursor != cursor
