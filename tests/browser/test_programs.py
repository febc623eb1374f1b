"""Programs of one's own: what there is to call, and an address that is told of events."""

from __future__ import annotations

import json
import re
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from playwright.sync_api import Page, expect

from .conftest import flaws


def test_a_manager_finds_a_call_and_has_an_address_of_theirs_told_of_orders(app: Page, shop) -> None:
    business, served = shop
    heard: list[dict[str, object]] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            heard.append(json.loads(self.rfile.read(int(self.headers["content-length"]))))
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None: ...

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    app.goto(f"{served.address}/setup/calls")
    app.get_by_label("Words of a call").fill("post claims open a case")
    call = app.get_by_role("article", name="The call")
    expect(call).to_contain_text("POST /api/v1/claims", timeout=20_000)
    expect(call).to_contain_text('"reason": "no_number"')
    app.get_by_label("Words of a call").fill("get waits for whom, since")
    expect(call).to_contain_text("GET /api/v1/claims")
    call.get_by_role("button", name="Ask it now").click()
    expect(call.get_by_text("The answer of now")).to_be_visible()
    assert flaws(app) == []

    app.goto(f"{served.address}/setup/partners?connect=webhook")
    form = app.get_by_role("dialog")
    form.get_by_label("Name").fill("Our stock system")
    form.get_by_label("Address", exact=True).fill(f"http://127.0.0.1:{server.server_port}/hook")
    form.get_by_label(re.compile("^Its key")).fill("short")
    form.get_by_role("button", name="Check and connect").click()
    expect(form.get_by_role("alert")).to_contain_text("16 letters at least")
    form.get_by_label(re.compile("^Its key")).fill("seventeen loud otters")
    form.get_by_role("button", name="Check and connect").click()
    expect(app.get_by_text("Our stock system is connected").first).to_be_visible()
    app.get_by_role("button", name="Events", exact=True).click()
    form.get_by_label("listings").check()
    form.get_by_role("button", name="Keep it").click()
    expect(app.get_by_text("new orders, listings")).to_be_visible()
    code, _ = business.laned(0)
    number = business.buy(sku=code, quantity=1, country="GB")
    business.settle()
    server.shutdown()
    assert [one["event"] for one in heard] == ["hello", "order.came"] and heard[1]["data"]["order"] == number
