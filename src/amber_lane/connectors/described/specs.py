"""What is said of an operation and of a field: types, whether it is needed, and how partners tend to call it."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum


class Type(StrEnum):
    text = "text"
    caption = "title"
    long = "long"
    money = "money"
    whole = "whole"
    percent = "percent"
    decimal = "decimal"
    time = "time"
    date = "date"
    flag = "flag"
    code = "code"
    texts = "texts"
    file = "file"
    rows = "rows"
    one = "one"


@dataclass(frozen=True)
class Spec:
    """One of our fields. codes: what it may be, where it is one of a few words."""

    type: Type
    about: str
    needed: bool = False
    words: tuple[str, ...] = ()
    codes: tuple[str, ...] = ()
    fields: dict[str, Spec] = field(default_factory=dict)


@dataclass(frozen=True)
class OperationSpec:
    """given: what its templates may use, with what each is. fields: of a row; whole: of the answer. writes: it changes something there."""

    about: str
    given: dict[str, str] = field(default_factory=dict)
    fields: dict[str, Spec] = field(default_factory=dict)
    whole: dict[str, Spec] = field(default_factory=dict)
    writes: bool = False
    many: bool = False
    paged: bool = False
    words: tuple[str, ...] = ()


def text(about: str, *words: str, needed: bool = False) -> Spec:
    return Spec(Type.text, about, needed, words)
