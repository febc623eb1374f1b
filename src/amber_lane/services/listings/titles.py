"""Titles suggested from what an item is, in the order that a store likes."""

from __future__ import annotations

from collections.abc import Sequence

from ...core.options import bare
from ...data.setup import Store
from ...data.shelf import Sku
from ..base.context import Context
from ..base.errors import Invalid
from .content_rules import Cleaner

PARTS = ("what", "options", "brand")


def suggest(context: Context, store: Store, sku: Sku, title: str) -> str:
    """A title from maker, options and what it is, in the store's order, cleaned for it."""
    what = bare(bare(title or sku.title, sku.options), sku.brand)
    parts = {"what": what, "options": sku.options, "brand": sku.brand}
    order = [name for name in store.title_order or PARTS if name in parts]
    order += [name for name in PARTS if name not in order]
    return Cleaner(context, store).title(", ".join(parts[name] for name in order if parts[name]))


def set_words(
    context: Context, number: int, most: int | None, banned: Sequence[str], order: Sequence[str], tell_maker: bool = False
) -> Store:
    """What a store's titles may be: how long, without which words, in which order of their parts; and whether it wants to be told who
    makes what is made for an order."""
    store = context.get_version(Store, number, None, "store")
    if set(order) - set(PARTS):
        raise Invalid(f"the parts of a title are {', '.join(PARTS)}")
    words = [" ".join(word.split()).lower()[:60] for word in banned]
    store.title_most, store.banned_words, store.title_order = most, sorted({word for word in words if word}), list(dict.fromkeys(order))
    store.tell_maker = tell_maker
    context.log("store.words", store.name, f"{store.name}: titles up to {most or 200} letters, {len(store.banned_words)} words not taken")
    context.session.flush()
    return store
