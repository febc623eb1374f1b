"""How much of a file from outside is read at all; whatever is more is refused by the name of the limit that it breaks."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from ..core.writing import grouped

BYTES_MAX = 120_000_000
# Altogether, once a workbook or a zip is unpacked, and for each byte of it that came.
UNPACKED_MAX, RATIO_MAX = 400_000_000, 200
# Files that grow to less than so many bytes may grow as they like.
RATIO_FROM = 20_000_000
ROWS_MAX, COLUMNS_MAX, CELLS_MAX, CELL_MAX = 1_048_576, 1_000, 20_000_000, 100_000
# Sheets of a workbook and files of a zip that are looked at.
PARTS_MAX = 200
# In the process that opens it: seconds of processor, and bytes of memory.
SECONDS_MAX, MEMORY_MAX = 120, 1_500_000_000


class NotASheet(ValueError):
    """The file cannot be read as a sheet at all, or lacks a required column; says what to do."""


class OverLimit(NotASheet):
    """The file breaks a limit. limit: bytes, unpacked, ratio, rows, columns, cells, seconds, memory or broken."""

    def __init__(self, limit: str, message: str) -> None:
        super().__init__(message)
        self.limit = limit


def within(rows: Iterable[list[Any]], cells: int = 0) -> Iterator[list[Any]]:
    """The rows, as long as there are not more of them, or of their cells, than are read. cells: those of what was read before."""
    for n, row in enumerate(rows, 1):
        if n > ROWS_MAX:
            raise OverLimit("rows", "the sheet has more than a million rows; split it")
        if len(row) > COLUMNS_MAX:
            raise OverLimit("columns", f"row {n} has more than {grouped(COLUMNS_MAX)} columns; leave away those that are not needed")
        cells += len(row)
        if cells > CELLS_MAX:
            raise OverLimit("cells", f"the file has more than {CELLS_MAX // 1_000_000} million cells; split it")
        yield row


def unpacked(sizes: Iterable[int], packed: int) -> None:
    """Whether what is in a file of so many bytes may be unpacked."""
    total = sum(sizes)
    if total > UNPACKED_MAX:
        raise OverLimit("unpacked", f"the file unpacks to more than {UNPACKED_MAX // 1_000_000} MB; split it")
    if total > RATIO_FROM and total > RATIO_MAX * packed:
        raise OverLimit("ratio", f"the file unpacks to more than {RATIO_MAX} times its size, as no sheet does; save it anew")
