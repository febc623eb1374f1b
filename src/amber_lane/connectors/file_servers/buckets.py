"""Files in a bucket of an S3-compatible store. key: name:secret, or name:secret:region.

address: https://host/bucket/folder, or https://bucket.host where the host is named after the bucket.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Generator, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from posixpath import join
from urllib.parse import quote, urlsplit, urlunsplit

import httpx
from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from lxml import etree

from ..errors import Denied, Malformed, Refused, Unavailable, UnknownOutcome
from ..http import Caller
from .over_http import HttpFiles, HttpVisit, at
from .protocol import FileVisit, RemoteFile, Wanted, kept_in_bounds, safe_name

REGION = "us-east-1"
# So many pages of a thousand names are read at most.
_PAGES = 21


class Signed(httpx.Auth):
    """Every call with its signature, made by the library that knows how."""

    requires_request_body = True

    def __init__(self, name: str, secret: str, region: str) -> None:
        self.signer = S3SigV4Auth(Credentials(name, secret), "s3", region)

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        heads = {name: request.headers[name] for name in ("range", "x-amz-copy-source", "if-none-match") if name in request.headers}
        heads["x-amz-content-sha256"] = hashlib.sha256(request.content).hexdigest()
        signed = AWSRequest(request.method, str(request.url), headers=heads, data=request.content)
        self.signer.add_auth(signed)
        for name, value in signed.headers.items():
            request.headers[name] = value
        yield request


class BucketVisit(HttpVisit):
    """Of a file that was sent and is not there nobody can say whether it was taken: it has its name from the first."""

    renames = False

    def __init__(self, call: Caller, folder: str) -> None:
        super().__init__(call)
        self.folder = folder

    def _key(self, path: str) -> str:
        return join(self.folder, path) if self.folder else path

    def read(self, path: str, into: Path) -> None:
        super().read(self._key(path), into)

    def entries(self, folder: str, wanted: Wanted, exact: str = "") -> list[RemoteFile]:
        key = self._key(folder)
        ask = {"list-type": "2", "delimiter": "/", "prefix": f"{key}/" if key else ""}
        found: list[RemoteFile] = []
        for _ in range(_PAGES):
            root = self._list(ask)
            for one in root.iter("{*}Contents"):
                name = (one.findtext("{*}Key") or "").removeprefix(ask["prefix"])
                if safe_name(name) and wanted(name):
                    found.append(_file(join(folder, name), one))
            after = root.findtext("{*}NextContinuationToken") or ""
            if root.findtext("{*}IsTruncated") != "true" or not after:
                return kept_in_bounds(found)
            ask["continuation-token"] = after
        raise Malformed(f"{self.call.name}'s list of files has no end; have the old ones moved away")

    def _list(self, ask: dict[str, str]) -> etree._Element:
        # In the order and writing that its signature is made of.
        query = "&".join(f"{name}={quote(value, safe='-._~')}" for name, value in sorted(ask.items()))
        answer = self.call.look("GET", f"/?{query}")
        try:
            return etree.fromstring(answer.content, etree.XMLParser(resolve_entities=False, no_network=True))
        except etree.XMLSyntaxError as error:
            raise Malformed(f"{self.call.name}'s list of files cannot be read") from error

    def upload(self, path: str, data: bytes) -> None:
        self.call.send("PUT", at(self._key(path)), content=data)

    def place(self, path: str, data: bytes, begin: Callable[[], None]) -> None:
        if self.is_there(path):
            raise Refused(f"{path} is there already")
        begin()
        self.upload(path, data)

    def rename(self, path: str, to: str) -> None:
        """Copied and then taken away; after a loss between the two both are there, which does no harm to files that we have read."""
        source = f"{self.base}{at(self._key(path))}"
        try:
            self.call.send("PUT", at(self._key(to)), headers={"x-amz-copy-source": source}, content=b"")
            self.call.send("DELETE", at(self._key(path)))
        except UnknownOutcome as error:
            raise Unavailable(error.message) from error

    def make_folder(self, folder: str) -> None:
        """There are none: they are a part of the name."""


def _file(path: str, one: etree._Element) -> RemoteFile:
    size = one.findtext("{*}Size") or "0"
    try:
        changed: datetime | None = datetime.fromisoformat(one.findtext("{*}LastModified") or "")
    except ValueError:
        changed = None
    return RemoteFile(path, int(size) if size.isdecimal() else 0, changed, (one.findtext("{*}ETag") or "").strip('"'))


class Buckets(HttpFiles):
    visits = BucketVisit

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        parts = urlsplit(address)
        # Without a path the host's own name is the bucket's.
        bucket, _, self.folder = parts.path.strip("/").partition("/")
        super().__init__(urlunsplit((parts.scheme, parts.netloc, f"/{bucket}" if bucket else "", "", "")), key, deadline, transport)
        self.path = parts.path.rstrip("/")

    def sign_in(self, key: str) -> None:
        self.name, _, rest = key.partition(":")
        secret, _, region = rest.partition(":")
        if not self.name or not secret:
            raise Denied("give the name and the secret of the key, as name:secret")
        self.call.client.auth = Signed(self.name, secret, region or REGION)

    @contextmanager
    def visit(self) -> Iterator[FileVisit]:
        yield BucketVisit(self.call, self.folder)
