"""The words of listings: phrases replaced or removed, a supplier's name kept from the buyer, a store's limits on titles."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

import nh3
from sqlalchemy import select

from ..data.setup import Store, Supplier
from ..data.shelf import Listing, PhraseRule, Sku
from .desk import Conflict, Desk, Invalid, by_id, in_chunks

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

    def __init__(self, desk: Desk, store: Store) -> None:
        self.store = store
        rules = desk.s.scalars(select(PhraseRule).where((PhraseRule.store_id.is_(None)) | (PhraseRule.store_id == store.id)))
        self.rules = [(whole(one.find), one.put) for one in sorted(rules, key=lambda one: (-len(one.find), one.id)) if one.find.strip()]
        # Nobody who buys is to read who sends it, whichever supplier it is.
        self.names = [(name, whole(name)) for name in hidden_names(desk.s.scalars(select(Supplier)))]

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
            if pattern.search(title) or pattern.search(description):
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


def effect(desk: Desk, find: str, put: str, store_id: int | None) -> tuple[list[tuple[int, str, str, str]], int]:
    """What a rule would change: (listing, SKU, words before, after), and of how many listings."""
    if not find.strip():
        raise Invalid("say which words to look for", {"find": "is empty"})
    if store_id is not None:
        desk.get(Store, store_id, "store")
    pattern, by = whole(find), put.replace("\\", r"\\")
    query = select(Listing.id, Sku.code, Listing.title, Listing.description).join(Sku, Sku.id == Listing.sku_id)
    query = query.where(Listing.state != "ended").order_by(Listing.id)
    rows = desk.s.execute(query if store_id is None else query.where(Listing.store_id == store_id)).all()
    out = []
    for number, code, title, description in rows:
        if pattern.search(title):
            out.append((number, code, title, tidy(pattern.sub(by, title))))
        elif description and pattern.search(description):
            out.append((number, code, description[:200], pattern.sub(by, description)[:200]))
    return out, len(rows)


def add_rule(desk: Desk, find: str, put: str, store_id: int | None) -> int:
    """Keep a rule and change by it what all listings say now. Returns how many changed. Can be undone."""
    from .publishing import change_words

    find, put = " ".join(find.split()), " ".join(put.split())
    changed, _ = effect(desk, find, put, store_id)
    known = desk.s.scalar(select(PhraseRule).where(PhraseRule.find == find, PhraseRule.store_id == store_id))
    if known is not None:
        raise Conflict("there is a rule for these words; take it away first")
    pattern, by = whole(find), put.replace("\\", r"\\")
    rule = PhraseRule(find=find, put=put, store_id=store_id)
    desk.s.add(rule)
    desk.s.flush()
    before: dict[str, dict[str, str]] = {}
    for chunk in in_chunks([number for number, *_ in changed]):
        for row in by_id(desk.s, Listing, chunk).values():
            words = {"title": tidy(pattern.sub(by, row.title)) or row.title, "description": pattern.sub(by, row.description)}
            before[str(row.id)] = {"title": row.title, "description": row.description}
            change_words(desk, row, words)
    told = f"{find!r} becomes {put!r}" if put else f"{find!r} is taken out"
    desk.log(
        "phrase.add",
        find,
        f"{told}: {len(before)} listings changed",
        before={"rule": rule.id, "words": before},
        undo=True,
        count=len(before),
    )
    return len(before)


def undo_rule(desk: Desk, before: dict[str, Any]) -> None:
    """Undo: the rule goes, and each listing says again what it said."""
    from .publishing import change_words

    rule = desk.s.get(PhraseRule, before["rule"])
    if rule is not None:
        desk.s.delete(rule)
    words = {int(number): said for number, said in before["words"].items()}
    for row in by_id(desk.s, Listing, words).values():
        change_words(desk, row, words[row.id])
