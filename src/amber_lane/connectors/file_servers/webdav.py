"""Files over HTTP with folders (WebDAV, RFC 4918). address: https://host/folder; key: name:password."""

from __future__ import annotations

from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from posixpath import join
from urllib.parse import unquote, urljoin, urlsplit

import httpx
from lxml import etree

from ..errors import Denied, Malformed, NotThere, Refused, Unavailable, UnknownOutcome
from .over_http import HttpFiles, HttpVisit, at
from .protocol import RemoteFile, Wanted, kept_in_bounds, safe_name

_ASK = (
    b'<?xml version="1.0"?><d:propfind xmlns:d="DAV:"><d:prop><d:getcontentlength/><d:getlastmodified/><d:getetag/><d:resourcetype/>'
    b"</d:prop></d:propfind>"
)
_D = "{DAV:}"


class DavVisit(HttpVisit):
    def entries(self, folder: str, wanted: Wanted, exact: str = "") -> list[RemoteFile]:
        heads = {"Depth": "1", "Content-Type": "application/xml"}
        try:
            answer = self.call.look("PROPFIND", at(f"{folder}/" if folder else ""), content=_ASK, headers=heads)
        except NotThere:
            if not folder:
                raise
            return []
        found = []
        for path, said in self._responses(answer):
            name = path.rpartition("/")[2]
            inside = join(folder, name)
            if not safe_name(name) or path != join(self.base or "/", inside) or said.find(f".//{_D}collection") is not None:
                continue
            if wanted(name):
                found.append(_file(inside, said))
        return kept_in_bounds(found)

    def _responses(self, answer: httpx.Response) -> list[tuple[str, etree._Element]]:
        """What each thing there says of itself, by its path on the server."""
        parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False)
        try:
            root = etree.fromstring(answer.content, parser)
        except etree.XMLSyntaxError as error:
            raise Malformed(f"{self.call.name}'s list of files cannot be read") from error
        whole = str(answer.request.url)
        pairs = [(one.findtext(f"{_D}href", "").strip(), one) for one in root.iter(f"{_D}response")]
        return [(unquote(urlsplit(urljoin(whole, href)).path), one) for href, one in pairs if href]

    def upload(self, path: str, data: bytes) -> None:
        try:
            self.call.send("PUT", at(path), content=data)
        except UnknownOutcome as error:
            # Under its temporary name it may be put there again at will.
            raise Unavailable(error.message) from error

    def rename(self, path: str, to: str) -> None:
        target = str(self.call.client.base_url).rstrip("/") + at(to)
        if self.is_there(to):
            raise Refused(f"{to} is there already")
        self.call.send("MOVE", at(path), headers={"Destination": target, "Overwrite": "F"})

    def make_folder(self, folder: str) -> None:
        so_far = ""
        for part in folder.split("/"):
            so_far = join(so_far, part)
            try:
                self.call.send("MKCOL", at(f"{so_far}/"))
            except Denied:
                raise
            except Refused:
                # It is there already (405), or what follows shows what is wrong.
                continue
            except UnknownOutcome as error:
                raise Unavailable(error.message) from error


def _file(path: str, said: etree._Element) -> RemoteFile:
    text = said.findtext(f".//{_D}getlastmodified") or ""
    try:
        changed: datetime | None = parsedate_to_datetime(text).astimezone(UTC)
    except (ValueError, TypeError):
        changed = None
    size = (said.findtext(f".//{_D}getcontentlength") or "0").strip()
    return RemoteFile(path, int(size) if size.isdecimal() else 0, changed, (said.findtext(f".//{_D}getetag") or "").strip())


class WebDav(HttpFiles):
    visits = DavVisit
