"""Connectors as delivery needs them: each sends and asks for the payloads of its sort of partner, and no other."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import TypeVar

from sqlalchemy import select

from ..clock import Clock
from ..connectors.claim_payloads import ClaimPayload, claim_link
from ..connectors.depot_payloads import HoldPayload, depot_link
from ..connectors.errors import Refused
from ..connectors.file_servers.payload import FilePayload
from ..connectors.file_servers.protocol import FileLink
from ..connectors.payloads import Answer, ListingPayload, MailPayload, Payload, PurchasePayload, StorePayload, SupplierPayload
from ..connectors.print_protocol import PrintLink
from ..connectors.protocols import CarrierLink, MailLink, PartnerLink, StoreLink, SupplierLink
from ..connectors.return_payloads import CarrierPayload
from ..connectors.webhook_payload import EventPayload, WebhookLink
from ..data.bulk import by_id
from ..data.outbox import party_of
from ..data.printing import ArtFile
from ..data.session import Database
from ..data.shelf import Picture
from ..services.base.context import Context
from ..services.listings import images
from ..services.partners.registry import ConnectorRegistry
from .file_polling import FileDesk

P = TypeVar("P", bound=Payload)


class OpenLink(ABC):
    """One partner's connector, by which changes are sent and asked for."""

    link: PartnerLink

    @abstractmethod
    def send(self, payload: Payload, key: str) -> Answer: ...

    @abstractmethod
    def ask(self, payload: Payload, key: str) -> Answer: ...


class OpenStore(OpenLink):
    def __init__(self, link: StoreLink) -> None:
        self.link: StoreLink = link

    def send(self, payload: Payload, key: str) -> Answer:
        return _for(StorePayload, payload).send(self.link, key)

    def ask(self, payload: Payload, key: str) -> Answer:
        return _for(StorePayload, payload).ask(self.link, key)


class OpenSupplier(OpenLink):
    def __init__(self, link: SupplierLink) -> None:
        self.link: SupplierLink = link

    def send(self, payload: Payload, key: str) -> Answer:
        return _for(SupplierPayload, payload).send(self.link, key)

    def ask(self, payload: Payload, key: str) -> Answer:
        return _for(SupplierPayload, payload).ask(self.link, key)


class PrintDesk:
    """Hands a print house the files that a purchase names, before it is sent; the same file twice changes nothing there."""

    def __init__(self, db: Database) -> None:
        self.db = db

    def hand_over(self, link: PartnerLink, payload: Payload) -> None:
        """Errors are the connectors'; Refused where the files are not there any more, or the partner prints nothing."""
        if not isinstance(payload, PurchasePayload) or not payload.files:
            return
        if not isinstance(link, PrintLink):
            raise Refused("this supplier takes no files to print from")
        for sha in payload.files:
            with self.db.reading() as s:
                row = s.scalar(select(ArtFile).where(ArtFile.sha == sha))
            if row is None:
                raise Refused(f"the print file {sha[:12]} is not here any more")
            link.keep_file(row.data, row.kind)


class HoldDesk:
    """Hands a depot the pictures of goods that it is asked to hold, so that the question can name them."""

    def __init__(self, db: Database) -> None:
        self.db = db

    def named(self, link: PartnerLink, ask: HoldPayload) -> HoldPayload:
        """The same question with the depot's names for pictures. Errors are the connectors'."""
        names = tuple(depot_link(link).keep_picture(data, kind) for data, kind in pictures_of(self.db, ask.pictures))
        return ask.model_copy(update={"pictures": names})


class ClaimDesk:
    """Hands a supplier the pictures of a claim, so that the claim can name them."""

    def __init__(self, db: Database) -> None:
        self.db = db

    def named(self, link: PartnerLink, claim: ClaimPayload) -> ClaimPayload:
        """The same claim with the supplier's names for pictures. Errors are the connectors'."""
        names = tuple(claim_link(link).keep_evidence(data, kind) for data, kind in pictures_of(self.db, claim.pictures))
        return claim.model_copy(update={"pictures": names})


def pictures_of(db: Database, named: Sequence[int | str]) -> list[tuple[bytes, str]]:
    """Our copies of pictures by their numbers, with their kinds."""
    with db.reading() as s:
        return [(one.data, one.kind) for one in by_id(s, Picture, (n for n in named if isinstance(n, int))).values()]


class OpenCarrier(OpenLink):
    def __init__(self, link: CarrierLink) -> None:
        self.link: CarrierLink = link

    def send(self, payload: Payload, key: str) -> Answer:
        return _for(CarrierPayload, payload).send(self.link, key)

    def ask(self, payload: Payload, key: str) -> Answer:
        return _for(CarrierPayload, payload).ask(self.link, key)


class OpenFiles(OpenLink):
    def __init__(self, link: FileLink, desk: FileDesk) -> None:
        self.link: FileLink = link
        self.desk = desk

    def send(self, payload: Payload, key: str) -> Answer:
        self.desk.send(self.link, _for(FilePayload, payload))
        return None

    def ask(self, payload: Payload, key: str) -> Answer:
        return self.desk.ask(self.link, _for(FilePayload, payload))


class OpenWebhook(OpenLink):
    def __init__(self, link: WebhookLink) -> None:
        self.link: WebhookLink = link

    def send(self, payload: Payload, key: str) -> Answer:
        return _for(EventPayload, payload).send(self.link, key)

    def ask(self, payload: Payload, key: str) -> Answer:
        return _for(EventPayload, payload).ask(self.link, key)


class OpenMailbox(OpenLink):
    def __init__(self, link: MailLink) -> None:
        self.link: MailLink = link

    def send(self, payload: Payload, key: str) -> Answer:
        return _for(MailPayload, payload).send(self.link, key)

    def ask(self, payload: Payload, key: str) -> Answer:
        return _for(MailPayload, payload).ask(self.link, key)


def _for(sort: type[P], payload: Payload) -> P:
    if not isinstance(payload, sort):
        raise TypeError(f"a {payload.kind} is nothing that this partner is sent")
    return payload


def opened(connectors: ConnectorRegistry, context: Context, target: str, files: FileDesk) -> OpenLink:
    """The connector of a target such as store:3."""
    owner, number = party_of(target)
    if owner == "store":
        return OpenStore(connectors.store(context, number))
    if owner == "supplier":
        return OpenSupplier(connectors.supplier(context, number))
    if owner == "carrier":
        return OpenCarrier(connectors.carrier(context, number))
    if owner == "files":
        return OpenFiles(connectors.files(context, number), files)
    if owner == "webhook":
        return OpenWebhook(connectors.webhook(context, number))
    return OpenMailbox(connectors.mailbox(context, number))


class PictureDesk:
    """Hands a store those of our pictures that it has not got, so that a listing can name them.

    A picture's name there is made by the store from the picture itself, so handing one over twice does no harm.
    """

    def __init__(self, db: Database, clock: Clock) -> None:
        self.db, self.clock = db, clock

    def named(self, link: StoreLink, store: int, change: ListingPayload) -> ListingPayload:
        """The same change with the store's names for pictures. Errors are the connectors'."""
        numbers = [number for number in change.words.pictures if isinstance(number, int)] if change.words else []
        if change.words is None or not numbers:
            return change
        with self.db.reading() as s:
            names = images.names_at(Context(s, self.clock, ""), store, numbers)
            missing = [(row.id, row.data, row.kind) for row in by_id(s, Picture, set(numbers) - set(names)).values()]
        for number, data, kind in missing:
            names[number] = link.keep_picture(data, kind)
            with self.db.writing() as s:
                images.note_name(Context(s, self.clock, ""), store, number, names[number])
        pictures = tuple(names[number] for number in numbers if number in names)
        return change.model_copy(update={"words": change.words.model_copy(update={"pictures": pictures})})
