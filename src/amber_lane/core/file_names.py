"""Names of sheets on a server: which are meant by a pattern with dates, which is the newest, and what ours are called."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise

# What may stand in braces: how many digits, and how it is written of a moment.
DATES = {"year": (4, "%Y"), "month": (2, "%m"), "day": (2, "%d"), "hour": (2, "%H"), "minute": (2, "%M")}
# Of our own sheets alone: its number here, which makes its name the only one, and the purchase order where there is one in each sheet.
OURS = ("number", "purchase")
_PARTS = re.compile(r"\{([a-z]*)\}|([*?])")
_BAD = re.compile(r'[\\\x00-\x1f<>"|]')
MOST = 200


@dataclass(frozen=True)
class FileNames:
    """A pattern taken apart. folder: what stands before the name, with no * in it; both as they were typed."""

    folder: str
    name: str

    @classmethod
    def of(cls, text: str) -> FileNames:
        """ValueError says what is wrong with a pattern.

        >>> FileNames.of("out/{year}/stock-*.csv")
        FileNames(folder='out/{year}', name='stock-*.csv')
        """
        folder, _, name = text.strip().lstrip("/").rpartition("/")
        _check(text, (*DATES,))
        if not name:
            raise ValueError("say how its file is called, such as stock-{year}{month}{day}.csv")
        if "*" in folder or "?" in folder:
            raise ValueError("signs for any letters go into the name of the file, not into that of its folder")
        return cls(folder, name)

    def matches(self, name: str) -> bool:
        """Whether a file's name is meant, whatever its capitals.

        >>> FileNames.of("stock-{year}{month}{day}*.csv").matches("Stock-20260312-b.CSV")
        True
        """
        return self._found(name) is not None

    def stamp(self, name: str) -> str:
        """The moment in a name, the longest part first, so that names can be put in their order; '' where the pattern has none."""
        found = self._found(name)
        return "".join(found.groupdict().get(part) or "" for part in DATES) if found else ""

    def places(self, now: datetime) -> list[tuple[str, str]]:
        """Folders to look into now, each with the one name that can be meant there ('' = any that matches): a file of yesterday may
        have come only today.

        >>> FileNames.of("{year}/stock.csv").places(datetime(2026, 1, 1, 5))
        [('2026', 'stock.csv'), ('2025', 'stock.csv')]
        """
        days = [now, now - timedelta(days=1)]
        signs = {one[1] or one[2] for one in _PARTS.finditer(self.name)}
        exact = not signs & {"*", "?", "hour", "minute"}
        return list(dict.fromkeys((_dated(self.folder, day), _dated(self.name, day) if exact else "") for day in days))

    def _found(self, name: str) -> re.Match[str] | None:
        seen: set[str] = set()
        parts, at = [], 0
        for one in _PARTS.finditer(self.name):
            parts.append(re.escape(self.name[at : one.start()]))
            at = one.end()
            if one[2]:
                parts.append(".*" if one[2] == "*" else ".")
            else:
                parts.append(f"(?P={one[1]})" if one[1] in seen else f"(?P<{one[1]}>\\d{{{DATES[one[1]][0]}}})")
                seen.add(one[1])
        parts.append(re.escape(self.name[at:]))
        return re.fullmatch("".join(parts), name, re.IGNORECASE | re.DOTALL)


def check_ours(text: str, each: bool) -> str:
    """A pattern for sheets of ours, which must make no name twice. ValueError says what is wrong. each: one purchase order a sheet."""
    _check(text, (*DATES, *OURS))
    if "*" in text or "?" in text:
        raise ValueError("our own file needs a name without * and ?")
    if not text.strip().rpartition("/")[2]:
        raise ValueError("say how its file is called, such as orders-{number}.csv")
    if "{purchase}" in text and not each:
        raise ValueError("{purchase} names a file with one purchase order in it; choose that, or leave it out")
    if "{number}" not in text and "{purchase}" not in text:
        raise ValueError("put {number} into the name, so that no two files have the same")
    return text.strip().strip("/")


def ours(text: str, now: datetime, number: int, purchase: str = "") -> str:
    """What a sheet of ours is called.

    >>> ours("orders/{year}-{month}-{day}-{number}.csv", datetime(2026, 3, 12), 7)
    'orders/2026-03-12-7.csv'
    """
    safe = re.sub(r"[^A-Za-z0-9._-]", "-", purchase)
    return _dated(text, now).replace("{number}", str(number)).replace("{purchase}", safe or str(number))


def _dated(text: str, at: datetime) -> str:
    return _PARTS.sub(lambda one: at.strftime(DATES[one[1]][1]) if one[1] in DATES else one[0], text)


def _check(text: str, known: tuple[str, ...]) -> None:
    if len(text) > MOST:
        raise ValueError(f"the pattern is longer than {MOST} letters")
    if _BAD.search(text):
        raise ValueError('folders are parted by /, and these signs cannot stand in a name: \\ < > " |')
    if any(part in ("", ".", "..") for part in text.strip().strip("/").split("/")[:-1]):
        raise ValueError("name its folders from the address on, without .. and empty ones")
    for one in _PARTS.finditer(text):
        if one[1] not in (*known, None):
            raise ValueError(f"{one[0]} is not known; there are {', '.join(f'{{{name}}}' for name in known)}")
    stars = [one.start() for one in re.finditer(r"\*", text)]
    if len(stars) > 3 or any(after - before == 1 for before, after in pairwise(stars)):
        raise ValueError("three * at most, and no two beside each other")
    if re.search(r"[{}]", _PARTS.sub("", text)):
        raise ValueError("a brace stands alone; write {year}, {month} or {day}")
