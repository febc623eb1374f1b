"""A practice month of claims with every fault on and a worker that dies each day: asked once, refunded once, every penny in the journal."""

from __future__ import annotations

import random
from collections import Counter
from typing import Any

from sqlalchemy import func, select

from amber_lane.core.claims import PROVEN, ClaimReason, Way
from amber_lane.data.backups import look_over
from amber_lane.data.books import JournalEntry
from amber_lane.data.claims import Claim
from amber_lane.data.orders import Order, OrderLine
from amber_lane.services.claims import buyer_side, cases, clock
from amber_lane.services.claims.cases import Start
from amber_lane.services.listings import images

from ..business import Business
from ..drawings import png
from ..killing import survive, victim

DIALS = {
    "wholesale": {"errors": 0.25, "lost_answer": 0.25, "silent": 0.3, "refuses_claims": 0.2, "pays_less": 0.2},
    "shop": {"errors": 0.25, "lost_answer": 0.25},
}
REASONS = (ClaimReason.lost, ClaimReason.damaged, ClaimReason.late, ClaimReason.missing)


def write(business: Business, do: Any) -> Any:
    with business.app_state.db.writing() as s:
        return do(business.context(s))


def begin(business: Business, line: OrderLine, nth: int) -> None:
    """A person's day: a case is opened, its supplier asked, and the buyer of every other one refunded."""
    reason = REASONS[nth % len(REASONS)]
    row = write(business, lambda c: cases.open_claim(c, Start(line.id, reason, words="as the buyer says")))
    if reason in PROVEN and nth % 3:
        made = images.check(png(500, "#803020"))
        write(business, lambda c: cases.add(c, row.id, None, pictures=[images.keep(c, made, is_evidence=True)]))
    write(business, lambda c: cases.ask(c, row.id, None))
    if nth % 2 == 0:
        write(business, lambda c: buyer_side.do(c, row.id, None, Way.refund))


def test_a_month_of_claims_asks_once_refunds_once_and_books_every_penny(business: Business) -> None:
    luck = random.Random(24)
    lines = [line for line in business.on_the_road(*range(8)) if line.state == "on_the_road"]
    assert len(lines) >= 6
    for service, dials in DIALS.items():
        for name, value in dials.items():
            business.world.dial(service, name, value)
    died = 0
    for day in range(30):
        if day % 2 == 0 and day // 2 < len(lines):
            begin(business, lines[day // 2], day // 2)
        died += not victim(business, luck.randint(1, 18))
        survive(business)
        business.on(24 * 60)
        write(business, clock.remind)
    assert died > 10
    business.world.calm()
    for _ in range(12):
        survive(business)
        business.on(60)
    claims = business.all(select(Claim).order_by(Claim.id))
    assert len(claims) == len(lines) and {row.state for row in claims} <= {"settled", "refused", "question", "asked"}
    assert any(row.state == "settled" for row in claims)
    header = {"Authorization": "Bearer practice-northlight"}
    theirs = {}
    for row in claims:
        answer = business.world.client.get("/wholesale/api/claims", params={"reference": row.reference}, headers=header).json()["claims"]
        assert len(answer) == 1, f"{row.reference} was asked for {len(answer)} times"
        theirs[row.reference] = answer[0]
    # What the supplier says that it paid is what came back, to the penny, here and in the journal.
    for row in claims:
        paid = theirs[row.reference]["state"] == "paid"
        assert (row.state == "settled") == paid, (row.reference, row.state, theirs[row.reference])
        assert not paid or f"{row.came_back / 100:.2f}" == theirs[row.reference]["amount"]
    with business.app_state.db.reading() as s:
        booked = s.scalar(select(func.coalesce(func.sum(JournalEntry.amount), 0)).where(JournalEntry.kind == "claim"))
    assert booked == sum(row.came_back for row in claims)
    refunded = [row for row in claims if row.buyer == "refund"]
    numbers = {order.id: order.number for order in business.all(select(Order))}
    told = Counter(one["order"] for one in business.world.record()["refunds"].values())
    assert refunded and {numbers[row.order_id]: 1 for row in refunded} == {n: told[n] for n in told if n in numbers.values()}
    # Whoever does not answer is told, and nothing of the data has come apart.
    silent = [row for row in claims if row.state == "asked"]
    with business.app_state.db.reading() as s:
        assert {row.id for row in clock.overdue(business.context(s))} >= {row.id for row in silent if row.reminded >= 2}
    assert look_over(business.folder / "amber-lane.db") == []
