"""What suppliers answer to claims, as a sheet: by the number of each claim, as the mail that asked them had it."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from sqlalchemy import select

from ...connectors.claim_protocol import ClaimAnswer
from ...connectors.protocols import Tracking
from ...core.currency import parse_money
from ...core.states import CLAIM
from ...data.bulk import in_chunks
from ...data.claims import Claim
from ..base.context import Context
from ..base.import_frame import Checked, Row, each, need
from ..claims import cases

# paid: the money is on its way, or sent with this.
ANSWERS = {"accepted": "accept", "refused": "refuse", "question": "question", "paid": "settle"}


def check_claims(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    """Each row is an answer to one claim that waits for it; nothing is changed by this."""
    out, rows = Checked(), list(rows)
    known: dict[str, Claim] = {}
    for chunk in in_chunks({row.get("claim", "").strip() for row in rows}):
        known |= {one.reference: one for one in context.session.scalars(select(Claim).where(Claim.reference.in_(chunk)))}
    seen: set[str] = set()

    def read(row: Row) -> None:
        if not row.get("answer"):
            out.add("same", None, "")
            return
        reference, answer = need(row, "claim"), need(row, "answer").lower()
        claim = known.get(reference)
        if claim is None or claim.asked_at is None:
            raise ValueError(f"there is no claim {reference!r} that was asked for")
        if answer not in ANSWERS:
            raise ValueError(f"answer: {answer!r} is none of {', '.join(ANSWERS)}")
        if reference in seen:
            raise ValueError("a second answer to it in the same sheet")
        if claim.closed_at is not None or claim.state not in CLAIM.sources(ANSWERS[answer]):
            out.add("same", None, "")
            return
        amount = parse_money(row["amount"], claim.currency, "amount") if row.get("amount") else None
        tracking = Tracking(row["tracking_number"].strip(), row.get("carrier", "").strip()) if row.get("tracking_number") else None
        if answer == "paid" and amount is None and not (tracking and claim.wish == "again"):
            raise ValueError("say how much was paid, or the number of what was sent again")
        said = ClaimAnswer(
            reference, answer, row.get("their_number", "")[:100], row.get("message", "")[:500], amount, claim.currency, tracking
        )
        if fault := cases.not_believed(claim, said):
            raise ValueError(fault)
        seen.add(reference)
        out.add("new", said, f"{reference}: {answer}")

    each(rows, progress, out, read)
    return out


def take_claims(context: Context, checked: Checked) -> int:
    answers = [one for one in checked.good if one is not None]
    for one in answers:
        cases.take_answer(context, one)
    context.log("claim.answers", "suppliers", f"{len(answers)} answers to claims brought in by a sheet", count=len(answers))
    return len(answers)
