"""An event on its way to an address of one's own, as it stands in the outbox."""

from __future__ import annotations

from typing import Any, Protocol

from .payloads import Answer, Payload, payload_kind
from .protocols import PartnerLink


class WebhookLink(PartnerLink, Protocol):
    """An address of one's own."""

    def tell(self, event: dict[str, Any]) -> None:
        """Tell it of an event; the same again does no harm."""


@payload_kind("event")
class EventPayload(Payload):
    """What happened. id: always the same for the same; at: ISO 8601; data: what else is known of it."""

    id: str
    event: str
    at: str
    who: str
    on: str
    message: str
    count: int = 1
    data: dict[str, Any] | None = None

    @property
    def about(self) -> str:
        return self.on

    @property
    def summary(self) -> str:
        return self.message

    def send(self, link: WebhookLink, key: str) -> Answer:
        link.tell(self.stored())
        return None

    def ask(self, link: WebhookLink, key: str) -> Answer:
        """Nobody need know: it may come twice."""
        return None
