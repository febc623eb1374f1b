"""What a person looks at, by path, and how long each may take in a house of 100,000 SKUs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Look:
    """One view. most: milliseconds that it may take at p95; body: what is posted, where it is."""

    name: str
    path: str
    most: float
    body: dict[str, Any] | None = None


def _list(name: str, path: str, n: int, *, words: str = "", sorts: tuple[str, ...] = (), filters: tuple[str, ...] = ()) -> list[Look]:
    """A list as it opens, far down, sorted each way, filtered, and with a word."""
    at = "&" if "?" in path else "?"
    rows = [
        Look(f"{name}, first page", f"{path}{at}limit=100", 150),
        Look(f"{name}, deep page", f"{path}{at}limit=100&offset={n // 2}", 150),
    ]
    rows += [Look(f"{name}, by {one}", f"{path}{at}limit=100&sort={one}&down=true", 150) for one in sorts]
    rows += [Look(f"{name}, only {one}", f"{path}{at}limit=100&filters={one}", 150) for one in filters]
    if words:
        rows.append(Look(f"{name}, a word", f"{path}{at}limit=100&words={words}", 150))
    return rows


def looks(n: int) -> list[Look]:
    sku = max(n // 500, 1) * 500
    return [
        Look("Today", "/today", 150),
        Look("pulse", "/pulse", 20),
        *_list("listings of Shelf", "/shelf", n, words="amber%20linen", sorts=("price", "profit"), filters=("state:paused", "refused:yes")),
        *_list(
            "listings of Price",
            "/prices/listings",
            n,
            words="amber%20linen",
            sorts=("price", "landed", "profit"),
            filters=("store:WEST", "supplier:S3"),
        ),
        *_list(
            "lanes", "/lanes", n, words="amber%20linen", sorts=("landed", "cost", "stock"), filters=("state:slow", "supplier:4", "kind:kit")
        ),
        *_list("decisions", "/watch/responses", n, words="SKU-000123", sorts=("new_price",), filters=("state:waits", "kind:pause")),
        *_list("changes that go out", "/outbox", n, words="SKU-000123", filters=("state:waiting",)),
        *_list("log", "/acts", n // 10, words="Supplier%203", filters=("kind:price.hand",)),
        *_list("orders", "/orders", n // 4, words="P123", sorts=("profit", "paid"), filters=("rank:1", "rank:8")),
        *_list("parcels", "/transit/parcels", n // 4, words="N123", filters=("state:moving",)),
        Look("orders, how they stand", "/orders/standing", 50),
        Look("decisions, tally", "/watch/tally", 50),
        Look("Watch, strips", "/watch/strips", 50),
        Look("Watch, groups", "/watch/groups", 150),
        Look("Source, what to narrow by", "/source/facets", 50),
        Look("Shelf, stores", "/shelf/stores", 50),
        Look("Price, scopes", "/prices/scopes", 50),
        Look("Price, plans", "/prices/plans", 150),
        Look("Lanes, to settle", "/lanes/to-settle", 150),
        Look("Lanes, a SKU", f"/lanes/skus/{sku - 1}", 150),
        Look("Lanes, candidates", f"/lanes/skus/{sku}/candidates", 100),
        Look("Transit, troubled", "/transit/troubled", 150),
        Look("First steps", "/house/steps", 150),
        Look("a store's sheets out", "/sheets/out/store/1", 50),
        Look("partners", "/setup/partners", 150),
        Look("finder of anything", "/find?words=walrus", 150),
        Look("a listing's why", "/prices/listings/77/why", 150),
        Look("what-if, first", "/prices/what-if", 1000, {}),
        Look("what-if", "/prices/what-if", 500, {}),
        Look("search, first", "/source/search?filters=store:1&words=amber%20linen", 1000),
        Look("search", "/source/search?filters=store:1&words=amber%20linen", 150),
        Look("search, all by margin", "/source/search?filters=store:1&sort=margin", 150),
    ]
