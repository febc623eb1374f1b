"""Every kind of partner that can be joined. A new kind is one file and one line here."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import httpx

from .errors import Refused
from .own_site import OwnSite
from .post_api import PostApi
from .protocols import CarrierLink, MailLink, StoreLink, SupplierLink
from .smtp_mail import SmtpMail
from .wholesale_api import WholesaleApi


@dataclass(frozen=True)
class Kind:
    """How a kind is called and what its key looks like, for the form that joins it."""

    owner: str
    kind: str
    name: str
    key_told: str
    make: Any


KINDS = (
    Kind("store", "sheet", "By sheets: listings and orders in, changes out", "", None),
    Kind("supplier", "sheet", "By sheets: items in, purchase orders out", "", None),
    Kind("store", "own_site", "Own site with an interface", "key:secret", OwnSite),
    Kind("supplier", "wholesale_api", "Wholesaler with a live interface", "key", WholesaleApi),
    Kind("carrier", "post_api", "Postal carrier", "key", PostApi),
    Kind("mailbox", "smtp", "Mail server", "", SmtpMail),
)


def connect(owner: str, kind: str, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> Any:
    """The connector of a kind. Refused when the kind is unknown or the address is none."""
    for one in KINDS:
        if (one.owner, one.kind) == (owner, kind):
            if one.make is None:
                raise Refused("this partner works by sheets; there is nothing to call")
            if owner != "mailbox" and not address.startswith(("http://", "https://")):
                raise Refused(f"{address!r} is not an address that starts with http:// or https://")
            return one.make(address, key, deadline, transport)
    raise Refused(f"there is no kind of {owner} called {kind!r}")


__all__ = ["KINDS", "CarrierLink", "Kind", "MailLink", "StoreLink", "SupplierLink", "connect"]
