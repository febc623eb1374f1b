"""One spelling for each address, so that one partner is known again however its address is typed."""

from __future__ import annotations

from posixpath import normpath
from urllib.parse import parse_qsl, quote, unquote, urlencode, urlsplit, urlunsplit

_PORTS = {"http": 80, "https": 443, "smtp": 25, "smtps": 465, "pop": 110, "pops": 995, "imap": 143, "imaps": 993, "sftp": 22, "ftps": 21}


def canonical(address: str) -> str:
    """An address with scheme and host in small letters, and without default port, dot segments, trailing slash and fragment; its
    query in order. ValueError says what is wrong with it.

    >>> canonical("HTTPS://Shop.Example:443/a/../api/?b=2&a=1#top")
    'https://shop.example/api?a=1&b=2'
    """
    parts = urlsplit(address.strip())
    if "@" in parts.netloc:
        raise ValueError("leave the name and the password out of the address; they belong in the key")
    if not parts.scheme or not parts.hostname:
        raise ValueError("this is not a whole address; it begins with https:// and names a host")
    scheme, host = parts.scheme.lower(), parts.hostname.rstrip(".")
    try:
        port = parts.port
        host = host if ":" in host else host.encode("idna").decode()
    except ValueError as error:
        raise ValueError("this is not an address that can be called; look at its host and port") from error
    host = f"[{host}]" if ":" in host else host.lower()
    if port is not None and port != _PORTS.get(scheme):
        host = f"{host}:{port}"
    # One name for each letter, however it was escaped; a second slash at the front would count as a host.
    path = quote(unquote(parts.path), safe="/:@!$&'()*+,;=~|-._")
    path = normpath("/" + path.lstrip("/")).rstrip("/") if path.strip("/") else ""
    query = urlencode(sorted(parse_qsl(parts.query, keep_blank_values=True)))
    return urlunsplit((scheme, host, path, query, ""))
