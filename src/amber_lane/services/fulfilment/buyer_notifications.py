"""Mail to buyers: templates by store and language, filled in with the order's words, each sent once."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import select

from ...data.orders import Order, OrderLine
from ...data.outbox import AuditEntry
from ...data.setup import Mailbox, Store
from ...data.transit import Message, MessageTemplate
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue

# kind -> (subject, text, whether it is sent by itself)
TEMPLATES = {
    "bought": (
        "Thank you for your order {order}",
        "Hello {name},\n\nwe have your order and are getting it ready:\n\n{lines}\n\n{store}\n",
        False,
    ),
    "shipped": (
        "Your order {order} is on its way",
        "Hello {name},\n\n{lines}\n\nhas left and travels with {carrier} under the number {tracking}.\n\n{store}\n",
        True,
    ),
    "corrected": (
        "Another number for your order {order}",
        "Hello {name},\n\nthe number that we gave you was wrong. Your parcel travels with {carrier} under {tracking}.\n\n{store}\n",
        True,
    ),
    "late": (
        "Your order {order} takes longer",
        "Hello {name},\n\n{lines}\n\nis on its way with {carrier} under {tracking}, but takes longer than we promised. We are sorry, "
        "and we watch it for you.\n\n{store}\n",
        False,
    ),
    "arrived": (
        "Your order {order} has arrived",
        "Hello {name},\n\n{lines}\n\nwas delivered. We hope it serves you well.\n\n{store}\n",
        False,
    ),
    "return": (
        "How to send back what you had of order {order}",
        "Hello {name},\n\nplease send\n\n{lines}\n\nuntil {until} to\n\n{return_address}\n\nThe number of your return is "
        "{return_number}. {label}\n\n{store}\n",
        True,
    ),
}
WORDS = ("order", "name", "lines", "carrier", "tracking", "page", "store", "return_number", "return_address", "until", "label")
# In which language a buyer is written to, where there is a template in it; English everywhere else.
LANGUAGES = {
    "DE": "de",
    "AT": "de",
    "FR": "fr",
    "ES": "es",
    "IT": "it",
    "NL": "nl",
    "PL": "pl",
    "SE": "sv",
    "DK": "da",
    "NO": "nb",
    "FI": "fi",
}
_WORD = re.compile(r"\{(\w+)\}")
DELAY_MOST = 30 * 24 * 60


def template_for(context: Context, kind: str, store: int, country: str) -> MessageTemplate | None:
    """The nearest template: of the store in the buyer's language, of the store, of the house in that language, of the house."""
    language = LANGUAGES.get(country, "en")
    rows = context.session.scalars(select(MessageTemplate).where(MessageTemplate.kind == kind)).all()
    for of_store, spoken in ((store, language), (store, "en"), (None, language), (None, "en")):
        for row in rows:
            if (row.store_id, row.language) == (of_store, spoken):
                return row
    return None


def words_of(order: Order, store: Store, lines: Sequence[OrderLine], more: dict[str, str]) -> dict[str, str]:
    return {
        "order": order.number,
        "name": order.buyer,
        "store": store.name,
        "lines": "\n".join(f"{line.quantity} × {line.title or line.sku_code}" for line in lines),
        "carrier": "",
        "tracking": "",
        **more,
    }


def written(context: Context, kind: str, order: Order, lines: Sequence[OrderLine], more: dict[str, str]) -> tuple[str, str] | None:
    """Subject and text of a mail as it would be sent now; None where there is no template."""
    store = context.get(Store, order.store_id, "store")
    template = template_for(context, kind, store.id, order.country)
    if template is None:
        return None
    named = words_of(order, store, lines, more)
    return fill(template.subject, named), fill(template.body, named)


def write_mail(  # noqa: PLR0913 - what a mail is about
    context: Context,
    kind: str,
    order: Order,
    store: Store,
    lines: Sequence[OrderLine],
    about: str,
    more: dict[str, str],
    by_hand: tuple[str, str] | None = None,
    files: Sequence[tuple[str, str, str]] = (),
) -> bool:
    """A mail of a kind to the buyer, once per order and parcel; nothing when it is switched off or there is no address.

    by_hand: (subject, text) that a person has looked over; it goes although the kind is not sent by itself. files: that go with it.
    """
    template = template_for(context, kind, store.id, order.country)
    if (
        template is None
        or not (template.on or by_hand)
        or context.session.scalar(select(Mailbox.id).limit(1)) is None
        or "@" not in order.mail
    ):
        return False
    if context.session.scalar(select(Message.id).where(Message.order_id == order.id, Message.kind == kind, Message.about == about)):
        return False
    named = words_of(order, store, lines, more)
    subject, body = by_hand or (fill(template.subject, named), fill(template.body, named))
    message = Message(order_id=order.id, kind=kind, about=about, to=order.mail, subject=subject, body=body, at=context.now)
    context.session.add(message)
    context.session.flush()
    after = None if by_hand or not template.delay_minutes else context.now + timedelta(minutes=template.delay_minutes)
    key = f"mail-{store.code}-{order.number}-{kind}-{about}"
    queue.mail(context, key, f"mail:{message.id}", order.mail, subject, body, message.id, after, files)
    return True


def fill(template: str, words: dict[str, str]) -> str:
    """A template with its words filled in; words it does not know stay as they are.

    >>> fill("Order {order} {what}", {"order": "4417"})
    'Order 4417 {what}'
    """
    return _WORD.sub(lambda found: words.get(found[1], found[0]), template)


def make_templates(context: Context) -> None:
    """The house's own templates, where there are none yet."""
    have = set(context.session.scalars(select(MessageTemplate.kind).where(MessageTemplate.store_id.is_(None))))
    for kind, (subject, body, on) in TEMPLATES.items():
        if kind not in have:
            context.session.add(MessageTemplate(kind=kind, subject=subject, body=body, on=on))
    context.session.flush()


def keep_template(  # noqa: PLR0913 - the fields of a form, by name
    context: Context,
    number: int | None,
    version: int | None,
    *,
    kind: str,
    store: int | None,
    language: str,
    subject: str,
    body: str,
    on: bool,
    delay_minutes: int,
) -> MessageTemplate:
    """Change a template, or make one for a store or a language of its own."""
    wrong = {name: "is empty" for name, value in (("subject", subject), ("body", body)) if not value.strip()}
    if kind not in TEMPLATES:
        wrong["kind"] = f"must be one of {', '.join(TEMPLATES)}"
    if language not in {"en", *LANGUAGES.values()}:
        wrong["language"] = "we do not know this language"
    if not 0 <= delay_minutes <= DELAY_MOST:
        wrong["delay_minutes"] = "at most thirty days"
    if wrong:
        raise Invalid("; ".join(f"{name} {message}" for name, message in wrong.items()), wrong)
    if store is not None:
        context.get(Store, store, "store")
    if number is None:
        where = (MessageTemplate.kind == kind, MessageTemplate.language == language)
        of = MessageTemplate.store_id.is_(None) if store is None else MessageTemplate.store_id == store
        if context.session.scalar(select(MessageTemplate.id).where(*where, of)):
            raise Conflict("there is such a mail already; change that one")
        row = MessageTemplate(kind=kind, store_id=store, language=language, subject="", body="")
        context.session.add(row)
        before = None
    else:
        row = context.get_version(MessageTemplate, number, version, "template")
        before = {"subject": row.subject, "body": row.body, "on": row.on, "delay_minutes": row.delay_minutes}
    row.subject, row.body, row.on, row.delay_minutes = subject, body, on, delay_minutes
    context.session.flush()
    message = f"mail '{row.kind}' changed, {'on' if row.on else 'off'}"
    context.log("template.change", row.kind, message, before=before, after={"template": row.id}, undo=True)
    return row


def restore_template(context: Context, number: int, before: dict[str, object] | None) -> None:
    """Undo: a template as it was; None: it was new, and goes."""
    row = context.get(MessageTemplate, number, "template")
    if before is None:
        if row.store_id is None and row.language == "en":
            raise Conflict("the general template stays; switch it off instead")
        context.session.delete(row)
        return
    for name, value in before.items():
        setattr(row, name, value)
    row.version += 1


@undoing.undoes("template.change")
def undo_template_change(context: Context, act: AuditEntry) -> None:
    restore_template(context, undoing.after(act)["template"], act.before)


def mails_of(context: Context, order: int) -> Sequence[Message]:
    return context.session.scalars(select(Message).where(Message.order_id == order).order_by(Message.id)).all()


def templates(context: Context) -> list[MessageTemplate]:
    """All templates, in the order in which a buyer gets their mails."""
    order = list(TEMPLATES)
    rows = context.session.scalars(select(MessageTemplate)).all()
    return sorted(rows, key=lambda one: (order.index(one.kind) if one.kind in order else 99, one.store_id or 0, one.language))
