"""A mail that came, read: its words, its files, and what it says of a mail of ours that did not arrive."""

from __future__ import annotations

import email
import email.policy
import io
import mimetypes
import re
import zipfile
from collections.abc import Iterator
from datetime import UTC, datetime
from email.errors import MessageError
from email.message import EmailMessage
from email.utils import parseaddr
from html import unescape
from typing import Any

from .inbox_protocol import Bounce, IncomingMail

BYTES_MOST = 26_000_000
FILES_MOST = 50
TEXT_MOST = 4000
# Of a page more is never looked at.
HTML_MOST = 1_000_000
_QUOTED, _BRACKETS = re.compile(r'"(?:[^"\\]|\\.)*"'), re.compile(r"\([^()]*\)")
# What a mail of ours carries, so that its answer can be told from a forged one.
KEY = re.compile(r"\bAL-[A-Z2-7]{16}\b")
_SHEETS = (".csv", ".xlsx", ".xml", ".txt", ".tsv")
_ENDINGS = {"text/csv": ".csv", "application/xml": ".xml", "text/xml": ".xml"}
_BLOCKS = re.compile(r"<(?:br|/p|/div|/tr|/li|/h\d)[^<>]*>", re.IGNORECASE)
_HIDDEN = re.compile(r"<(script|style|head)\b", re.IGNORECASE)
# Forms that only some programs can open, and how a person calls them.
_CLOSED = {
    "application/ms-tnef": "its writer's mail program packed it in a form of its own (winmail.dat)",
    "application/pkcs7-mime": "it is sealed (S/MIME), and only whoever has the key can read it",
    "application/x-pkcs7-mime": "it is sealed (S/MIME), and only whoever has the key can read it",
}


def read(uid: str, raw: bytes) -> IncomingMail:
    """A mail as it was written; what is odd about it is left out rather than believed."""
    message: EmailMessage = email.message_from_bytes(raw, policy=email.policy.default)
    sender = subject = ""
    at: datetime | None = None
    try:
        sender = _plain(parseaddr(str(message["From"] or ""))[1]).strip().lower()[:200]
        subject = _plain(str(message["Subject"] or ""))[:300]
        at = _when(message)
        closed = _CLOSED.get(message.get_content_type(), "")
        if message.get_content_type().endswith("pkcs7-mime") and message.get_param("smime-type") == "signed-data":
            closed = "it is signed in a form that hides its words (S/MIME)"
        if closed:
            return IncomingMail(uid, at, sender, subject, "", fault=f"{closed}; ask {sender or 'the sender'} to send it as plain mail")
        files = list(_files(message))
        text = _text(message)
        if not text and not files and any(part.get_content_type() == "application/ms-tnef" for part in message.walk()):
            return IncomingMail(
                uid, at, sender, subject, "", fault=f"{_CLOSED['application/ms-tnef']}; ask {sender} to send it as plain mail"
            )
        return IncomingMail(
            uid,
            at,
            sender,
            subject,
            text[:TEXT_MOST],
            tuple(files[:FILES_MOST]),
            bounce=_bounce(message),
            keys=_keys(message, subject, text),
            vouched=_vouched(message),
        )
    except (LookupError, ValueError, AttributeError, TypeError, MessageError, RecursionError) as error:
        return IncomingMail(uid, at, sender, subject, "", fault=f"it is not written as a mail should be: {error}"[:300])


def _keys(message: EmailMessage, *texts: str) -> tuple[str, ...]:
    """All that has the form of a key of ours: in what it says, and in what it answers."""
    named = (str(message.get(name) or "") for name in ("In-Reply-To", "References"))
    found = (key for text in (*texts, *named) for key in KEY.findall(text[:200_000]))
    return tuple(dict.fromkeys(found))[:20]


def _vouched(message: EmailMessage) -> tuple[tuple[str, str], ...]:
    """Servers that say that the mail is of the domain in its From line (RFC 8601: dmarc=pass), the topmost first."""
    out = []
    for line in message.get_all("Authentication-Results") or []:
        # What is quoted or in brackets is the writer's own, such as an address made to look like an answer.
        bare = _BRACKETS.sub(" ", _QUOTED.sub('""', " ".join(str(line)[:4000].split()).lower()))
        if '"' in bare.replace('""', "") or "(" in bare or ")" in bare:
            continue
        server, _, said = bare.partition(";")
        passed = re.search(r"(?:^|;)\s*dmarc=pass\b[^;]*\bheader\.from=([a-z0-9.-]+)", said)
        if passed and server.strip():
            out.append((server.split()[0], passed[1].strip(".")))
    return tuple(out)


def _plain(text: str) -> str:
    """Text that can be kept: bytes that were no letters in any alphabet are shown as such."""
    return text.encode("utf-8", "replace").decode().replace("\x00", "")


def _when(message: EmailMessage) -> datetime | None:
    at = message["Date"].datetime if message["Date"] else None
    return (at if at.tzinfo else at.replace(tzinfo=UTC)).astimezone(UTC) if isinstance(at, datetime) else None


def _text(message: EmailMessage) -> str:
    """Its words; of a mail that has them only as HTML, as plain text; of a forwarded one with none of its own, the forwarded ones."""
    body = message.get_body(preferencelist=("plain", "html"))
    text = ""
    if body is not None:
        text = str(body.get_content())
        if body.get_content_type() == "text/html":
            text = of_html(text)
    if not text.strip():
        forwarded = next((part for part in message.walk() if part is not message and part.get_content_type() == "message/rfc822"), None)
        inner: Any = forwarded.get_payload() if forwarded is not None else None
        if isinstance(inner, list):
            text = _text(inner[0])
    return "\n".join(_plain(text).strip().splitlines())


def of_html(text: str) -> str:
    """The words of a page: a line for each block, without what is not shown.

    >>> of_html("<p>Dear &amp; all,<br>see&nbsp;below</p><style>p{}</style><p>7 pcs</p>")
    'Dear & all,\\nsee below\\n7 pcs'
    """
    shown = re.sub(r"<[^<>]*>", "", _BLOCKS.sub("\n", _without_hidden(text[:HTML_MOST])))
    lines = [" ".join(line.replace("\xa0", " ").split()) for line in unescape(shown).splitlines()]
    return "\n".join(line for line in lines if line)


def _without_hidden(text: str) -> str:
    """A page without its scripts, styles and head, in one pass however it is made; one that never ends hides all that follows."""
    out, at, low = [], 0, text.lower()
    while found := _HIDDEN.search(text, at):
        out.append(text[at : found.start()])
        end = f"</{found[1].lower()}>"
        closed = low.find(end, found.end())
        if closed < 0:
            return "".join(out)
        at = closed + len(end)
    return "".join([*out, text[at:]])


def _files(message: EmailMessage) -> Iterator[tuple[str, bytes]]:
    """Its files, also those of forwarded mails in it and those packed in a zip; one without a name is named by what it is."""
    # All that is unpacked together: a small mail must not grow to whatever it likes.
    room = BYTES_MOST
    for n, part in enumerate(_leaves(message), 1):
        data = part.get_payload(decode=True)
        if not isinstance(data, bytes):
            continue
        kind = part.get_content_type()
        name = _plain(part.get_filename() or "")[:200]
        if not name:
            ending = _ENDINGS.get(kind) or mimetypes.guess_extension(kind) or ""
            if kind in ("text/plain", "text/html") or not ending:
                continue
            name = f"part-{n}{ending}"
        if name.lower().endswith(".zip"):
            unpacked = _packed(data, room)
            room -= sum(len(inside) for _, inside in unpacked)
            yield from unpacked or [(name, data)]
        else:
            yield name, data


def _leaves(message: EmailMessage) -> Iterator[EmailMessage]:
    """The parts that are files: whatever has a name or stands as an attachment, in forwarded mails too."""
    for part in message.walk():
        if part.is_multipart() or (part is message and not part.get_filename()):
            continue
        named = part.get_filename() or part.get_content_disposition() == "attachment"
        kind = part.get_content_type()
        if named or part.get_content_maintype() not in ("text", "message") or kind in ("text/csv", "text/xml"):
            yield part


def _packed(data: bytes, room: int) -> list[tuple[str, bytes]]:
    """Sheets and documents in a zip, no more than `room` bytes of them; [] where it holds none or cannot be opened: it stays as it is."""
    out: list[tuple[str, bytes]] = []
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            inside = [
                one for one in packed.infolist() if one.filename.lower().endswith(_SHEETS) and not one.filename.startswith("__MACOSX")
            ]
            for one in inside[:FILES_MOST]:
                if one.file_size > room or one.flag_bits & 1:
                    return []
                with packed.open(one) as stream:
                    out.append((one.filename.rpartition("/")[2], stream.read(room)))
                room -= len(out[-1][1])
    except Exception:  # noqa: BLE001 - a damaged zip fails in whatever way its bytes lead to
        return []
    return out


def _bounce(message: EmailMessage) -> Bounce | None:
    """A report that a mail of ours did not arrive (RFC 3464): which, to whom, and why."""
    if message.get_content_type() != "multipart/report":
        return None
    to = reason = reference = ""
    failed = False
    for part in message.walk():
        kind = part.get_content_type()
        payload: Any = part.get_payload()
        if kind == "message/delivery-status" and isinstance(payload, list):
            for block in payload:
                if str(block.get("Action", "")).strip().lower() == "failed":
                    failed = True
                    to = str(block.get("Final-Recipient", "")).partition(";")[2].strip() or to
                    reason = str(block.get("Diagnostic-Code", "")).partition(";")[2].strip() or str(block.get("Status", "")) or reason
        elif kind in ("message/rfc822", "text/rfc822-headers") and part is not message:
            inner: Any = payload[0] if isinstance(payload, list) else None
            if inner is None:
                inner = email.message_from_string(str(part.get_content()), policy=email.policy.default)
            reference = str(inner.get("X-Reference") or "").strip() or reference
            named = re.match(r"\s*<(.+?)(?:\.AL-[A-Z2-7]{16})?@[^@>]+>", str(inner.get("Message-ID") or ""))
            reference = reference or (named[1] if named else "")
    return Bounce(_plain(reference)[:300], _plain(to)[:200], _plain(" ".join(reason.split()))[:300]) if failed else None
