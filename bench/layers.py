"""Draws docs/layers.svg: the rooms of the house and the parts of its services, as import-linter's contracts order them and as they are.

Each row of the table is a part, each dot says that it uses the part of that column. All dots lie left of the diagonal, since a part
uses those below it alone. Made by `make layers`.
"""

from __future__ import annotations

import tomllib
from pathlib import Path
from xml.sax.saxutils import escape

import grimp

HERE = Path(__file__).resolve().parents[1]
TARGET = HERE / "docs" / "layers.svg"
ROOT = "amber_lane"
INK, SOFT, RULE, AMBER, PAPER = "#26231f", "#6f675c", "#d9d2c6", "#b4691f", "#fbf8f2"
ROW, TEXT = 22, 13
SAYS = {
    "cli": "the command line",
    "demo": "the demo scenario, from a seed",
    "api": "FastAPI: routers and their models, by part",
    "jobs": "what runs by itself: polling, delivery, long jobs",
    "services": "the use cases, in parts (right)",
    "connectors": "the outside: protocols, one file per dialect",
    "data": "tables, migrations, columns, bulk SQL",
    "sheets": "CSV, XLSX, UBL, PDF in and out",
    "core": "the computation: pure functions on values and columns",
}


def _contracts() -> tuple[list[str], list[str]]:
    """The rooms from the top, and the parts of services from the ground."""
    rows = tomllib.loads((HERE / "pyproject.toml").read_text("utf-8"))["tool"]["importlinter"]["contracts"]
    layers = [one for one in rows if one["type"] == "layers"]
    rooms = [name.strip().removeprefix(f"{ROOT}.") for line in layers[0]["layers"] for name in line.split("|")]
    return rooms, list(reversed(layers[1]["layers"]))


def _lines(package: str) -> tuple[int, int]:
    """How many files, and lines in them."""
    at = HERE / "src" / ROOT / package
    files = [
        one for one in ([at.with_suffix(".py")] if at.with_suffix(".py").is_file() else at.rglob("*.py")) if "versions" not in one.parts
    ]
    counts = [len(one.read_text("utf-8").splitlines()) for one in files]
    return sum(1 for n in counts if n), sum(counts)


def _uses(parts: list[str]) -> set[tuple[str, str]]:
    graph = grimp.build_graph(ROOT)
    found = set()
    for one in parts:
        for module in graph.find_descendants(f"{ROOT}.services.{one}"):
            for other in graph.find_modules_directly_imported_by(module):
                path = other.split(".")
                if path[:2] == [ROOT, "services"] and len(path) > 3 and path[2] != one:
                    found.add((one, path[2]))
    return found


def _text(x: float, y: float, words: str, colour: str = INK, size: int = TEXT, anchor: str = "start", turn: str = "") -> str:
    return f'<text x="{x}" y="{y}" font-size="{size}" fill="{colour}" text-anchor="{anchor}"{turn}>{escape(words)}</text>'


def draw() -> str:
    rooms, parts = _contracts()
    uses = _uses(parts)
    out: list[str] = []
    for n, room in enumerate(rooms):
        files, lines = _lines(room)
        y = 60 + n * 58
        out.append(f'<rect x="24" y="{y}" width="330" height="48" rx="6" fill="#fff" stroke="{AMBER if room == "services" else RULE}"/>')
        out.append(
            _text(38, y + 20, room, size=14)
            + _text(340, y + 20, f"{files} file{'' if files == 1 else 's'}, {lines:,} lines", SOFT, 11, "end")
        )
        out.append(_text(38, y + 38, SAYS[room], SOFT, 11))
    left, top = 560, 150
    for n, part in enumerate(parts):
        files, lines = _lines(f"services/{part}")
        y, x = top + n * ROW, left + n * ROW
        out.append(
            f'<line x1="390" x2="{left + len(parts) * ROW}" y1="{y + ROW / 2}" y2="{y + ROW / 2}" stroke="{RULE}" stroke-width="0.5"/>'
        )
        out.append(_text(390, y + 4, part) + _text(left - 22, y + 4, f"{files} · {lines:,}", SOFT, 11, "end"))
        out.append(_text(x + 4, top - 16, part, SOFT, 11, turn=f' transform="rotate(-52 {x + 4} {top - 16})"'))
        out.append(f'<rect x="{x - 6}" y="{y - 6}" width="12" height="12" rx="2" fill="{RULE}"/>')
        for m, other in enumerate(parts):
            if (part, other) in uses:
                out.append(f'<circle cx="{left + m * ROW}" cy="{y}" r="4.5" fill="{AMBER if m < n else "#c0392b"}"/>')
    height = max(60 + len(rooms) * 58, top + len(parts) * ROW) + 30
    width = left + len(parts) * ROW + 60
    head = _text(24, 34, "Rooms: each may use those below it", size=15) + _text(390, 34, "Parts of services: a dot is a use", size=15)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" height="{height}" '
        f'font-family="system-ui, sans-serif"><rect width="100%" height="100%" fill="{PAPER}"/>{head}\n' + "\n".join(out) + "\n</svg>\n"
    )


if __name__ == "__main__":
    TARGET.write_text(draw(), "utf-8")
