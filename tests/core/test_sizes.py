"""Files and functions stay of a size that a reader takes in at once."""

from __future__ import annotations

import ast
from pathlib import Path

import amber_lane

SOURCE = Path(amber_lane.__file__).parent
FUNCTION, FILE = 60, 500


def test_no_function_is_longer_than_a_screen_and_no_file_than_five_hundred_lines() -> None:
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        text = path.read_text("utf-8")
        where = path.relative_to(SOURCE).as_posix()
        if "migrations" in where:
            continue
        if (lines := text.count("\n")) > FILE:
            found.append(f"{where}: {lines} lines")
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and (node.end_lineno or 0) - node.lineno >= FUNCTION:
                found.append(f"{where}:{node.lineno} {node.name}")
    assert not found


def test_routers_hold_no_query() -> None:
    asks = {"select", "insert", "update", "delete", "text", "func", "or_", "and_"}
    found = []
    for path in sorted((SOURCE / "api").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("sqlalchemy"):
                found += [f"{path.name}: {one.name}" for one in node.names if one.name in asks]
    assert not found
