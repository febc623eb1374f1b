"""Texts that people and partners write: signs that nobody sees, and what is a mail address."""

from __future__ import annotations

import re

# Signs that no word has: they break sheets, or make a text look like another.
_UNSEEN = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u200b\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff\ufffe\uffff\ud800-\udfff]")
_PART = r"[^\s@<>,;:\"()\[\]\\]{1,100}"
_MAIL = re.compile(rf"{_PART}@{_PART}")


def seen_whole(text: str) -> str:
    """The text itself; ValueError where it holds signs that nobody sees.

    >>> seen_whole("a lamp")
    'a lamp'
    """
    if _UNSEEN.search(text):
        raise ValueError("it holds signs that cannot be shown")
    return text


def shown(text: str) -> str:
    """The text without the signs that nobody sees, as they come along when something is pasted.

    >>> shown("a\\u200blamp\\n")
    'alamp\\n'
    """
    return _UNSEEN.sub("", text)


def is_mail(text: str) -> bool:
    """Whether it is one bare mail address, and nothing that could be read as more than one, or as a line of a mail's head.

    >>> [is_mail(one) for one in ("a@b.example", "ä@ö.example", "a@b\\nBcc: c@d", "<a@b>", "a@b,c@d", "a@")]
    [True, True, False, False, False, False]
    """
    return _MAIL.fullmatch(text) is not None and not _UNSEEN.search(text)
