"""Descriptions of partners' interfaces: the one that is worked on, and the versions that partners are spoken to by."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from .base import Row, Versioned


class Description(Versioned):
    """One that is worked on. text: as it stands now, also while it is unfinished; address, sealed_key: what it is tried with, never part of
    it; certificate: what held at the last trial, of the text with that checksum."""

    __tablename__ = "description"
    owner: Mapped[str]
    name: Mapped[str]
    text: Mapped[str]
    address: Mapped[str] = mapped_column(default="")
    sealed_key: Mapped[str] = mapped_column(default="")
    certificate: Mapped[dict[str, Any] | None]
    made_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))


class DescriptionVersion(Row):
    """A description as it was switched on; it never changes again. number: from 1 on."""

    __tablename__ = "description_version"
    __table_args__ = (UniqueConstraint("description_id", "number"),)
    description_id: Mapped[int] = mapped_column(ForeignKey("description.id"), index=True)
    number: Mapped[int]
    text: Mapped[str]
    checksum: Mapped[str]
    certificate: Mapped[dict[str, Any] | None]
    at: Mapped[datetime]
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
