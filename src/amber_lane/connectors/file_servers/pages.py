"""Files on a web server that only lets them be fetched: found by the links of its pages. address: https://host/folder; key: name:password,
or empty."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from posixpath import join
from urllib.parse import unquote, urljoin, urlsplit

from ..errors import Malformed, NotThere, Refused
from .over_http import HttpFiles, HttpVisit, at
from .protocol import RemoteFile, Wanted, kept_in_bounds, safe_name

_LINK = re.compile(r"""href\s*=\s*["']([^"'#]{1,500})["']""", re.IGNORECASE)


class PageVisit(HttpVisit):
    by_name = True

    def entries(self, folder: str, wanted: Wanted, exact: str = "") -> list[RemoteFile]:
        if exact:
            # One name alone is asked for itself: many servers show no list of what lies there.
            try:
                return [self._measured(join(folder, exact))]
            except NotThere:
                return []
        where = at(f"{folder}/" if folder else "")
        try:
            page = self.call.fetch(where)
        except NotThere:
            if not folder:
                raise
            return []
        if "<html" in page.text.lower() and "</html>" not in page.text.lower():
            raise Malformed(f"the page of links at {self.call.name} is torn")
        host, here = urlsplit(str(page.request.url)).netloc, join(self.base or "/", folder)
        names = set()
        for link in _LINK.findall(page.text):
            to = urlsplit(urljoin(str(page.request.url), link.replace("&amp;", "&")))
            path = unquote(to.path)
            name = path.rpartition("/")[2]
            if to.netloc == host and path == join(here, name) and safe_name(name) and wanted(name):
                names.add(name)
        return kept_in_bounds([self._measured(join(folder, name)) for name in sorted(names)])

    def _measured(self, path: str) -> RemoteFile:
        """Its size and age, asked of the file alone."""
        heads = self.call.look("HEAD", at(path)).headers
        size, text = heads.get("content-length", ""), heads.get("last-modified", "")
        try:
            changed: datetime | None = parsedate_to_datetime(text).astimezone(UTC)
        except (ValueError, TypeError):
            changed = None
        return RemoteFile(path, int(size) if size.isdecimal() else 0, changed, heads.get("etag", ""))

    def upload(self, path: str, data: bytes) -> None:
        raise Refused("this server only lets files be fetched")

    def rename(self, path: str, to: str) -> None:
        raise Refused("this server only lets files be fetched")

    def make_folder(self, folder: str) -> None:
        raise Refused("this server only lets files be fetched")


class Pages(HttpFiles):
    visits = PageVisit
    writes = False
    may = ("read files",)
