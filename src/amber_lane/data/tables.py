"""All tables under one roof, so that the metadata is whole wherever it is needed."""

from . import (
    books,
    claims,
    depot,
    descriptions,
    files,
    lanes,
    orders,
    outbox,
    people,
    prices,
    printing,
    returns,
    setup,
    shelf,
    source,
    transit,
    watch,
)
from .base import Base

metadata = Base.metadata

__all__ = [
    "books",
    "claims",
    "depot",
    "descriptions",
    "files",
    "lanes",
    "metadata",
    "orders",
    "outbox",
    "people",
    "prices",
    "printing",
    "returns",
    "setup",
    "shelf",
    "source",
    "transit",
    "watch",
]
