"""Rows of an answer, read field by field. A row that is wrong is told, and stops no other."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from ..errors import Malformed, NotThere
from .expressions import BadDocument, Getter, Node, document, evaluate, getter, nodes
from .schema import Description, FieldRead, Form, MoneyManner, Operation
from .specs import OperationSpec, Spec, Type
from .values import as_text, maker, money

Record = dict[str, Any]


class BadRow(ValueError):
    """A row that cannot be read. field: which of our fields is wrong."""

    def __init__(self, field: str, message: str) -> None:
        super().__init__(f"{field}: {message}")
        self.field = field


@dataclass(frozen=True)
class Rows:
    """What an answer tells. unread: what rows that could not be read call themselves, each with why; raw: the document itself."""

    rows: list[Record]
    whole: Record
    unread: list[tuple[str, str]]
    raw: Node

    @property
    def bad(self) -> list[str]:
        return [f"{name}: {why}"[:300] for name, why in self.unread]


class RecordReader:
    """Reads rows of one shape. currency: what amounts are in where the row does not say it."""

    def __init__(self, description: Description, form: Form, specs: Mapping[str, Spec], fields: Mapping[str, FieldRead]) -> None:
        self.description, self.form, self.specs = description, form, specs
        self.manner = description.money
        # The currency is read before the amounts that it is of.
        known = [name for name in fields if name in specs]
        late = (Type.money, Type.rows, Type.one)
        self.first = [(name, self._step(specs[name], fields[name])) for name in known if specs[name].type not in late]
        self.amounts = [(name, self._step(specs[name], fields[name])) for name in known if specs[name].type in late]
        self.needed = [name for name, spec in specs.items() if spec.needed and name not in fields]

    def _get(self, read: FieldRead) -> Getter:
        if read.value is not None:
            fixed = read.value
            return lambda node: fixed
        return getter(self.form, read.at, self.description.namespaces)

    def _step(self, spec: Spec, read: FieldRead) -> Callable[[Node, str], Any]:
        if spec.type in (Type.rows, Type.one):
            return self._inner(spec, read)
        get, default = self._get(read), read.default
        plain = _codes_first(read)
        if spec.type is Type.money:
            manner: MoneyManner = read.money or self.manner

            def amount(node: Node, currency: str) -> Any:  # noqa: ANN401 - an amount or nothing
                raw = plain(get(node))
                if raw is None or raw == "":
                    raw = default
                if raw is None or raw == "":
                    return _missing(spec)
                return money(raw, manner.currency or currency, manner)

            return amount
        make = maker(spec, read, self.description.time)
        # Of these types a text without a letter tells nothing.
        numbers = (Type.whole, Type.time, Type.date, Type.decimal, Type.percent)
        nothing = spec.type in numbers or (spec.needed and spec.type in (Type.text, Type.code))

        def value(node: Node, currency: str) -> Any:  # noqa: ANN401 - what its type makes
            raw = get(node)
            if raw is None or raw == "":
                raw = default if default is not None else raw
                if raw is None or (raw == "" and nothing):
                    return _missing(spec)
            return make(raw)

        return value

    def _inner(self, spec: Spec, read: FieldRead) -> Callable[[Node, str], Any]:
        reader = RecordReader(self.description, self.form, spec.fields, read.fields)
        where = read.rows or read.at or "@"
        # The usual place of rows in rows is found without much ado, as there are very many.
        quick = where.isidentifier() and self.form is Form.json

        def inner(node: Node, currency: str) -> Any:  # noqa: ANN401 - rows, or one
            found = node.get(where) if quick and isinstance(node, dict) else None
            if found is None and quick:
                found = []
            elif not isinstance(found, list):
                found = nodes(self.form, where, self.description.namespaces, node)
            if spec.type is Type.one:
                if not found:
                    return _missing(spec)
                return reader.read(found[0], currency)
            return [reader.read(one, currency) for one in found]

        return inner

    def read(self, node: Node, currency: str) -> Record:
        """One row. BadRow says which field is wrong, and why."""
        if self.needed:
            raise BadRow(self.needed[0], "the description does not say where it is")
        out: Record = {}
        name = ""
        try:
            for name, step in self.first:
                value = step(node, "")
                if value is not None:
                    out[name] = value
            currency = out.get("currency") or currency
            for name, step in self.amounts:
                value = step(node, currency)
                if value is not None:
                    out[name] = value
        except BadRow as error:
            raise BadRow(f"{name}.{error.field}", str(error).partition(": ")[2]) from error
        except (ValueError, LookupError, AttributeError, TypeError) as error:
            raise BadRow(name, str(error).splitlines()[0] if str(error) else "it cannot be read") from error
        return out

    def each(self, node: Node, currency: str) -> dict[str, tuple[Any, str]]:
        """Every field of a row by itself, for whoever looks at it: our value, or why there is none."""
        told: dict[str, tuple[Any, str]] = dict.fromkeys(self.needed, (None, "the description does not say where it is"))
        for name, step in (*self.first, *self.amounts):
            try:
                value = step(node, (told.get("currency") or ("",))[0] or currency)
                told[name] = (value, "")
            except (ValueError, LookupError, AttributeError, TypeError) as error:
                told[name] = (None, str(error).splitlines()[0] if str(error) else "it cannot be read")
        return told

    def raw(self, node: Node, fields: Mapping[str, FieldRead]) -> dict[str, Any]:
        """What each field's expression finds in a row, as it stands there."""
        out: dict[str, Any] = {}
        for name, read in fields.items():
            if name in self.specs and self.specs[name].type not in (Type.rows, Type.one):
                try:
                    out[name] = self._get(read)(node)
                except (ValueError, LookupError, AttributeError, TypeError):
                    out[name] = None
        return out


def words_of(row: Record) -> tuple[str, str, str, str, str]:
    """Barcode, maker's number, brand, category and options of a row."""
    return row.get("gtin", ""), row.get("mpn", ""), row.get("brand", ""), row.get("category", ""), row.get("options", "")


def _missing(spec: Spec) -> Any:  # noqa: ANN401 - nothing, of whatever type
    """Nothing is told of a field: that is fine unless it is needed."""
    if spec.needed:
        raise ValueError("it is missing")
    return None


def _codes_first(read: FieldRead) -> Callable[[Any], Any]:
    """Of an amount: a word may stand where there is none."""
    if not read.codes:
        return lambda raw: raw
    return lambda raw: read.codes.get(as_text(raw), raw) if raw is not None else None


class AnswerReader:
    """Reads the answers of one operation."""

    def __init__(self, description: Description, name: str, spec: OperationSpec, operation: Operation) -> None:
        self.description, self.name, self.operation, self.spec = description, name, operation, spec
        self.row = RecordReader(description, operation.read, spec.fields, operation.fields)
        self.head = RecordReader(description, operation.read, spec.whole, operation.whole)
        self.label = next((key for key in ("reference", "number", "sku", "name") if key in operation.fields), "")

    def nodes(self, raw: Node) -> list[Node]:
        """The rows of a document."""
        operation = self.operation
        if operation.pairs:
            found = evaluate(operation.rows, raw) if operation.rows else raw
            if not isinstance(found, dict):
                raise BadDocument("the rows are not one object of pairs")
            return [{"key": key, "value": value} for key, value in found.items()]
        found = nodes(operation.read, operation.rows, self.description.namespaces, raw)
        if not found and self.spec.many and not self._place_is_there(raw):
            # An answer of another shape is not one without rows: whatever it does not name would be taken for gone.
            raise BadDocument(f"it holds no {operation.rows!r}, where its rows should be")
        return found

    def _place_is_there(self, raw: Node) -> bool:
        operation = self.operation
        if operation.read is Form.json:
            return raw == [] if not operation.rows else evaluate(operation.rows, raw) is not None
        if operation.read is Form.xml and "/" in operation.rows.strip("/"):
            return bool(nodes(operation.read, operation.rows.rpartition("/")[0].rstrip("/") or "/*", self.description.namespaces, raw))
        return True

    def read(self, body: bytes, currency: str, who: str) -> Rows:
        """An answer. Malformed where it is not what the description says."""
        try:
            raw = document(self.operation, body)
            found = self.nodes(raw)
            head = self.head.read(raw if self.operation.read is not Form.csv else raw[0] if raw else {}, currency)
        except (BadDocument, BadRow) as error:
            raise Malformed(f"{who}'s answer cannot be read ({self.name}): {error}") from error
        rows, bad = [], []
        read = self.row.read
        for node in found:
            try:
                rows.append(read(node, currency))
            except BadRow as error:
                bad.append((self._named(node), str(error)))
        return Rows(rows, head, bad, raw)

    def one(self, body: bytes, currency: str, who: str) -> Record:
        """An answer that is one row. NotThere where a question found none."""
        found = self.read(body, currency, who)
        if not found.rows and not found.unread and self.operation.rows and not self.spec.writes:
            raise NotThere(f"{who} says that there is none ({self.name})")
        if found.bad or len(found.rows) != 1:
            why = found.bad[0] if found.bad else "there is not one row in it"
            raise Malformed(f"{who}'s answer cannot be read ({self.name}): {why}")
        return found.rows[0]

    def _named(self, node: Node) -> str:
        if not self.label:
            return "a row"
        found = self.row.raw(node, {self.label: self.operation.fields[self.label]}).get(self.label)
        return "?" if found is None else str(found)[:100]
