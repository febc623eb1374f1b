"""Listings put on sale, taken off, ended, brought back, copied to another store; what is missing is said before."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import func, select

from ...core.states import LISTING, OUTBOX, ListingState, OutboxState
from ...data.bulk import by_id
from ...data.lanes import Lane
from ...data.outbox import OPEN, AuditEntry, Outbox, party_of
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import listing_changes
from ..outbox.queue import of_subjects
from ..pricing.manual_price import price_prepared
from .content_rules import Cleaner, clean_html


@dataclass
class Published:
    """sent: listings on their way; refused: listing -> what is missing."""

    sent: list[int] = field(default_factory=list)
    refused: dict[int, str] = field(default_factory=dict)


class Checks:
    """What stands in the way of publishing, for many listings of one store at once."""

    def __init__(self, context: Context, store: Store, skus: Sequence[int]) -> None:
        self.store, self.cleaner = store, Cleaner(context, store)
        rows = context.session.execute(
            select(Lane.sku_id, Lane.state).where(
                Lane.sku_id.in_(skus), Lane.closed_at.is_(None), (Lane.store_id.is_(None)) | (Lane.store_id == store.id)
            )
        )
        self.lanes: dict[int, set[str]] = {}
        for sku, state in rows:
            self.lanes.setdefault(sku, set()).add(state)

    def missing(self, listing: Listing) -> list[str]:
        """In plain words; empty when nothing is."""
        out = self.cleaner.wrong(listing.title, listing.description)
        lanes = self.lanes.get(listing.sku_id, set())
        if not lanes:
            out.append("it has no lane, so nothing would fill an order")
        elif lanes == {"shut"}:
            out.append("its lane is shut")
        if listing.wanted_price <= 0:
            out.append("it has no price")
        if not (self.store.write_prices and self.store.write_stock):
            out.append(f"writing prices and stock to {self.store.name} is not turned on")
        return out


def publish(context: Context, ids: Iterable[int]) -> Published:
    """Put listings in preparation (or ended ones) on sale, at the prices and quantities of now. One act in the log, also for a job."""
    out, were = Published(), {}
    rows = by_id(context.session, Listing, ids)
    stores = by_id(context.session, Store, {row.store_id for row in rows.values()})
    for store in stores.values():
        mine = [row for row in rows.values() if row.store_id == store.id]
        checks = Checks(context, store, [row.sku_id for row in mine])
        for row in mine:
            if row.state not in LISTING.sources("publish"):
                out.refused[row.id] = (
                    "it is on sale already" if row.state == ListingState.live else "it is paused; put it back on sale instead"
                )
                continue
            missing = checks.missing(row)
            if missing:
                out.refused[row.id] = "; ".join(missing)
                continue
            were[str(row.id)] = row.state
            row.state, row.words_due, row.paused_by, row.message = LISTING.step(row.state, "publish"), True, "", ""
            row.wanted_quantity = 0
            row.version += 1
            out.sent.append(row.id)
    context.session.flush()
    if not out.sent:
        return out
    act = context.log_part(
        "listing.publish",
        ", ".join(sorted(store.name for store in stores.values())),
        lambda n: f"{n} listing{'s' if n != 1 else ''} published",
        {"listings": out.sent, "were": were},
        len(out.sent),
    )
    skus = {rows[i].sku_id for i in out.sent}
    context.reprice(skus, act=act.id, only=set(out.sent), then=lambda _: _send_rest(context, out.sent))
    return out


def _send_rest(context: Context, ids: Sequence[int]) -> None:
    """Those whose figures were right already still have their words to send."""
    subjects = {f"listing:{i}": i for i in ids}
    under_way = set(
        context.session.scalars(of_subjects(select(Outbox.subject).where(Outbox.subject.in_(list(subjects)), Outbox.state.in_(OPEN))))
    )
    context.session.expire_all()
    for subject, number in subjects.items():
        if subject not in under_way:
            listing_changes.want(context, context.get(Listing, number, "listing"))


def unpublish(context: Context, after: dict[str, Any]) -> None:
    """Undo of a publishing: each listing stands where it stood, and what its store has of it is ended there."""
    for row in by_id(context.session, Listing, after["listings"]).values():
        if row.state not in (ListingState.live, ListingState.paused):
            continue
        letters = list(
            context.session.scalars(
                of_subjects(select(Outbox).where(Outbox.subject == f"listing:{row.id}", Outbox.state.not_in((OutboxState.dropped,))))
            )
        )
        if row.shown_state == "" and all(one.state == OutboxState.waiting and not one.tries for one in letters):
            for one in letters:
                one.state, one.answer = OUTBOX.step(one.state, "stop"), "taken back"
            row.state, row.wanted_quantity = LISTING.step(row.state, "end"), 0
            row.version += 1
        else:
            listing_changes.want(context, row, quantity=0, state="ended")
        row.paused_by, row.words_due = "", False
        if after.get("were", {}).get(str(row.id)) == "preparing":
            row.state = LISTING.step(row.state, "take_back")
    context.session.flush()


def end_listings(context: Context, ids: Iterable[int]) -> int:
    """End listings in their stores, and take those in preparation off the shelf. All can be brought back. Returns how many."""
    ended: list[int] = []
    dropped: list[int] = []
    for row in by_id(context.session, Listing, ids).values():
        if row.state not in LISTING.sources("end"):
            continue
        if row.state == ListingState.preparing:
            row.state = LISTING.step(row.state, "end")
            row.version += 1
            dropped.append(row.id)
        else:
            row.paused_by = ""
            listing_changes.want(context, row, quantity=0, state="ended")
            ended.append(row.id)
    context.session.flush()
    if ended or dropped:
        parts = [f"{len(ended)} ended" if ended else "", f"{len(dropped)} in preparation dropped" if dropped else ""]
        message = "Listings: " + ", ".join(part for part in parts if part)
        after = {"listings": ended, "dropped": dropped}
        context.log("listing.end", "listings", message, after=after, undo=True, count=len(ended) + len(dropped))
    return len(ended) + len(dropped)


def unend(context: Context, after: dict[str, Any]) -> None:
    """Undo of an end: what was on sale goes there again, what was in preparation is in preparation again."""
    publish(context, after["listings"])
    for row in by_id(context.session, Listing, after.get("dropped", [])).values():
        if row.state == ListingState.ended:
            row.state = LISTING.step(row.state, "take_back")
    context.session.flush()


def copy(context: Context, ids: Iterable[int], store_id: int, follow: bool) -> list[int]:
    """Copy listings to another store, prepared there by its own rules; follow: changed words are passed on. Returns new ids."""
    store = context.get(Store, store_id, "store")
    rows = [row for row in by_id(context.session, Listing, ids).values() if row.store_id != store_id]
    here = set(context.session.scalars(select(Listing.sku_id).where(Listing.store_id == store_id)))
    cleaner = Cleaner(context, store)
    made = []
    for row in rows:
        if row.sku_id in here:
            continue
        new = Listing(store_id=store_id, sku_id=row.sku_id, title=cleaner.title(row.title), state=LISTING.first, currency=store.currency)
        new.description, new.category, new.tags = row.description, row.category, row.tags
        new.pictures, new.copied_from, new.follow_words = list(row.pictures or []), row.id, follow
        new.wanted_price = new.shown_price = row.wanted_price if row.currency == store.currency else 0
        new.wanted_quantity = new.shown_quantity = 0
        new.shown_state = ""
        context.session.add(new)
        made.append(new)
        here.add(row.sku_id)
    context.session.flush()
    price_prepared(context, made)
    if made:
        what = f"{len(made)} listing{'s' if len(made) != 1 else ''}"
        numbers = [row.id for row in made]
        context.log("listing.copy", store.name, f"{what} copied to {store.name}", after={"listings": numbers}, undo=True, count=len(made))
    return [row.id for row in made]


# What its SKU says, so that every store's listing of it does.
SKU_WORDS = ("weight_g",)
WORDS = ("title", "description", "category", "tags", "compare_at", "pictures", *SKU_WORDS)


NAMES = {"compare_at": "compare-at price", "weight_g": "weight"}


def edit(context: Context, number: int, version: int | None, words: dict[str, Any], pass_on: bool = True) -> Listing:
    """Change what a listing says. On sale it goes to the store at once; copies that follow take it too. Can be undone."""
    row = context.get_version(Listing, number, version, "listing")
    unknown = set(words) - set(WORDS)
    if unknown:
        raise Invalid(f"a listing has no {sorted(unknown)[0]}")
    if "description" in words:
        words["description"] = clean_html(words["description"])
    sku = context.get(Sku, row.sku_id, "SKU")
    before = {name: getattr(sku if name in SKU_WORDS else row, name) for name in words}
    if before == words:
        return row
    store = context.get(Store, row.store_id, "store")
    wrong = Cleaner(context, store).wrong(words.get("title", row.title), words.get("description", row.description))
    if wrong and row.state in (ListingState.live, ListingState.paused):
        raise Invalid("; ".join(wrong), {"title": wrong[0]})
    compare = words.get("compare_at")
    if compare is not None and compare <= row.wanted_price:
        raise Invalid("the price to compare with must be above the price", {"compare_at": "must be above the price"})
    change_words(context, row, words)
    message = f"{sku.code}: {', '.join(NAMES.get(name, name) for name in words)} changed"
    context.log("listing.words", sku.code, message, before={"listing": number, "words": before}, undo=True)
    if pass_on:
        shared = {name: value for name, value in words.items() if name not in ("compare_at", *SKU_WORDS)}
        for other in context.session.scalars(select(Listing).where(Listing.copied_from == number, Listing.follow_words)).all():
            cleaner = Cleaner(context, context.get(Store, other.store_id, "store"))
            theirs = {**shared, "title": cleaner.title(shared["title"])} if "title" in shared else shared
            if theirs:
                change_words(context, other, theirs)
    return row


def send_again(context: Context, ids: Iterable[int]) -> int:
    """Send listings that their stores refused once more, with the words and figures of now. Returns how many."""
    n = 0
    for row in by_id(context.session, Listing, ids).values():
        dead = context.session.scalar(
            of_subjects(select(Outbox.id).where(Outbox.subject == f"listing:{row.id}", Outbox.state == OutboxState.dead).limit(1))
        )
        if dead is None or row.state == ListingState.preparing:
            continue
        row.words_due = row.words_due or bool(row.message)
        row.message = ""
        listing_changes.want(context, row)
        n += 1
    if n:
        context.log("listing.again", "listings", f"{n} listing{'s' if n != 1 else ''} sent again", count=n)
    return n


def change_words(context: Context, row: Listing, words: dict[str, Any]) -> None:
    """Put words on a listing; on sale they go to its store, and what is its SKU's to every store that shows it."""
    changed = [row]
    for name, value in words.items():
        if name in SKU_WORDS:
            setattr(context.get(Sku, row.sku_id, "SKU"), name, value)
            changed += context.session.scalars(select(Listing).where(Listing.sku_id == row.sku_id, Listing.id != row.id)).all()
        else:
            setattr(row, name, value)
    for one in changed:
        if one.state in (ListingState.live, ListingState.paused):
            one.words_due = True
            listing_changes.want(context, one)
    context.session.flush()


def answer_difference(context: Context, number: int, version: int, name: str, theirs: bool) -> Listing:
    """One field that the store shows otherwise: keep ours (it is sent) or take theirs (it becomes ours)."""
    row = context.get_version(Listing, number, version, "listing")
    shown = dict(row.theirs or {})
    if name not in shown:
        raise Conflict("the store shows nothing else there any more; nothing was changed")
    value = shown.pop(name)
    if theirs:
        before = {name: getattr(row, name)}
        setattr(row, name, value)
        sku = context.get(Sku, row.sku_id, "SKU")
        message = f"{sku.code}: the store's {name} taken over"
        context.log("listing.words", sku.code, message, before={"listing": number, "words": before}, undo=True)
    else:
        row.words_due = True
    row.theirs = shown or None
    context.session.flush()
    if not theirs:
        listing_changes.want(context, row)
    return row


@undoing.undoes("listing.publish")
def undo_listing_publish(context: Context, act: AuditEntry) -> None:
    unpublish(context, undoing.after(act))


@undoing.undoes("listing.end")
def undo_listing_end(context: Context, act: AuditEntry) -> None:
    unend(context, undoing.after(act))


@undoing.undoes("listing.words", whole=True)
def undo_listing_words(context: Context, act: AuditEntry) -> None:
    was = undoing.before(act)
    edit(context, was["listing"], None, was["words"])


@dataclass
class OnItsWay:
    """Where published listings stand with their stores; refused: how many by reason."""

    waiting: int = 0
    there: int = 0
    refused: dict[str, int] = field(default_factory=dict)
    refused_ids: list[int] = field(default_factory=list)


def on_its_way(context: Context, listings: Iterable[int]) -> OnItsWay:
    subjects = [f"listing:{number}" for number in listings]
    newest = select(func.max(Outbox.id)).where(Outbox.subject.in_(subjects)).group_by(Outbox.subject)
    out = OnItsWay()
    for subject, state, answer in context.session.execute(select(Outbox.subject, Outbox.state, Outbox.answer).where(Outbox.id.in_(newest))):
        if state == OutboxState.done:
            out.there += 1
        elif state == OutboxState.dead:
            out.refused[answer] = out.refused.get(answer, 0) + 1
            out.refused_ids.append(party_of(subject)[1])
        elif state != OutboxState.dropped:
            out.waiting += 1
    return out


def copies_of(context: Context, listing: int) -> Sequence[Listing]:
    """Listings in other stores that were made from this one."""
    return context.session.scalars(select(Listing).where(Listing.copied_from == listing)).all()
