"""Nobody but the state machines writes a state, and no state is asked about that no machine has."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import amber_lane

SOURCE = Path(amber_lane.__file__).parent
# Rows whose state is a machine's, by their tables' names.
TABLES = {
    "Listing",
    "Lane",
    "OrderLine",
    "PurchaseOrder",
    "Parcel",
    "Sweep",
    "ListingDecision",
    "Outbox",
    "Message",
    "Job",
    "Link",
    "HeldGoods",
    "Inbound",
    "Claim",
}
# An undo puts a lane back exactly as it stood, and what a store shows of a listing, or a program of itself, is no state of ours.
ELSEWHERE = {
    ("services/mapping/lane_states.py", "lane"),
    ("services/listings/drift.py", "known"),
    ("services/orders/routing.py", "line"),
    # A listing that a store has already is as its store shows it.
    ("services/listings/store_listings.py", "Listing"),
}
# What others say of a row of ours, what a store shows, and steps of the first day: no machine of ours has these.
BY_WORD = {
    "api/claims/cases.py ask accepted",
    "services/alerts/price_alerts.py one.drift live",
    "services/claims/cases.py answer accepted",
    "services/claims/cases.py answer paid",
    "services/depot/arrivals.py told arrived",
    "services/depot/arrivals.py told counted",
    "services/depot/loads.py answer refused",
    "services/depot/loads.py answer shipped",
    "services/listings/drift.py Drift live",
    "services/listings/drift.py one live",
    "services/listings/drift.py one paused",
    "services/listings/store_listings.py one paused",
    "services/orders/cancellations.py answer withdrawn",
    "services/partners/first_steps.py one later",
    "services/partners/first_steps.py one open",
    "services/purchasing/po_documents.py one shipped",
    "services/purchasing/supplier_answers.py answer accepted",
    "services/purchasing/supplier_answers.py answer received",
    "services/purchasing/supplier_answers.py answer refused",
    "services/purchasing/supplier_answers.py answer shipped",
}


def modules() -> Iterator[tuple[str, ast.Module]]:
    for room in ("services", "jobs", "api"):
        for path in sorted((SOURCE / room).rglob("*.py")):
            yield path.relative_to(SOURCE).as_posix(), ast.parse(path.read_text("utf-8"))


def from_machine(value: ast.expr) -> bool:
    """A step of a machine, its first state, or a choice between such."""
    if isinstance(value, ast.IfExp):
        return from_machine(value.body) and (from_machine(value.orelse) or isinstance(value.orelse, ast.Attribute))
    if isinstance(value, ast.Call):
        return isinstance(value.func, ast.Attribute) and value.func.attr in ("step", "target")
    return isinstance(value, ast.Attribute) and value.attr == "first"


def written(tree: ast.Module) -> Iterator[tuple[str, ast.expr, int]]:
    """What is given to `.state` of something, and to `state=` of a row or of a change of many: whose, the value, the line."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Assign):
            for target in node.targets:
                names = target.elts if isinstance(target, ast.Tuple) else [target]
                values = (
                    node.value.elts if isinstance(target, ast.Tuple) and isinstance(node.value, ast.Tuple) else [node.value] * len(names)
                )
                for name, value in zip(names, values, strict=False):
                    if isinstance(name, ast.Attribute) and name.attr == "state" and isinstance(name.value, ast.Name):
                        yield name.value.id, value, node.lineno
        elif isinstance(node, ast.Call):
            called = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            for keyword in node.keywords:
                if keyword.arg == "state" and (called == "values" or called in TABLES):
                    yield called, keyword.value, node.lineno


def test_states_are_written_by_their_machines_alone() -> None:
    found = [
        f"{where}:{line} {whose}"
        for where, tree in modules()
        for whose, value, line in written(tree)
        if not from_machine(value) and (where, whose) not in ELSEWHERE and whose != "self"
    ]
    assert not found


def asked(tree: ast.Module) -> Iterator[tuple[str, int]]:
    """Words that a row's state, or a table's column of states, is compared with."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and isinstance(node.left, ast.Attribute) and node.left.attr == "state":
            owner = node.left.value
            values = [
                one for right in node.comparators for one in (right.elts if isinstance(right, ast.Tuple | ast.Set | ast.List) else [right])
            ]
        elif (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and node.func.attr in ("in_", "not_in")
            and isinstance(node.func.value, ast.Attribute)
            and node.func.value.attr == "state"
        ):
            owner = node.func.value.value
            values = [one for given in node.args for one in (given.elts if isinstance(given, ast.Tuple | ast.List) else [])]
        else:
            continue
        for one in values:
            if isinstance(one, ast.Constant) and isinstance(one.value, str):
                yield f"{ast.unparse(owner)} {one.value}", node.lineno


def test_states_are_compared_as_what_they_are_and_not_by_a_word() -> None:
    """A word may stand only where something else than a row of a machine has a state: what others say, first steps, drifts, decisions."""
    found = {f"{where} {words}" for where, tree in modules() for words, _ in asked(tree)}
    assert sorted(found) == sorted(BY_WORD)
