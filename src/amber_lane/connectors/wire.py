"""Checked pieces of what partners say: amounts as text, times with a zone, short texts."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Annotated, TypeVar

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    ConfigDict,
    StringConstraints,
)

from ..core.money import parse_money
from .errors import OutsideError

R = TypeVar("R")


class Wire(BaseModel):
    """What comes from outside: unknown fields are ignored, wrong ones refused."""

    model_config = ConfigDict(extra="ignore", strict=False, str_strip_whitespace=True)


Short = Annotated[str, StringConstraints(max_length=300)]
Name = Annotated[str, StringConstraints(min_length=1, max_length=100)]
Time = Annotated[AwareDatetime, AfterValidator(lambda at: at.astimezone(UTC))]

TITLE_MAX = 500


def rows_of(raw: list[dict[str, object]], read: Callable[[dict[str, object]], R], name: str, bad: list[str]) -> list[R]:
    """Read rows one by one: one that is wrong is told in `bad` and stops nobody else."""
    good = []
    for row in raw:
        try:
            good.append(read(row))
        except (ValueError, OutsideError) as error:
            bad.append(f"{row.get(name, '?')}: {str(error).splitlines()[0]}"[:300])
    return good


def clip(text: str, most: int = TITLE_MAX) -> str:
    """A text from outside, cut to what a table can show; a title of thousands of letters loses its tail."""
    text = " ".join(text.split())
    return text if len(text) <= most else text[: most - 1] + "…"


def minor(text: str, currency: str) -> int:
    """An amount as told, in minor units; ValueError if it is none."""
    return parse_money(text, currency)


__all__ = ["Name", "Short", "Time", "Wire", "clip", "datetime", "minor", "rows_of"]
