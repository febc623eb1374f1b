"""Checked pieces of what partners say: amounts as text, times with a zone, short texts."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, replace
from datetime import UTC, date, datetime
from typing import Annotated, Any, TypeVar
from urllib.parse import quote

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    ConfigDict,
    Field,
    StringConstraints,
)

from ..core.books import allocate
from ..core.currency import parse_money
from ..core.numbers import parse_percent
from ..core.texts import seen_whole, shown
from .errors import Malformed, OutsideError
from .partner_states import ORDER_STATES, PURCHASE_STATES
from .protocols import Address, OriginTerms, Purchase, PurchaseAnswer, PurchaseItem, ServiceTerms, StoreOrderLine, Tracking

R = TypeVar("R")


class Wire(BaseModel):
    """What comes from outside: unknown fields are ignored, wrong ones refused."""

    model_config = ConfigDict(extra="ignore", strict=False, str_strip_whitespace=True)


def _time(at: datetime) -> datetime:
    if not 2000 <= at.year <= 2200:
        raise ValueError("it is of a year in which nothing was sold yet")
    return at.astimezone(UTC)


Short = Annotated[str, StringConstraints(max_length=300), AfterValidator(seen_whole)]
Name = Annotated[str, StringConstraints(min_length=1, max_length=100), AfterValidator(seen_whole)]
Time = Annotated[AwareDatetime, AfterValidator(_time)]

TITLE_MAX = 500
# More of one thing, or a dearer one (minor units), nobody buys at once.
UNITS_MOST, MONEY_MOST = 100_000, 10**11


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
    text = " ".join(shown(text).split())
    return text if len(text) <= most else text[: most - 1] + "…"


class OriginsOut(Wire):
    """Warehouses with their services, as suppliers' interfaces tell them: amounts as text in the supplier's money."""

    class Origin(Wire):
        class Service(Wire):
            class Band(Wire):
                up_to_g: int = Field(gt=0)
                first: Short
                following: Short

            code: Short
            name: Short
            country: Short
            first: Short
            following: Short
            free_over: Short | None = None
            days_low: int
            days_high: int
            tracked: bool = True
            bands: list[Band] = Field(default_factory=list)

        code: Short
        name: Short
        country: Short
        cut_off: Short = "16:00"
        handling: Short = "0"
        return_address: Short = ""
        holidays: list[date] = Field(default_factory=list)
        services: list[Service]

    origins: list[Origin]


def origin_terms(answer: OriginsOut, currency: str, who: str) -> list[OriginTerms]:
    """Told terms in minor units; Malformed when an amount is none."""
    try:
        return [
            OriginTerms(
                o.code,
                o.name,
                o.country,
                o.cut_off,
                minor(o.handling, currency),
                [
                    ServiceTerms(
                        s.code,
                        s.name,
                        s.country,
                        minor(s.first, currency),
                        minor(s.following, currency),
                        None if s.free_over is None else minor(s.free_over, currency),
                        s.days_low,
                        s.days_high,
                        s.tracked,
                        tuple(sorted((band.up_to_g, minor(band.first, currency), minor(band.following, currency)) for band in s.bands)),
                    )
                    for s in o.services
                ],
                o.return_address,
                tuple(day.isoformat() for day in o.holidays),
            )
            for o in answer.origins
        ]
    except ValueError as error:
        raise Malformed(f"{who}'s services cannot be read: {error}") from error


class PurchaseOut(Wire):
    """A purchase as suppliers' interfaces tell it."""

    number: Short
    reference: Short
    state: Short
    message: Short = ""
    billed: Short | None = None
    currency: Short
    tracking_number: Short | None = None
    carrier: Short | None = None


def purchase_answer(one: PurchaseOut, who: str) -> PurchaseAnswer:
    """Malformed when its state or its bill cannot be read."""
    if one.state not in PURCHASE_STATES:
        raise Malformed(f"{who} gives {one.reference} a state that we do not know: {one.state}")
    tracking = Tracking(one.tracking_number, one.carrier or "") if one.tracking_number else None
    try:
        billed = None if one.billed is None else minor(one.billed, one.currency)
    except ValueError as error:
        raise Malformed(f"{who}'s bill for {one.reference} cannot be read") from error
    return PurchaseAnswer(one.reference, one.number, one.state, one.message, billed, tracking, currency=one.currency.upper())


class Buyer(Wire):
    name: Short
    address_1: Short
    city: Short
    postcode: Short
    country: Short
    address_2: Short = ""
    region: Short = ""
    phone: Short = ""
    email: Short = ""


def order_state(state: str) -> tuple[bool, bool]:
    """Whether an order is cancelled, and whether it is sent; ValueError where its state is none that we know."""
    if state not in ORDER_STATES:
        raise ValueError(f"the order is in a state that we do not know: {state!r}")
    # What was paid back whole is not to be sent any more.
    return state in ("cancelled", "refunded"), state == "sent"


@dataclass(frozen=True)
class BesidePrices:
    """What an order's buyer paid beside the goods' prices, as text of the whole order; None = the store tells nothing of it."""

    shipping_paid: str | None = None
    discount: str | None = None
    tax: str | None = None
    tax_by: str = ""


def order_lines(
    lines: Iterable[tuple[int, str, int, str, str]], currency: str, beside: BesidePrices = BesidePrices()
) -> list[StoreOrderLine]:
    """Lines of (number, SKU, quantity, price of one as text, title); ValueError when there is none or one is nonsense.

    beside: is shared out over the lines by what they cost.
    """
    out = [StoreOrderLine(n, sku, quantity, minor(price, currency), clip(title)) for n, sku, quantity, price, title in lines]
    if not out or any(line.quantity <= 0 or line.unit_price < 0 for line in out):
        raise ValueError("an order needs lines with a quantity and a price")
    if len({line.line_no for line in out}) < len(out):
        raise ValueError("two lines of an order have the same number")
    if any(line.quantity > UNITS_MOST or line.unit_price > MONEY_MOST or not 0 <= line.line_no <= UNITS_MOST for line in out):
        raise ValueError("a line has a number, quantity or price beyond all measure")
    return _with_beside(out, currency, beside)


def _with_beside(lines: list[StoreOrderLine], currency: str, beside: BesidePrices) -> list[StoreOrderLine]:
    told = {name: minor(text, currency) for name in ("shipping_paid", "discount", "tax") if (text := getattr(beside, name)) is not None}
    if not told:
        return lines
    total = sum(line.unit_price * line.quantity for line in lines) + told.get("shipping_paid", 0) - told.get("discount", 0)
    if min(told.values()) < 0 or total < 0 or told.get("tax", 0) > total or max(told.values()) > MONEY_MOST:
        raise ValueError("what was paid for sending, the discount or the tax of an order cannot be")
    weights = [line.unit_price * line.quantity for line in lines]
    shares = {name: allocate(amount, weights) for name, amount in told.items()}

    def part(name: str, n: int) -> int | None:
        return shares[name][n] if name in shares else None

    by = "store" if beside.tax_by == "store" else ""
    return [
        replace(line, shipping_paid=part("shipping_paid", n), discount=part("discount", n), tax=part("tax", n), tax_by=by)
        for n, line in enumerate(lines)
    ]


def purchase_body(purchase: Purchase) -> dict[str, Any]:
    """A purchase as suppliers' interfaces take it; the buyer's mail address stays with us."""
    address = asdict(purchase.address)
    address.pop("email")
    return {
        "reference": purchase.reference,
        "origin": purchase.origin,
        "service": purchase.service,
        "note": purchase.note,
        "greeting": purchase.greeting,
        "address": address,
        "lines": [_line(line) for line in purchase.lines],
    }


def _line(line: PurchaseItem) -> dict[str, Any]:
    body: dict[str, Any] = {"line_no": line.line_no, "item": line.item, "quantity": line.quantity}
    prints = [
        {"side": one.side, **{f"{name}_mm": getattr(one, name) / 100 for name in "xywh"}, "file": one.file, "preview": one.preview}
        for one in line.prints
    ]
    return body | ({"prints": prints} if prints else {})


def said_with(note: str, greeting: str) -> str:
    """Note and greeting in one, for suppliers whose sheets have a single column for both."""
    return " ".join(part for part in (note, greeting and f"Greeting: {greeting}") if part)


def one_line(address: Address) -> str:
    """An address in one line, as labels have it."""
    parts = (address.name, address.address_1, address.address_2, address.city, address.region, address.postcode, address.country)
    return ", ".join(part.strip() for part in parts if part.strip())


def path_part(text: str) -> str:
    """A number as one piece of an address, whatever signs it holds."""
    return quote(text, safe="")


def ppm(percent: str) -> int:
    """A percentage as told ("9.5") in ppm; ValueError if it is none, or not between 0 and 100."""
    value = parse_percent(percent)
    if not 0 <= value <= 1_000_000:
        raise ValueError(f"{percent!r} is not a percentage from 0 to 100")
    return value


def minor(text: str, currency: str) -> int:
    """An amount as told, in minor units; ValueError if it is none."""
    return parse_money(text, currency)
