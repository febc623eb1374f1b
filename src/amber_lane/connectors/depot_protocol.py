"""What a depot can do that holds goods of ours: beside being a supplier whose items are our own stock. Amounts are minor units."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Protocol, runtime_checkable

from .protocols import Address, SupplierLink


@dataclass(frozen=True)
class DepotTold:
    """What it takes and asks; see data.depot.DepotTerms for the units."""

    storage: int
    receive: int
    pick: int
    weight_most: int
    side_most: int
    value_most: int
    kinds: tuple[str, ...]
    carton_weight: int
    carton_sides: tuple[int, int, int]
    days_low: int
    days_high: int
    room: int
    address: Address


@dataclass(frozen=True)
class HoldAsk:
    """Goods that it is asked to hold. number: ours, by which both call them; sides: mm; value: of one, minor units; pictures: by
    the names that the depot gave them."""

    number: str
    title: str
    kind: str
    weight_g: int
    sides: tuple[int, int, int]
    value: int
    currency: str
    pictures: tuple[str, ...] = ()


@dataclass(frozen=True)
class HoldAnswer:
    """state: asked (it thinks about it), question, agreed, refused; message: the question, or why not."""

    number: str
    state: str
    message: str = ""


@dataclass(frozen=True)
class CartonNotice:
    """A carton that will come. lines: (goods, units, lot, best before)."""

    sscc: str
    weight_g: int
    lines: tuple[tuple[str, int, str, date | None], ...]


@dataclass(frozen=True)
class LoadNotice:
    """A load that will come; no cartons: it will not come after all."""

    reference: str
    sender: str
    cartons: tuple[CartonNotice, ...]


@dataclass(frozen=True)
class CountedLine:
    """What was counted of one sort: units that are right, and damaged ones apart; picture: whether it has one of the damage."""

    number: str
    units: int
    damaged: int = 0
    note: str = ""
    picture: bool = False


@dataclass(frozen=True)
class LoadState:
    """state: announced, arrived, counted, cancelled; lines: once it is counted."""

    reference: str
    state: str
    at: datetime | None
    lines: tuple[CountedLine, ...] = ()
    message: str = ""


@dataclass(frozen=True)
class StockTold:
    """What it says is there now: goods -> units."""

    as_of: datetime
    units: dict[str, int]


@dataclass(frozen=True)
class StockMove:
    """A movement by its own book. kind: counted_in, sent, damaged, lost, found, returned; number: of the movement, always the same."""

    number: str
    at: datetime
    goods: str
    units: int
    kind: str
    reference: str = ""
    note: str = ""


@dataclass(frozen=True)
class MovePage:
    moves: list[StockMove]
    cursor: str
    more: bool


@runtime_checkable
class DepotLink(SupplierLink, Protocol):
    """A depot that holds our goods: its purchases are orders to send some of them."""

    def depot_terms(self) -> DepotTold: ...
    def keep_picture(self, data: bytes, kind: str) -> str:
        """Hand over a picture; its name there is made of the picture itself, so the same again changes nothing."""
        ...

    def ask_to_hold(self, ask: HoldAsk) -> HoldAnswer:
        """It knows goods by our number: the same again changes nothing."""
        ...

    def holdings(self, numbers: list[str]) -> list[HoldAnswer]: ...
    def answer_question(self, number: str, text: str) -> HoldAnswer: ...
    def announce(self, notice: LoadNotice) -> LoadState:
        """It knows loads by our reference: the same again puts the first right while that has not come."""
        ...

    def find_loads(self, references: list[str]) -> list[LoadState]: ...
    def count_again(self, reference: str) -> LoadState: ...
    def damage_picture(self, reference: str, number: str) -> bytes | None: ...
    def stock(self) -> StockTold: ...
    def movements(self, cursor: str) -> MovePage: ...
