"""The practice world's front page: who can be joined here, at which address and with which key, and every path that is there."""

from __future__ import annotations

from dataclasses import dataclass
from html import escape

from fastapi import Request
from fastapi.responses import HTMLResponse, JSONResponse

from .lands import LANDS, POUND, Land
from .routes import Router

router = Router(in_document=False)


@dataclass(frozen=True)
class Door:
    """A partner of the world. owner, kind: how it is joined; path: under the world's own address, or a scheme for a mail server."""

    owner: str
    kind: str
    name: str
    path: str
    key: str


__all__ = ["CRAFT", "DOORS", "LANDS", "MAIL_KEY", "POUND", "Door", "Land", "doors", "nowhere", "router", "told"]
DOORS = (
    Door("store", "own_site", "Dusk & Dial shop", "/shop/api", "dusk-dial:practice-shop"),
    Door("supplier", "wholesale_api", "Northlight Trade", "/wholesale/api", "practice-northlight"),
    Door("carrier", "post_api", "Swiftwing Post", "/post/api", "practice-swiftwing"),
    Door("store", "market_api", "Bramble Fair", "/fair/api", "dusk-dial:practice-fair"),
    Door("supplier", "folder", "Quayside Bulk", "/folder", "duskdial:practice-quayside"),
    Door("supplier", "retail_site", "Sable Retail", "/retail/api", "practice-sable"),
    Door("supplier", "print_api", "Tarn Print House", "/tarn/api", "practice-tarn"),
    Door("supplier", "print_api", "Copperbeck Press", "/copper/api", "practice-copperbeck"),
    Door("supplier", "depot_api", "Larkfield Depot", "/depot/api", "practice-larkfield"),
    Door("files", "webdav", "Wharf Files", "/wharf", "duskdial:practice-wharf"),
    Door("rates", "rates_api", "Harbour Bank", "/bank/api", "practice-bank"),
)
# Partners that are joined by a description of their interface, which their paper explains.
NEWCOMERS = (
    Door("supplier", "described", "Fernmoor Trade (XML; paper at /fern/paper)", "/fern", "practice-fernmoor"),
    Door("supplier", "described", "Marram Supply (GraphQL; paper at /marram/paper)", "/marram", "practice-marram"),
    Door("supplier", "described", "Cinder Row (signed forms; paper at /cinder/paper)", "/cinder", "dusk-dial:practice-cinder"),
)
CRAFT = Door("program", "craft_pages", "Hearthmade Row", "/craft", "dusk-dial:practice-craft")
MAIL_KEY = "duskdial:practice-letters"
CALLED = {
    "store": "store",
    "supplier": "supplier",
    "carrier": "carrier",
    "rates": "exchange rates",
    "files": "server of files",
    "program": "closed store, for the program on your machine",
    "mailbox": "mail that goes out",
    "inbox": "mail that comes in",
}


def doors(address: str) -> list[tuple[str, str, str, str]]:
    """What it is, its name, its address and its key, for each partner that can be joined."""
    host, _, port = address.rpartition(":")
    bare, mail = host.partition("//")[2], int(port) + 1
    return [
        *((CALLED[one.owner], one.name, f"{address}{one.path}", one.key) for one in (*DOORS, CRAFT, *NEWCOMERS)),
        (CALLED["mailbox"], "by SMTP", f"smtp://{bare}:{mail}|{address}/mail/api", ""),
        (CALLED["inbox"], "by POP3", f"pop://{bare}:{mail + 1}", MAIL_KEY),
        (CALLED["inbox"], "by IMAP", f"imap://{bare}:{mail + 2}", MAIL_KEY),
    ]


def told(address: str) -> str:
    """The same as lines for a terminal."""
    rows = doors(address)
    wide = max(len(f"{what}: {name}") for what, name, _, _ in rows)
    lines = [f"  {f'{what}: {name}':<{wide}}  {where}{f'   key {key}' if key else ''}" for what, name, where, key in rows]
    return "\n".join([f"The practice world answers at {address}  (its pages: {address}/)", *lines])


@router.get("/", response_class=HTMLResponse)
def front(request: Request) -> str:
    address = str(request.base_url).rstrip("/")
    partners = "".join(
        f"<tr><td>{escape(what)}</td><td>{escape(name)}</td><td><code>{escape(where)}</code></td><td><code>{escape(key)}</code></td></tr>"
        for what, name, where, key in doors(address)
    )
    paths = "".join(
        f"<tr><td>{escape(method.upper())}</td><td><code>{escape(path)}</code></td><td>{escape(str(what))}</td></tr>"
        for path, methods in sorted(request.app.openapi()["paths"].items())
        for method, one in methods.items()
        for what in [one.get("description") or one["summary"]]
    )
    return f"""<!doctype html><html lang="en"><meta charset="utf-8"><title>The practice world</title>
<style>body{{font:15px/1.5 sans-serif;max-width:70rem;margin:2rem auto;padding:0 1rem;color:#262a2e}}
table{{border-collapse:collapse;width:100%}}td,th{{text-align:left;padding:.3rem .6rem;border-bottom:1px solid #ddd6c7;vertical-align:top}}
code{{font-size:13px}}</style>
<h1>The practice world</h1>
<p>Made-up stores, suppliers, carriers and a mailbox with a clock of their own. Join them like real ones; nothing leaves this machine.</p>
<h2>Who can be joined</h2><table><tr><th>What</th><th>Name</th><th>Address</th><th>Key</th></tr>{partners}</table>
<h2>Every path</h2><p>As data: <a href="openapi.json">openapi.json</a></p>
<table><tr><th>Method</th><th>Path</th><th>What it does</th></tr>{paths}</table></html>"""


def nowhere(request: Request) -> JSONResponse:
    """What a wrong path is answered with: where to look."""
    path = request.url.path
    near = next((one.path for one in (*DOORS, CRAFT, *NEWCOMERS) if path.startswith("/" + one.path.strip("/").split("/")[0])), None)
    hint = f"; that partner's paths begin with {near}" if near and not path.startswith(near) else ""
    return JSONResponse({"error": f"there is nothing at {path}{hint}. See {str(request.base_url).rstrip('/')}/ for all that is here"}, 404)
