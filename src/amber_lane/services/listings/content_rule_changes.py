"""Phrases replaced or removed in all listings by a rule, and put back."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from ...core.states import ListingState
from ...data.bulk import by_id, in_chunks
from ...data.outbox import AuditEntry
from ...data.setup import Store
from ...data.shelf import Listing, PhraseRule, Sku
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from .content_rules import tidy, whole
from .publishing import change_words


def effect(context: Context, find: str, put: str, store_id: int | None) -> tuple[list[tuple[int, str, str, str]], int]:
    """What a rule would change: (listing, SKU, words before, after), and of how many listings."""
    if not find.strip():
        raise Invalid("say which words to look for", {"find": "is empty"})
    if store_id is not None:
        context.get(Store, store_id, "store")
    pattern, by = whole(find), put.replace("\\", r"\\")
    query = select(Listing.id, Sku.code, Listing.title, Listing.description).join(Sku, Sku.id == Listing.sku_id)
    query = query.where(Listing.state != ListingState.ended).order_by(Listing.id)
    rows = context.session.execute(query if store_id is None else query.where(Listing.store_id == store_id)).all()
    out = []
    for number, code, title, description in rows:
        if pattern.search(title):
            out.append((number, code, title, tidy(pattern.sub(by, title))))
        elif description and pattern.search(description):
            out.append((number, code, description[:200], pattern.sub(by, description)[:200]))
    return out, len(rows)


def add_rule(context: Context, find: str, put: str, store_id: int | None) -> int:
    """Keep a rule and change by it what all listings say now. Returns how many changed. Can be undone."""
    find, put = " ".join(find.split()), " ".join(put.split())
    changed, _ = effect(context, find, put, store_id)
    known = context.session.scalar(select(PhraseRule).where(PhraseRule.find == find, PhraseRule.store_id == store_id))
    if known is not None:
        raise Conflict("there is a rule for these words; take it away first")
    pattern, by = whole(find), put.replace("\\", r"\\")
    rule = PhraseRule(find=find, put=put, store_id=store_id)
    context.session.add(rule)
    context.session.flush()
    before: dict[str, dict[str, str]] = {}
    for chunk in in_chunks([number for number, *_ in changed]):
        for row in by_id(context.session, Listing, chunk).values():
            words = {"title": tidy(pattern.sub(by, row.title)) or row.title, "description": pattern.sub(by, row.description)}
            before[str(row.id)] = {"title": row.title, "description": row.description}
            change_words(context, row, words)
    message = f"{find!r} becomes {put!r}" if put else f"{find!r} is taken out"
    context.log(
        "phrase.add",
        find,
        f"{message}: {len(before)} listings changed",
        before={"rule": rule.id, "words": before},
        undo=True,
        count=len(before),
    )
    return len(before)


def undo_rule(context: Context, before: dict[str, Any]) -> None:
    """Undo: the rule goes, and each listing says again what it said."""
    rule = context.session.get(PhraseRule, before["rule"])
    if rule is not None:
        context.session.delete(rule)
    words = {int(number): said for number, said in before["words"].items()}
    for row in by_id(context.session, Listing, words).values():
        change_words(context, row, words[row.id])


def drop_rule(context: Context, number: int) -> None:
    """Words that a phrase rule changed stay as they are."""
    row = context.get(PhraseRule, number, "phrase rule")
    context.session.delete(row)
    context.log("phrase.drop", row.find, f"phrase rule for {row.find!r} removed", reason="words that it changed stay as they are")


@undoing.undoes("phrase.add")
def undo_phrase_add(context: Context, act: AuditEntry) -> None:
    undo_rule(context, undoing.before(act))
