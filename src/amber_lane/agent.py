"""The program for a store without an open interface. It runs on the machine of the person who can sign in there.

It takes waiting changes from Amber Lane for a while, does them in the store one by one, and reports each. It holds no
data: when it is stopped at any point and started again, nothing is lost, done twice or done out of order. It needs HTTP and Pydantic
alone, so that it can be put on any machine by itself: `pip install amber-lane`, then `amber-lane-agent --help`.
"""

from __future__ import annotations

import argparse
import logging
import os
import secrets
import sys
import time
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

import httpx

from .connectors import outside, payloads
from .connectors.craft_pages import CraftPages
from .connectors.errors import Denied, OutsideError, Refused, UnknownOutcome, fault_of
from .connectors.protocols import OrderPage, StoreLink, StoreOrder

log = logging.getLogger(__name__)
DEADLINE = 10.0
# Stores that only a program can reach.
KINDS = {"craft_pages": CraftPages}


class TokenEnded(RuntimeError):
    """Amber Lane does not know this token any more."""


class Office:
    """Amber Lane, as its programs call it."""

    def __init__(self, address: str, token: str, transport: httpx.BaseTransport | None = None) -> None:
        self.client = httpx.Client(
            base_url=f"{address.rstrip('/')}/api/v1/program",
            headers={"Authorization": f"Bearer {token}"},
            timeout=DEADLINE,
            trust_env=False,
            transport=transport,
        )

    def call(self, method: str, path: str, body: object = None) -> dict[str, Any]:
        """httpx.HTTPError when it cannot be reached or says no; TokenEnded when the token is not known."""
        response = self.client.request(method, path, json=body)
        if response.status_code == 401:
            raise TokenEnded(str(response.json().get("detail", "the token is not known")))
        response.raise_for_status()
        answer: dict[str, Any] = response.json()
        return answer


class Agent:
    """One run of the program for one store."""

    def __init__(self, office: Office, link: StoreLink, rest: Callable[[float], Any] = time.sleep) -> None:
        self.office, self.link, self.rest = office, link, rest
        self.run = secrets.token_hex(8)
        self.listed = self.introduced = False

    def work(self, every: float = 2.0) -> None:
        """Work until the token ends."""
        while True:
            try:
                busy = self.once()
            except TokenEnded:
                raise
            except (httpx.HTTPError, ValueError) as error:
                log.warning("Amber Lane does not answer, or not as it should: %s", str(error)[:200])
                busy = 0
            except OutsideError as error:
                self._tell_trouble(error)
                busy = 0
            self.rest(every if not busy else 0.05)

    def once(self) -> int:
        """One round: changes carried out, orders and (the first time) listings brought in. Returns how many changes."""
        hello = self.office.call("GET", "/hello")
        if not self.introduced or hello["read_listings"]:
            self._introduce()
        if not self.listed or hello["read_listings"]:
            for page in self.link.listings():
                for start in range(0, len(page.listings), 1000):
                    self.office.call("POST", "/listings", {"listings": [asdict(one) for one in page.listings[start : start + 1000]]})
            self.office.call("POST", "/listings", {"listings": [], "last": True})
            self.listed = True
        if hello["read_orders"]:
            try:
                self._orders(hello["orders_cursor"])
            except httpx.HTTPStatusError as error:
                # An order that is not taken must not keep the store's changes from being made; it is offered again next time.
                self._tell_trouble(Refused(f"orders could not be handed in: {error.response.text[:200]}"))
        return self._changes()

    def _introduce(self) -> None:
        """Tell which account of the store this is, and the carriers that it knows by their names there."""
        account = self.link.account()
        try:
            self.office.call("POST", "/store", {"account": account.number, "carriers": list(account.carriers)})
        except httpx.HTTPStatusError as error:
            if error.response.status_code == 409:
                # Nothing of a store that is another one here is read or changed.
                raise Refused(_reason(error)) from error
            raise
        self.introduced = True

    def _orders(self, cursor: str) -> None:
        more = True
        while more:
            page = self.link.orders(cursor)
            if page.orders or page.unreadable:
                self._hand_in(page)
            cursor, more = page.cursor, page.more

    def _hand_in(self, page: OrderPage) -> None:
        """Hand in a page; where it is not taken, each order alone, so that a bad one keeps no other waiting."""
        refused = [text[:500] for text in page.unreadable]
        try:
            body = {"orders": [_order(one) for one in page.orders], "unreadable": refused[:500], "cursor": page.cursor}
            self.office.call("POST", "/orders", body)
            return
        except httpx.HTTPStatusError as error:
            if error.response.status_code != 422:
                raise
        for one in page.orders:
            try:
                self.office.call("POST", "/orders", {"orders": [_order(one)]})
            except httpx.HTTPStatusError as error:
                if error.response.status_code != 422:
                    raise
                refused.append(f"order {one.number} could not be taken in: {_reason(error)}"[:500])
        self.office.call("POST", "/orders", {"cursor": page.cursor, "unreadable": refused[:500]})

    def _changes(self) -> int:
        asked = time.monotonic()
        leased = self.office.call("POST", "/lease", {"run": self.run})
        # What could still be under way when the time is up is not begun: it would come after somebody else's.
        last = asked + leased["lease_seconds"] - 3 * DEADLINE
        for change in leased["changes"]:
            if time.monotonic() > last:
                break
            outcome, message, fault = self._do(change)
            result = {"id": change["id"], "key": change["key"], "outcome": outcome, "message": message[:500], "fault": fault}
            self.office.call("POST", "/report", {"run": self.run, "results": [result]})
        return len(leased["changes"])

    def _do(self, change: dict[str, Any]) -> tuple[str, str, str]:
        """Do one change in the store: what came of it, in words, and why not as a code."""
        payload = payloads.read(change["kind"], change["body"])
        if not isinstance(payload, payloads.StorePayload):
            return "refused", f"a {change['kind']} is nothing that a store is sent", "refused"
        if change["perhaps_done"]:
            try:
                if payload.ask(self.link, change["key"]):
                    return "done", "was done already", ""
            except OutsideError as error:
                # Whether it was done is as unknown as before; saying that it failed would have it done again unasked.
                return "unknown", error.message, fault_of(error)
        try:
            payload.send(self.link, change["key"])
        except UnknownOutcome as error:
            return "unknown", error.message, fault_of(error)
        except Denied as error:
            self._tell_trouble(error)
            return "failed", error.message, fault_of(error)
        except Refused as error:
            return "refused", error.message, fault_of(error)
        except OutsideError as error:
            return "failed", error.message, fault_of(error)
        return "done", "", ""

    def _tell_trouble(self, error: OutsideError) -> None:
        log.warning("the store cannot be worked: %s", error.message)
        try:
            self.office.call("POST", "/trouble", {"message": error.message})
        except httpx.HTTPError:
            return


def _reason(error: httpx.HTTPStatusError) -> str:
    try:
        body = error.response.json()
    except ValueError:
        return "no reason given"
    if not isinstance(body, dict):
        return "no reason given"
    fields = body.get("fields") or {}
    return "; ".join(f"{name} {message}" for name, message in fields.items()) or str(body.get("detail", ""))[:200]


def _order(one: StoreOrder) -> dict[str, Any]:
    day = one.promised_by.isoformat() if one.promised_by else None
    return {**asdict(one), "ordered_at": one.ordered_at.isoformat(), "promised_by": day}


def work_for(token: str, store: str, key: str, kind: str, at: str, once: bool) -> None:
    """Work for one store. Refused and TokenEnded say why it cannot go on."""
    # Whoever starts it says on their own machine what it calls; no page and no partner can.
    outside.allow(("0.0.0.0/0", "::/0"))
    if kind not in KINDS:
        raise Refused(f"there is no kind of store called {kind!r}; it is one of {', '.join(KINDS)}")
    worker = Agent(Office(at, token), KINDS[kind](store, key, DEADLINE))
    worker.once() if once else worker.work()


def main(given: list[str] | None = None) -> int:
    """The command amber-lane-agent."""
    parser = argparse.ArgumentParser("amber-lane-agent", description=(__doc__ or "").partition("\n")[0])
    env = os.environ
    parser.add_argument("--token", default=env.get("AMBER_LANE_TOKEN"), help="the token that Amber Lane showed (AMBER_LANE_TOKEN)")
    parser.add_argument("--store", required=True, help="the store's own address")
    parser.add_argument("--key", default=env.get("AMBER_LANE_STORE_KEY"), help="name:password in the store (AMBER_LANE_STORE_KEY)")
    parser.add_argument("--kind", default="craft_pages", help="how the store is worked")
    parser.add_argument("--at", default="http://127.0.0.1:8700", help="where Amber Lane answers")
    parser.add_argument("--once", action="store_true", help="one round only")
    ask = parser.parse_args(given)
    if not ask.token or not ask.key:
        parser.error("a token and a key are needed")
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(levelname)s %(message)s")
    try:
        work_for(ask.token, ask.store, ask.key, ask.kind, ask.at, ask.once)
    except (OutsideError, TokenEnded, httpx.HTTPError) as error:
        print(f"amber-lane-agent: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        return 0
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
