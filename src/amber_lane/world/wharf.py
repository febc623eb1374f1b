"""A server of files that several houses share: by WebDAV under /wharf, by the bucket's protocol under /wharf-bucket, the same in both.

Whoever trades by sheets there: the buying office takes orders from meridian/orders, answers in meridian/answers, and makes its sheet of
stock anew each day once it has begun one.
"""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import random
from email.utils import formatdate
from typing import Any
from urllib.parse import quote, unquote, urlsplit
from xml.sax.saxutils import escape

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from fastapi import HTTPException, Request, Response
from pydantic import BaseModel

from . import office
from .counter import world_of
from .life import DAY, HAPPENS
from .routes import Router
from .state import World, iso

router = Router(in_document=False)
ORDERS, ANSWERS, STOCK = "meridian/orders/", "meridian/answers/", "meridian/stock-"
_SIZE_MOST = 20_000_000


def _enter(request: Request) -> World:
    world = world_of(request)
    wanted = "Basic " + base64.b64encode(f"duskdial:{world.key}-wharf".encode()).decode()
    if request.headers.get("authorization", "") != wanted:
        raise HTTPException(401, "unknown name or password")
    return world


def _get(world: World, path: str) -> dict[str, Any]:
    row = world.one("select * from wharf where path = ?", (path,))
    if not row:
        raise HTTPException(404, f"no file {path}")
    return row


def put(world: World, path: str, data: bytes) -> None:
    with world.change() as db:
        first = not world.one("select 1 from wharf where path like ? limit 1", (f"{STOCK}%",))
        db.execute("insert or replace into wharf(path, bytes, at) values (?,?,?)", (path, data, world.now()))
        if path.startswith(ORDERS) and path.endswith(".csv"):
            office.take_sheet(world, data.decode("utf-8-sig", "replace"))
        if path.startswith(STOCK) and first:
            world.plan(world.now() + DAY, "wharf_stock")


def _under(world: World, folder: str) -> list[dict[str, Any]]:
    return world.rows("select path, length(bytes) as size, bytes, at from wharf where path like ? order by path", (f"{folder}%",))


def _tag(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()[:24]


def _sent(request: Request, row: dict[str, Any]) -> Response:
    """A file, or the rest of it that was asked for."""
    data, status = row["bytes"], 200
    heads = {"last-modified": formatdate(row["at"] / 1000, usegmt=True), "etag": f'"{_tag(data)}"'}
    asked = request.headers.get("range", "")
    if asked.startswith("bytes=") and asked.endswith("-"):
        start = int(asked[6:-1])
        if start >= len(data):
            raise HTTPException(416, "there is no more of it")
        heads["content-range"] = f"bytes {start}-{len(data) - 1}/{len(data)}"
        data, status = data[start:], 206
    return Response(data, status, headers=heads, media_type="application/octet-stream")


async def _body(request: Request) -> bytes:
    data = await request.body()
    if len(data) > _SIZE_MOST:
        raise HTTPException(413, "too large")
    return data


def _listed(path: str, size: int | None, at: int, tag: str) -> str:
    kind = "<d:resourcetype><d:collection/></d:resourcetype>" if size is None else "<d:resourcetype/>"
    length = "" if size is None else f"<d:getcontentlength>{size}</d:getcontentlength><d:getetag>{tag}</d:getetag>"
    changed = f"<d:getlastmodified>{formatdate(at / 1000, usegmt=True)}</d:getlastmodified>"
    prop = f"<d:propstat><d:prop>{kind}{length}{changed}</d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat>"
    return f"<d:response><d:href>/wharf/{quote(path)}</d:href>{prop}</d:response>"


@router.api_route("/wharf/{path:path}", methods=["PROPFIND"])
def propfind(request: Request, path: str) -> Response:
    world, folder = _enter(request), f"{path.strip('/')}/".lstrip("/")
    rows = _under(world, folder)
    if not rows and folder and not world.one("select 1 from wharf where path = ?", (folder,)):
        raise HTTPException(404, f"no folder {folder}")
    found, folders = [_listed(folder, None, world.now(), "")], set()
    for row in rows:
        rest = row["path"].removeprefix(folder)
        if "/" in rest:
            folders.add(f"{folder}{rest.partition('/')[0]}/")
        elif rest:
            found.append(_listed(row["path"], row["size"], row["at"], f'"{_tag(row["bytes"])}"'))
    found += [_listed(one, None, world.now(), "") for one in sorted(folders)]
    text = f'<?xml version="1.0"?><d:multistatus xmlns:d="DAV:">{"".join(found)}</d:multistatus>'
    return Response(text, 207, media_type="application/xml")


@router.get("/wharf/{path:path}")
def get(request: Request, path: str) -> Response:
    return _sent(request, _get(_enter(request), path))


@router.put("/wharf/{path:path}", status_code=201)
async def put_file(request: Request, path: str) -> Response:
    put(_enter(request), path, await _body(request))
    return Response(status_code=201)


@router.api_route("/wharf/{path:path}", methods=["MKCOL"])
def make_folder(request: Request, path: str) -> Response:
    world, folder = _enter(request), f"{path.strip('/')}/"
    if _under(world, folder):
        raise HTTPException(405, "it is there")
    with world.change() as db:
        db.execute("insert or ignore into wharf(path, bytes, at) values (?,'',?)", (folder, world.now()))
    return Response(status_code=201)


@router.api_route("/wharf/{path:path}", methods=["MOVE"])
def move(request: Request, path: str) -> Response:
    world = _enter(request)
    row = _get(world, path)
    to = unquote(urlsplit(request.headers.get("destination", "")).path).removeprefix("/wharf/")
    if not to:
        raise HTTPException(400, "move it where?")
    if world.one("select 1 from wharf where path = ?", (to,)):
        raise HTTPException(412, f"{to} is there")
    with world.change() as db:
        db.execute("delete from wharf where path = ?", (path,))
        put(world, to, row["bytes"])
    return Response(status_code=201)


async def _signed(request: Request) -> World:
    """The caller's signature made once more with our secret; 403 where it is another."""
    world = world_of(request)
    said = request.headers.get("authorization", "")
    names = said.partition("SignedHeaders=")[2].partition(",")[0].split(";")
    scope = said.partition("Credential=")[2].partition(",")[0].split("/")
    if len(scope) != 5 or scope[0] != "duskdial":
        raise HTTPException(403, "unknown key")
    heads = {name: request.headers.get(name, "") for name in names if name not in ("host", "x-amz-date")}
    # The path as it was sent, not as it reads.
    path, query = request.scope["raw_path"].decode(), request.url.query
    address = f"{request.url.scheme}://{request.url.netloc}{path}{f'?{query}' if query else ''}"
    again = AWSRequest(request.method, address, headers=heads, data=await _body(request))
    signer = S3SigV4Auth(Credentials("duskdial", f"{world.key}-bucket"), "s3", scope[2])
    again.context["timestamp"] = request.headers.get("x-amz-date", "")
    again.headers["X-Amz-Date"] = again.context["timestamp"]
    text = signer.string_to_sign(again, signer.canonical_request(again))
    if f"Signature={signer.signature(text, again)}" not in said:
        raise HTTPException(403, "the signature is wrong")
    return world


@router.get("/wharf-bucket/")
@router.get("/wharf-bucket")
async def bucket_list(request: Request, prefix: str = "") -> Response:
    world = await _signed(request)
    rows = [row for row in _under(world, prefix) if not row["path"].endswith("/") and "/" not in row["path"].removeprefix(prefix)]
    found = "".join(
        f"<Contents><Key>{escape(row['path'])}</Key><LastModified>{iso(row['at'])}</LastModified>"
        f"<ETag>&quot;{_tag(row['bytes'])}&quot;</ETag><Size>{row['size']}</Size></Contents>"
        for row in rows
    )
    text = f"<ListBucketResult><IsTruncated>false</IsTruncated>{found}</ListBucketResult>"
    return Response(text, media_type="application/xml")


@router.get("/wharf-bucket/{path:path}")
async def bucket_get(request: Request, path: str) -> Response:
    return _sent(request, _get(await _signed(request), path))


@router.put("/wharf-bucket/{path:path}")
async def bucket_put(request: Request, path: str) -> Response:
    world = await _signed(request)
    source = unquote(request.headers.get("x-amz-copy-source", "")).removeprefix("/wharf-bucket/")
    put(world, path, _get(world, source)["bytes"] if source else await _body(request))
    return Response("<CopyObjectResult/>" if source else "", media_type="application/xml")


@router.delete("/wharf-bucket/{path:path}", status_code=204)
async def bucket_delete(request: Request, path: str) -> Response:
    world = await _signed(request)
    with world.change() as db:
        db.execute("delete from wharf where path = ?", (path,))
    return Response(status_code=204)


@router.get("/world/wharf")
def all_files(request: Request) -> dict[str, str]:
    """All that lies there, past every fault."""
    rows = _under(world_of(request), "")
    return {row["path"]: base64.b64encode(row["bytes"]).decode() for row in rows if not row["path"].endswith("/")}


class FileAsk(BaseModel):
    """data: base64; None = it is taken away."""

    name: str
    data: str | None = None


@router.post("/world/wharf")
def set_file(request: Request, ask: FileAsk) -> dict[str, str]:
    """Put a file there or take it away, as whoever works there does."""
    world = world_of(request)
    if ask.data is None:
        with world.change() as db:
            db.execute("delete from wharf where path = ?", (ask.name,))
    else:
        put(world, ask.name, base64.b64decode(ask.data))
    return {"name": ask.name}


def new_stock(world: World, body: dict[str, Any]) -> None:
    """The office's sheet of the next day: as its last one, with what was sold and came in."""
    rows = world.rows("select * from wharf where path like ? order by path desc limit 1", (f"{STOCK}%",))
    if rows:
        rng = random.Random(f"wharf-{world.seed}-{world.now()}")
        table = list(csv.DictReader(io.StringIO(rows[0]["bytes"].decode(), newline="")))
        for row in table:
            if rng.random() < 0.15:
                row["stock"] = str(max(0, int(row["stock"]) + rng.randint(-8, 6)))
        out = io.StringIO(newline="")
        writer = csv.DictWriter(out, list(table[0]) if table else ["item", "stock"])
        writer.writeheader()
        writer.writerows(table)
        put(world, f"{STOCK}{iso(world.now())[:10].replace('-', '')}.csv", out.getvalue().encode())
    world.plan(world.now() + DAY, "wharf_stock")


def answer(world: World, name: str, text: str) -> None:
    """An answer of the office to what came by files."""
    put(world, f"{ANSWERS}{name}.csv", text.encode())


HAPPENS["wharf_stock"] = new_stock
office.BY_FILE.append(answer)
