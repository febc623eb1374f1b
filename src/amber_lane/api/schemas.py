"""Shapes shared by all routers: money, pages, strict requests, and rows written out without validating again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, date, datetime
from typing import Annotated, Any, Generic, Literal, TypeVar

import orjson
from fastapi import Query, Response
from pydantic import BaseModel, ConfigDict, Field, ValidationInfo, field_validator
from sqlalchemy.orm import Session

from ..core.currency import parse_money, plain
from ..core.price import NONE
from ..core.texts import shown
from ..services.base.errors import Invalid
from ..services.base.regional import home_of, place_of, rules_of
from ..services.grids.goods_grids import GridQuery

T = TypeVar("T")


class Money(BaseModel):
    """An amount as text in major units, so that no reader makes a binary fraction of it."""

    model_config = ConfigDict(extra="forbid")
    amount: str = Field(max_length=20)
    currency: str = Field(pattern="^[A-Z]{3}$")


# Fields whose signs all count.
SECRETS = frozenset(("password", "was", "fresh", "key"))


class Ask(BaseModel):
    """A request: unknown fields are refused; signs that nobody sees, as they are pasted along, are left out of all that is no secret."""

    model_config = ConfigDict(extra="forbid", str_strip_whitespace=True)

    @field_validator("*", mode="before")
    @classmethod
    def _shown(cls, value: object, of: ValidationInfo) -> object:
        return shown(value) if isinstance(value, str) and of.field_name not in SECRETS else value


class Done(BaseModel):
    """What was done, as a sentence, and the act that can be undone."""

    message: str
    count: int = 1


class Page(BaseModel, Generic[T]):
    rows: list[T]
    total: int


Big = Annotated[int, Field(gt=0, lt=2**53)]
# How a table is taken out, and what a call that does so answers, for the interface's document.
Form = Literal["csv", "xlsx"]


def download(*kinds: str) -> dict[int | str, dict[str, Any]]:
    """What the document says of a call that answers a file of one of these kinds."""
    return {200: {"description": "A file", "content": {kind: {"schema": {"type": "string", "format": "binary"}} for kind in kinds}}}


SHEET = download("text/csv", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")
DOCUMENT = download("application/xml", "application/pdf")


def money(minor: int | None, currency: str) -> Money | None:
    return None if minor is None or minor == NONE else Money(amount=plain(minor, currency), currency=currency)


def sure(minor: int, currency: str) -> Money:
    return Money(amount=plain(minor, currency), currency=currency)


def minor(given: Money | None, what: str) -> int | None:
    """Money of a request as minor units; Invalid in plain words."""
    if given is None:
        return None
    try:
        return parse_money(given.amount, given.currency, what)
    except ValueError as error:
        raise Invalid(str(error), {what: str(error)}) from error


def wish(
    words: Annotated[str, Query(max_length=200)] = "",
    sort: Annotated[str, Query(max_length=40)] = "",
    down: bool = False,
    offset: Annotated[int, Query(ge=0, le=10_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
    filters: Annotated[str, Query(max_length=500, description="name:value pairs, separated by ;")] = "",
) -> GridQuery:
    """The common questions to a list."""
    pairs = dict(one.partition(":")[::2] for one in filters.split(";") if one)
    return GridQuery(words, sort, down, offset, limit, {k.strip(): v.strip() for k, v in pairs.items()})


class HouseManner(BaseModel):
    """How this house writes. home: what sums over stores are in; rules: what amounts in price rules are in; zone: by which clocks times are
    shown; dates: in what order day and month stand; decimal, group, sign_after: how numbers and amounts are written."""

    home: str
    rules: str
    zone: str
    dates: str
    country: str
    decimal: str
    group: str
    sign_after: bool


def manner_of(s: Session) -> HouseManner:
    place = place_of(s)
    return HouseManner(
        home=home_of(s), rules=rules_of(s), zone=place.zone, dates=place.dates, country=place.country, **asdict(place.writing)
    )


def _default(value: object) -> object:
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat()
    if isinstance(value, date):
        return value.isoformat()
    raise TypeError(type(value).__name__)


def written(body: object) -> Response:
    """A body written by orjson as it is."""
    return Response(orjson.dumps(body, default=_default, option=orjson.OPT_PASSTHROUGH_DATETIME), media_type="application/json")


def rows_out(rows: Sequence[Any], money_columns: dict[str, str]) -> list[dict[str, Any]]:
    """List rows as JSON data; money_columns: column -> the column that holds its currency (dropped afterwards only if hidden)."""
    out = []
    for row in rows:
        one = dict(row._mapping)
        for name, currency in money_columns.items():
            value = one[name]
            one[name] = None if value is None else {"amount": plain(value, one[currency]), "currency": one[currency]}
        out.append(one)
    return out


class IdsOut(BaseModel):
    """Numbers of rows in the order of their list, and how many fit in all."""

    ids: list[int]
    total: int
