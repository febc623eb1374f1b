"""An address of one's own that is told of events: one signed POST for each. It may come twice, and carries the same id then."""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
import time
from typing import Any

import httpx

from .errors import Refused
from .http import Caller
from .protocols import Account, Budget

SECRET_LEAST = 16


def sign(secret: str, at: str, body: bytes) -> str:
    """HMAC-SHA256 over the moment, a line break and the body, in hex."""
    return hmac.new(secret.encode(), at.encode() + b"\n" + body, hashlib.sha256).hexdigest()


class WebhookPost:
    """key: the secret that both sides sign with."""

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        if len(key) < SECRET_LEAST:
            raise Refused(f"the secret that the words are signed with has {SECRET_LEAST} letters at least")
        self.secret = key
        self.call = Caller("the address", address, {}, deadline, transport)

    def account(self) -> Account:
        """Try it: it is told hello, and must answer."""
        self.tell({"event": "hello", "id": secrets.token_hex(8), "message": "Amber Lane tells you of events from now on."})
        return Account("", "", "", [])

    def budget(self) -> Budget | None:
        return self.call.budget

    def tell(self, event: dict[str, Any]) -> None:
        """Any answer of 200 to 299 means that it was heard."""
        body = json.dumps(event, ensure_ascii=False).encode()
        at = str(int(time.time()))
        headers = {
            "content-type": "application/json",
            "idempotency-key": str(event["id"]),
            "amber-lane-signed-at": at,
            "amber-lane-signature": sign(self.secret, at, body),
        }
        self.call.send("POST", "", content=body, headers=headers)
