"""A claim on its way to a supplier, as it stands in the outbox."""

from __future__ import annotations

from .claim_protocol import ClaimAsk, ClaimLink
from .errors import Refused
from .payloads import Answer, SupplierPayload, payload_kind
from .protocols import SupplierLink


def claim_link(link: object) -> ClaimLink:
    """A partner as one that takes claims; Refused where it does not."""
    if not isinstance(link, ClaimLink):
        raise Refused("this supplier takes no claims by its interface")
    return link


@payload_kind("claim")
class ClaimPayload(SupplierPayload):
    """Asks a supplier for money or a new parcel. It knows claims by our reference, so the same again does no harm.

    pictures: numbers of our own copies, or the names that the supplier gave them.
    """

    reference: str
    purchase: str
    line_no: int
    units: int
    reason: str
    wish: str
    amount: int
    currency: str
    words: str = ""
    pictures: tuple[int | str, ...] = ()

    @property
    def about(self) -> str:
        return self.purchase

    @property
    def summary(self) -> str:
        return f"{self.units} {self.reason.replace('_', ' ')}"

    def send(self, link: SupplierLink, key: str) -> Answer:
        named = tuple(one for one in self.pictures if isinstance(one, str))
        told = self.model_dump(exclude={"pictures"})
        return claim_link(link).claim(ClaimAsk(**told, pictures=named))

    def ask(self, link: SupplierLink, key: str) -> Answer:
        return None
