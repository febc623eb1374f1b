"""The cheapest right way of a claim: what each way costs from now on, by how a supplier has answered before (section 14)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction

from .numbers import half_up


class ClaimReason(StrEnum):
    """What is wrong. Those of PROVEN want a picture: a supplier that sees none asks for it first."""

    no_number = "no_number"
    no_movement = "no_movement"
    lost = "lost"
    late = "late"
    damaged = "damaged"
    defective = "defective"
    wrong_item = "wrong_item"
    missing = "missing"
    not_as_described = "not_as_described"
    changed_mind = "changed_mind"


PROVEN = frozenset({ClaimReason.damaged, ClaimReason.defective, ClaimReason.wrong_item, ClaimReason.missing, ClaimReason.not_as_described})


# What buyers write, as parts of words: the first that is found tells what it is likely about. English alone; a person looks at it anyway.
_SAID: tuple[tuple[ClaimReason, tuple[str, ...]], ...] = (
    (ClaimReason.changed_mind, ("changed my mind", "no longer want", "do not want it", "would like to return", "send it back")),
    (ClaimReason.wrong_item, ("wrong one", "wrong item", "not what i ordered", "not the one i ordered", "another colour", "another size")),
    (ClaimReason.missing, ("missing", "not all that", "incomplete", "only got", "part of it is not")),
    (ClaimReason.damaged, ("broken", "crack", "damaged", "smashed", "shattered", "bent", "scratch")),
    (ClaimReason.defective, ("does not work", "doesn't work", "doesn’t work", "not working", "faulty", "stopped working", "defect")),
    (ClaimReason.lost, ("not arrived", "nothing has arrived", "never arrived", "never came", "where is my", "has not come", "lost")),
    (ClaimReason.late, ("late", "still waiting", "how much longer")),
    (ClaimReason.not_as_described, ("not as described", "different from", "looks nothing like")),
)


def reason_in(text: str) -> ClaimReason | None:
    """What a buyer's mail is likely about; None where it does not say so. For a form that a person fills, never for a decision.

    >>> reason_in("It came today and is BROKEN"), reason_in("Thank you, all is well")
    (<ClaimReason.damaged: 'damaged'>, None)
    """
    low = " ".join(text.lower().split())
    return next((reason for reason, words in _SAID if any(word in low for word in words)), None)


class Way(StrEnum):
    """What is done for the buyer while the supplier is asked."""

    refund = "refund"
    again = "again"
    part = "part"
    ask = "ask"
    let_go = "let_go"


# As if so many claims had been paid and refused before any was seen.
PRIOR = (Fraction(3), Fraction(2))
# Of a hundred that a supplier that pays at all owes, so much is what it pays, before any of its payments was seen.
USUAL_SHARE = Fraction(9, 10)
# The chance that a buyer who waits leaves or disputes, by whole days since the parcel was due: from so many on.
LEAVES: tuple[tuple[int, Fraction], ...] = (
    (0, Fraction(1, 50)), (3, Fraction(1, 20)), (7, Fraction(3, 20)), (14, Fraction(7, 20)), (21, Fraction(3, 5)),
)  # fmt: skip
# A buyer who keeps what they have is offered so much of what they paid, where nothing else is said.
USUAL_PART = Fraction(3, 10)
# They have it, so there is something to keep.
KEPT = PROVEN | {ClaimReason.late, ClaimReason.changed_mind}
# What buyers of a parcel that is merely late ask for in the end, where nobody writes to them.
COMPLAINS = Fraction(1, 4)


@dataclass(frozen=True)
class Record:
    """How one supplier answered claims of one reason: how many were paid and refused, what was asked of the paid ones and what came."""

    paid: int = 0
    refused: int = 0
    asked: int = 0
    came: int = 0

    @property
    def chance(self) -> Fraction:
        """That a claim is paid: the mean of its Beta posterior.

        >>> Record().chance, Record(8, 0).chance
        (Fraction(3, 5), Fraction(11, 13))
        """
        a, b = PRIOR
        return (a + self.paid) / (a + b + self.paid + self.refused)

    @property
    def share(self) -> Fraction:
        """What comes of what was asked, where it is paid."""
        return min(Fraction(self.came, self.asked), Fraction(1)) if self.asked > 0 else USUAL_SHARE


@dataclass(frozen=True)
class PartRefund:
    """A part refund that a buyer who keeps what they have may be content with. amount: minor units of the order's money; back: what of
    tax and fees goes back with it; settled, failed: how many of them were, and were not, the end of it before."""

    amount: int
    back: int = 0
    settled: int = 0
    failed: int = 0

    @property
    def chance(self) -> Fraction:
        """That it is the end of it: the mean of its Beta posterior.

        >>> PartRefund(500).chance, PartRefund(500, settled=5).chance
        (Fraction(3, 5), Fraction(4, 5))
        """
        a, b = PRIOR
        return (a + self.settled) / (a + b + self.settled + self.failed)


@dataclass(frozen=True)
class CaseMoney:
    """Minor units of the order's money. paid_back: what the buyer gets back; fees_back: what of the store's fees comes back with it, and
    tax_back: what of the tax is not owed then; claim: what would be asked of the supplier; again: landed cost of the best lane now with
    its risk, None = nothing fills it; dispute: what a buyer who leaves costs beside the refund; days: since it was due; part: None =
    there is nothing that they could keep; they_asked: the buyer asked for something, so doing nothing is no way."""

    paid_back: int
    fees_back: int
    claim: int
    again: int | None
    dispute: int
    days: int
    tax_back: int = 0
    part: PartRefund | None = None
    they_asked: bool = False


@dataclass(frozen=True)
class WayCost:
    """terms: name -> amount, which add up to the cost; a negative one is a gain."""

    way: Way
    cost: int
    terms: Mapping[str, int]


def leaves(days: int) -> Fraction:
    """The chance that a buyer who waits so long leaves or disputes.

    >>> leaves(-3), leaves(8)
    (Fraction(1, 50), Fraction(3, 20))
    """
    found = LEAVES[0][1]
    for least, chance in LEAVES:
        if days >= least:
            found = chance
    return found


def _rounded(value: Fraction) -> int:
    return half_up(value.numerator, value.denominator)


def ways(money: CaseMoney, record: Record, reason: ClaimReason) -> list[WayCost]:
    """Every way that there is, the cheapest first; of two that cost the same, the one that leaves the buyer better off."""
    recovery = _rounded(record.chance * record.share * money.claim)
    back = {"refund": money.paid_back, "tax": -money.tax_back, "fees": -money.fees_back, "recovery": -recovery}
    out = [_way(Way.refund, back)]
    if money.again is not None:
        out.append(_way(Way.again, {"again": money.again, "recovery": -recovery}))
    best = min(one.cost for one in out)
    if (part := money.part) is not None and part.amount < money.paid_back:
        # Where it is the end of it, what the supplier pays is ours all the same; where it is not, the best other way follows.
        ends, fails = part.chance, 1 - part.chance
        terms = {"part": part.amount, "back": -part.back, "recovery": -_rounded(ends * recovery), "otherwise": _rounded(fails * best)}
        out.append(_way(Way.part, terms))
        best = min(best, out[-1].cost)
    waiting = _rounded(leaves(money.days) * money.dispute)
    out.append(_way(Way.ask, {"waiting": waiting, "after": best}))
    if reason in (ClaimReason.late, ClaimReason.changed_mind) and not money.they_asked:
        out.append(_way(Way.let_go, {"complains": _rounded(COMPLAINS * (best + money.dispute))}))
    order = list(Way)
    return sorted(out, key=lambda one: (one.cost, order.index(one.way)))


def _way(way: Way, terms: Mapping[str, int]) -> WayCost:
    kept = {name: value for name, value in terms.items() if value}
    return WayCost(way, sum(kept.values()), kept)


def usual_part(back: int) -> int:
    """What a buyer who keeps it is offered of what a refund would give back, minor units.

    >>> usual_part(1995)
    599
    """
    return half_up(back * USUAL_PART.numerator, USUAL_PART.denominator)


def records(answers: Iterable[tuple[str, bool, int, int]]) -> dict[str, Record]:
    """Records by reason, and of all reasons under '', of (reason, paid, asked, came)."""
    found: dict[str, Record] = {}
    for reason, paid, asked, came in answers:
        for key in (reason, ""):
            one = found.get(key, Record())
            found[key] = Record(
                one.paid + paid, one.refused + (not paid), one.asked + (asked if paid else 0), one.came + (came if paid else 0)
            )
    return found


__all__ = ["CaseMoney", "ClaimReason", "PartRefund", "Record", "Way", "WayCost", "leaves", "records", "ways"]
