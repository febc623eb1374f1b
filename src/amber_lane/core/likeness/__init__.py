"""Likeness of SKUs and supplier items (section 6): titles read as things, compared, and decided over all of them at once."""

from .judge import Comparison, Evidence, judge, message
from .marks import Mark, marks
from .match import LIKE_WITH_ID, NONE, OPEN, REVIEW, Likely, Matcher, ThingRow, match
from .patterns import Pattern, learn
from .read import Thing, check_gtin

__all__ = [
    "LIKE_WITH_ID",
    "NONE",
    "OPEN",
    "REVIEW",
    "Comparison",
    "Evidence",
    "Likely",
    "Mark",
    "Matcher",
    "Pattern",
    "Thing",
    "ThingRow",
    "check_gtin",
    "judge",
    "learn",
    "marks",
    "match",
    "message",
]
