"""The words of listings: phrases replaced or removed, a supplier's name kept from the buyer, a store's limits on titles."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

import nh3
from sqlalchemy import select

from ...data.setup import Store, Supplier
from ...data.shelf import PhraseRule
from ..base.context import Context

TITLE_MOST = 200


def whole(find: str) -> re.Pattern[str]:
    """A pattern for a phrase as whole words only, whatever the capitals and the spaces between.

    >>> whole("led lamp").sub("lamp", "LED  Lamp, sledlamp")
    'lamp, sledlamp'
    """
    parts = [re.escape(part) for part in find.split()]
    return re.compile(r"(?<!\w)" + r"\s+".join(parts) + r"(?!\w)", re.IGNORECASE)


def tidy(text: str) -> str:
    """What taking words out leaves behind: doubled spaces, lonely commas, empty brackets.

    >>> tidy("Lamp , red ( ) ,, big -")
    'Lamp, red, big'
    """
    text = re.sub(r"\(\s*\)|\[\s*\]", " ", text)
    text = re.sub(r"\s+([,.;:])", r"\1", text)
    text = re.sub(r"([,;:])(\s*[,;:])+", r"\1", text)
    return re.sub(r"[ \t]+", " ", text).strip(" ,;:-–")


# What a description may hold; everything else goes, and its text stays.
SAFE_TAGS = {"p", "br", "ul", "ol", "li", "b", "strong", "i", "em", "h3", "h4", "table", "tbody", "thead", "tr", "td", "th"}
DESCRIPTION_MOST = 20_000


def clean_html(text: str) -> str:
    """A description with nothing in it that a page could run, load or link to."""
    return nh3.clean(text[: DESCRIPTION_MOST * 2], tags=SAFE_TAGS, attributes={}, link_rel=None).strip()[:DESCRIPTION_MOST]


class Cleaner:
    """Cleans words for one store: its own rules and those for all stores, the longest phrase first."""

    def __init__(self, context: Context, store: Store) -> None:
        self.store = store
        rules = context.session.scalars(select(PhraseRule).where((PhraseRule.store_id.is_(None)) | (PhraseRule.store_id == store.id)))
        self.rules = [(whole(one.find), one.put) for one in sorted(rules, key=lambda one: (-len(one.find), one.id)) if one.find.strip()]
        # Nobody who buys is to read who sends it, whichever supplier it is.
        suppliers = context.session.scalars(select(Supplier)).all()
        self.names = [(name, whole(name)) for name in hidden_names(suppliers)]
        # Who makes a thing for its order may be told in a description, where the store asks for that.
        self.makers = {one.name for one in suppliers if one.kind == "print_api"} if store.tell_maker else set()

    def clean(self, text: str) -> str:
        """A text by the phrase rules, without any supplier's name."""
        for pattern, put in self.rules:
            text = pattern.sub(put.replace("\\", r"\\"), text)
        for _, pattern in self.names:
            text = pattern.sub("", text)
        return tidy(text)

    def title(self, text: str, supplier: str = "") -> str:
        """A title for this store; too long for it is cut at a word."""
        title = self.clean(text) or text.strip()
        most = self.store.title_most or TITLE_MOST
        if len(title) > most:
            title = title[: most + 1].rsplit(" ", 1)[0][:most].rstrip(" ,;:-")
        return title[:1].upper() + title[1:]

    def wrong(self, title: str, description: str) -> list[str]:
        """What a store would not take, or a buyer must not read, in plain words."""
        out = []
        most = self.store.title_most or TITLE_MOST
        if not title.strip():
            out.append("the title is empty")
        if len(title) > most:
            out.append(f"the title has {len(title)} letters, {self.store.name} takes {most}")
        for word in self.store.banned_words or []:
            if whole(word).search(title) or whole(word).search(description):
                out.append(f"{self.store.name} does not take the word {word!r}")
        for name, pattern in self.names:
            if pattern.search(title) or (pattern.search(description) and name not in self.makers):
                out.append(f"the buyer would read {name!r}")
        return out


def hidden_names(suppliers: Iterable[Supplier]) -> list[str]:
    """What a buyer must not read: suppliers' names, and the addresses of their pages."""
    names = set()
    for one in suppliers:
        names.add(one.name)
        host = re.sub(r"^https?://", "", one.site).split("/")[0].split(":")[0]
        if "." in host and not host.replace(".", "").isdecimal():
            names.add(host)
    return sorted((name for name in names if len(name) > 3), key=len, reverse=True)


def all_rules(context: Context) -> Sequence[PhraseRule]:
    return context.session.scalars(select(PhraseRule).order_by(PhraseRule.store_id, PhraseRule.find)).all()
