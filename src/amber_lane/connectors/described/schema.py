"""What a description says of a partner: data alone. Its JSON Schema is published from these models.

Expressions read one value of an answer: JMESPath for JSON, XPath for XML, the name of a column for CSV. Templates make a text of what is
given: {{ name }}, {% if %} and {% for %} over a given list, nothing else.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

VERSION = 1
SIZE_MOST = 400_000

Text = Annotated[str, StringConstraints(max_length=300)]
Name = Annotated[str, StringConstraints(min_length=1, max_length=80)]
Expression = Annotated[str, StringConstraints(max_length=2_000)]
Template = Annotated[str, StringConstraints(max_length=20_000)]
Codes = Annotated[dict[Text, Text], Field(max_length=300)]


class Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Owner(StrEnum):
    store = "store"
    supplier = "supplier"
    carrier = "carrier"
    rates = "rates"


class Form(StrEnum):
    """What an answer is written in."""

    json = "json"
    xml = "xml"
    csv = "csv"


class MoneyManner(Part):
    """How amounts are told. minor: in the smallest unit of the money; mark: what parts whole units from the rest."""

    unit: Literal["major", "minor"] = "major"
    mark: Literal[".", ","] = "."
    currency: Text = Field("", description="the partner's one currency; empty = its account or each row says it")


class TimeManner(Part):
    """How moments are told. zone: of times that name none; pattern: as %d.%m.%Y %H:%M."""

    kind: Literal["iso", "seconds", "milliseconds", "pattern"] = "iso"
    pattern: Text = ""
    zone: Text = "UTC"


class FieldRead(Part):
    """Where one of our fields is in an answer, and how it is told there."""

    at: Expression = Field("", description="an expression; '@' is the row itself")
    value: Text | None = Field(None, description="always this, whatever the answer says")
    codes: Codes = Field(default_factory=dict, description="the partner's word -> ours")
    otherwise: Text | None = Field(None, description="what a word that is not among the codes means; none = the row cannot be read")
    default: Text | None = Field(None, description="what it is where the answer says nothing")
    money: MoneyManner | None = None
    time: TimeManner | None = None
    split: Text = Field("", description="of a list: what parts the pieces of one text; empty = the answer holds a list")
    rows: Expression = Field("", description="of a field that holds rows: where they are")
    fields: dict[Name, FieldRead] = Field(default_factory=dict, max_length=60)

    @model_validator(mode="before")
    @classmethod
    def short(cls, value: object) -> object:
        """A field may be written as its expression alone."""
        return {"at": value} if isinstance(value, str) else value


class Paging(Part):
    """How a long list comes in portions."""

    by: Literal["page", "offset", "cursor", "since", "link"]
    size: int = Field(0, ge=0, le=10_000, description="rows in a portion; a shorter one is the last where nothing else says so")
    first: Text = Field("", description="the first page, offset or cursor")
    pages: Expression = Field("", description="how many portions there are")
    total: Expression = Field("", description="how many rows there are")
    next: Expression = Field("", description="the cursor of the next portion; empty there = this is the last")
    more: Expression = Field("", description="whether there is another portion")
    most: int = Field(2_000, ge=1, le=20_000, description="more portions than these nobody has: then it never ends")


class Request(Part):
    """One call. Of json, form, xml, text and graphql at most one is said; none of them = it has no body."""

    method: Literal["GET", "POST", "PUT", "PATCH", "DELETE"] = "GET"
    path: Template = ""
    query: dict[Name, Template] = Field(default_factory=dict, max_length=40)
    headers: dict[Name, Template] = Field(default_factory=dict, max_length=20)
    given: dict[Name, Codes] = Field(default_factory=dict, max_length=20, description="what is given -> our word -> the partner's")
    json_: Expression = Field("", alias="json", description="JMESPath over what is given")
    form: Expression = Field("", description="JMESPath over what is given: names and values")
    xml: Template = ""
    text: Template = ""
    graphql: Template = Field("", description="a query or mutation as it is; its variables come from 'variables'")
    variables: Expression = ""
    kind: Text = Field("", description="the body's content type, where it is not the usual one")
    bytes: bool = Field(False, description="the body is the file that is handed over")
    drop_empty: bool = Field(False, description="what is not given is left out of the body")

    @model_validator(mode="after")
    def one_body(self) -> Request:
        said = [name for name in ("json_", "form", "xml", "text", "graphql", "bytes") if getattr(self, name)]
        if len(said) > 1:
            raise ValueError("a call has one body: say one of json, form, xml, text, graphql, bytes")
        return self


class Operation(Part):
    """One thing that the partner can do for us: the call, and how its answer is read."""

    call: Request = Field(default_factory=Request)
    read: Form = Form.json
    rows: Expression = Field("", description="where the rows of the answer are; empty = the answer is one row")
    fields: dict[Name, FieldRead] = Field(default_factory=dict, max_length=80)
    pairs: bool = Field(False, description="the rows are one object: each of its pairs is a row with 'key' and 'value'")
    whole: dict[Name, FieldRead] = Field(default_factory=dict, max_length=20, description="what the answer says once for all its rows")
    paging: Paging | None = None
    most: int = Field(0, ge=0, le=1_000, description="of a question about several references: so many a call; 0 = one at a time")
    delimiter: Literal[",", ";", "\t", "|"] = ","
    encoding: Literal["utf-8", "latin-1", "cp1252", "utf-16"] = "utf-8"


class SignIn(Part):
    """How the partner knows us. What the key is made of is in `key`; only templates in here may use it."""

    kind: Literal["none", "header", "query", "basic", "bearer", "token", "oauth_client", "oauth_code", "signature"] = "none"
    name: Text = Field("", description="of the header or query parameter")
    value: Template = Field("{{ key }}", description="what it holds; of a token, with {{ token }}")
    # A token that runs out: the call that fetches one.
    call: Request | None = None
    token: Expression = Field("", description="where the token is in that call's answer")
    seconds: Expression = Field("", description="for how long it counts, where that is said")
    # OAuth 2.
    authorize_address: Text = Field("", description="where a person gives their consent in the browser")
    token_address: Text = ""
    scope: Text = ""
    # A signature over the call.
    hash: Literal["sha256", "sha384", "sha512"] = "sha256"
    text: Template = Field("", description="what is signed, of method, path, query, time and body")
    encoding: Literal["hex", "base64"] = "hex"
    time: Literal["seconds", "milliseconds", "iso"] = "seconds"
    headers: dict[Name, Template] = Field(default_factory=dict, max_length=10, description="sent beside it, with {{ time }}")


class Means(StrEnum):
    """What a failure means for what was asked."""

    later = "later"
    busy = "busy"
    away = "away"
    unknown = "unknown"
    refused = "refused"
    denied = "denied"
    not_there = "not_there"
    carrier = "carrier"


class FailureRule(Part):
    status: list[int] = Field(default_factory=list, max_length=40)
    codes: list[Text] = Field(default_factory=list, max_length=100)
    means: Means


class Failures(Part):
    """How the partner says no. Rules are tried in their order; where none fits, what the status means by HTTP holds."""

    when: Expression = Field("", description="where an answer of success says that it failed all the same")
    read: Form = Form.json
    delimiter: Literal[",", ";", "\t", "|"] = ","
    code: Expression = ""
    words: Expression = ""
    rules: list[FailureRule] = Field(default_factory=list, max_length=60)
    otherwise: Means = Field(Means.refused, description="of an answer of success that failed, with a code that no rule knows")


class Limits(Part):
    """How often it may be called, and by which headers it says so."""

    calls: int = Field(0, ge=0, le=100_000, description="so many calls ...")
    seconds: int = Field(1, ge=1, le=86_400, description="... in so many seconds; 0 calls = nothing is said")
    day: int = Field(0, ge=0, le=1_000_000, description="so many calls in 24 hours; 0 = nothing is said")
    limit: Name = "calls-limit"
    left: Name = "calls-left"
    wait: Name = "retry-after"


class SignedWord(Part):
    """How the partner tells of new orders by itself: a call of an address of ours, signed with a secret that we gave."""

    signature: Name
    time: Name = Field(description="the header with the moment at which it was signed")
    text: Template = "{{ body }}"
    hash: Literal["sha256", "sha384", "sha512"] = "sha256"
    encoding: Literal["hex", "base64"] = "hex"
    tolerance: int = Field(300, ge=10, le=3_600, description="for so many seconds after it was signed it counts")


class Description(Part):
    """A partner's interface."""

    version: int = Field(1, ge=1, le=VERSION, description="of this form of descriptions")
    name: Annotated[str, StringConstraints(min_length=1, max_length=80)] = Field(description="what is described, as a person calls it")
    owner: Owner
    about: Annotated[str, StringConstraints(max_length=4_000)] = ""
    address: Text = Field("", description="what paths are added to; whoever connects it may change it")
    practice: Text = Field("", description="the address of the partner's practice side, where writes harm nobody")
    key: list[Name] = Field(default_factory=lambda: ["key"], min_length=1, max_length=6, description="parts of the key, as name:secret")
    sign_in: SignIn = Field(default_factory=SignIn)
    limits: Limits = Field(default_factory=Limits)
    failures: Failures = Field(default_factory=Failures)
    money: MoneyManner = Field(default_factory=MoneyManner)
    time: TimeManner = Field(default_factory=TimeManner)
    namespaces: dict[Name, Text] = Field(default_factory=dict, max_length=20, description="of XML: the short names that expressions use")
    facts: dict[Name, Any] = Field(default_factory=dict, max_length=30, description="of the account, what no call tells")
    cannot_find: list[Name] = Field(default_factory=list, max_length=10, description="writes of which nobody there can be asked afterwards")
    batch_most: int = Field(0, ge=0, le=5_000, description="listing changes in one call; 0 = each by itself")
    word: SignedWord | None = None
    operations: dict[Name, Operation] = Field(max_length=40)
