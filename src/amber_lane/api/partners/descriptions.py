"""Descriptions of partners' interfaces: drafted beside live answers, certified, switched on, shared."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Annotated, Any, Literal

from fastapi import Query, Request, Response
from pydantic import BaseModel, Field

from ...connectors.described.fields import FINDS, NEEDED, OPERATIONS
from ...connectors.described.load import checksum, load, shipped
from ...connectors.described.samples import SAMPLES
from ...connectors.described.specs import Spec
from ...connectors.errors import OutsideError
from ...core.permissions import Permission as P
from ...data.descriptions import Description, DescriptionVersion
from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.base.job_queue import start
from ...services.partners import consents, description_trials, descriptions
from ..deps import AppState, ReadContext, SignedIn, TheApp, WriteContext, context_of
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, download

router = GuardedRouter(tags=["setup"], read=(P.SETTINGS,), write=(P.SETTINGS,))
DOCUMENT_MOST = 4_000_000
OwnerName = Literal["store", "supplier", "carrier", "rates"]


class OurField(BaseModel):
    """One of our fields. codes: what it may be; fields: of a field that holds rows."""

    name: str
    type: str
    about: str
    needed: bool
    codes: list[str]
    fields: list[OurField]


class OperationOut(BaseModel):
    """One thing that a partner can do for us. given: what its call may use, with what each is; asked_after: somebody must
    be asked what became of it after a lost answer."""

    name: str
    about: str
    writes: bool
    asked_after: bool
    many: bool
    paged: bool
    given: dict[str, str]
    fields: list[OurField]
    whole: list[OurField]
    sample: dict[str, Any]


class OwnerOut(BaseModel):
    """needed: of each set at least one."""

    owner: OwnerName
    operations: list[OperationOut]
    needed: list[list[str]]


class ShippedOut(BaseModel):
    key: str
    name: str
    owner: OwnerName
    about: str


class CheckSeen(BaseModel):
    code: str
    about: str
    outcome: Literal["holds", "fails", "told", "untried"]
    message: str


class CertificateOut(BaseModel):
    """current: it is of the description as it reads now."""

    at: datetime
    address: str
    checks: list[CheckSeen]
    summary: str
    current: bool


class UseOut(BaseModel):
    owner: str
    id: int
    name: str
    version: int


class DescriptionOut(BaseModel):
    """address: what it is tried with; key: the parts of a partner's key, in their order; terms: it says how ways of sending are asked."""

    address: str
    key: list[str]
    terms: bool
    id: int
    version: int
    owner: OwnerName
    name: str
    changed_at: datetime
    faults: int
    versions: int
    uses: list[UseOut]
    certificate: CertificateOut | None


class PlaceFault(BaseModel):
    place: str
    message: str


class KeptVersion(BaseModel):
    id: int
    number: int
    at: datetime
    summary: str


class WholeOut(DescriptionOut):
    """text: as it stands; data: what it holds, None where it cannot be read; has_key: a key is kept for trying it; back: where a partner
    sends a person who has signed in there."""

    text: str
    data: Any
    found: list[PlaceFault]
    has_key: bool
    back: str
    kept: list[KeptVersion]


class Listed(BaseModel):
    own: list[DescriptionOut]
    shipped: list[ShippedOut]


def _field(name: str, spec: Spec) -> OurField:
    inner = [_field(key, one) for key, one in spec.fields.items()]
    return OurField(name=name, type=spec.type.value, about=spec.about, needed=spec.needed, codes=list(spec.codes), fields=inner)


@router.get("/setup/descriptions/shapes")
def description_shapes(number: SignedIn) -> list[OwnerOut]:
    """What can be described of each kind of partner."""
    return [
        OwnerOut(
            owner=owner,
            needed=[sorted(one) for one in NEEDED[owner]],
            operations=[
                OperationOut(
                    name=name,
                    about=spec.about,
                    writes=spec.writes,
                    asked_after=name in FINDS,
                    many=spec.many,
                    paged=spec.paged,
                    given=spec.given,
                    fields=[_field(key, one) for key, one in spec.fields.items()],
                    whole=[_field(key, one) for key, one in spec.whole.items()],
                    sample={key: SAMPLES.get(key, "") for key in spec.given},
                )
                for name, spec in operations.items()
            ],
        )
        for owner, operations in OPERATIONS.items()
    ]


def _certificate(row: Description, mark: str) -> CertificateOut | None:
    kept = row.certificate
    if not kept:
        return None
    checks = [CheckSeen(**one) for one in kept["checks"]]
    return CertificateOut(
        at=kept["at"],
        address=kept["address"],
        checks=checks,
        summary=description_trials.summary(kept["checks"]),
        current=kept["checksum"] == mark,
    )


def _out(context: Context, row: Description, versions: int) -> DescriptionOut:
    _, faults = descriptions.checked(row.text)
    described = None if faults else load(row.text)
    return DescriptionOut(
        address=row.address or (described.address if described else ""),
        key=described.key if described else [],
        terms="origins" in described.operations if described else False,
        id=row.id,
        version=row.version,
        owner=row.owner,
        name=row.name,
        changed_at=row.changed_at,
        faults=len(faults),
        versions=versions,
        uses=[UseOut(owner=one.owner, id=one.id, name=one.name, version=one.version) for one in descriptions.uses(context, row.id)],
        certificate=_certificate(row, "" if faults else checksum(row.text)),
    )


@router.get("/setup/descriptions")
def all_descriptions(context: ReadContext) -> Listed:
    """Descriptions of one's own, and those that come with the application."""
    counts = descriptions.count_versions(context)
    known = {key: load(text) for key, text in shipped().items()}
    return Listed(
        own=[_out(context, row, counts.get(row.id, 0)) for row in descriptions.all_of(context)],
        shipped=[ShippedOut(key=key, name=one.name, owner=one.owner.value, about=one.about) for key, one in known.items()],
    )


class BeginAsk(Ask):
    """Of shipped, text, openapi and openapi_address one at most: one that comes with the application, one that somebody shared, or the
    partner's OpenAPI 3 document (or where it lies), of which a first one is proposed. None of them = an empty one. owner: needed for an
    empty one and for a document."""

    name: str = Field(max_length=80)
    owner: OwnerName | None = None
    shipped: str = Field("", max_length=80)
    text: str = Field("", max_length=400_000)
    openapi: str = Field("", max_length=DOCUMENT_MOST)
    openapi_address: str = Field("", max_length=500)


class BegunDescription(Done):
    id: int


@router.post("/setup/descriptions", status_code=201)
def begin_description(app: TheApp, who: SignedIn, request: Request, ask: BeginAsk) -> BegunDescription:
    document = ask.openapi or (description_trials.document_at(app.connectors, ask.openapi_address) if ask.openapi_address.strip() else "")
    with app.db.writing() as s:
        context = context_of(request, s)
        if ask.shipped:
            row = descriptions.copy_shipped(context, ask.shipped, ask.name)
        elif document:
            row = descriptions.from_openapi(context, ask.owner or "", ask.name, document)
        else:
            row = descriptions.start(context, ask.owner or "", ask.name, ask.text)
        return BegunDescription(message=f"{row.name} was begun", id=row.id)


@router.get("/setup/descriptions/{number}")
def one_description(context: ReadContext, app: TheApp, number: Big) -> WholeOut:
    row = context.get(Description, number, "description")
    kept = descriptions.versions_of(context, number)
    data, faults = descriptions.checked(row.text)
    return WholeOut(
        **_out(context, row, len(kept)).model_dump(),
        text=row.text,
        data=data,
        found=[PlaceFault(place=one.place, message=one.message) for one in faults],
        has_key=bool(row.sealed_key),
        back=_back(app),
        kept=[KeptVersion(id=one.id, number=one.number, at=one.at, summary=_summary(one)) for one in kept],
    )


def _summary(version: DescriptionVersion) -> str:
    return description_trials.summary(version.certificate["checks"]) if version.certificate else "not certified"


class DescriptionSaved(Ask):
    """text: as it is written; or data: what it shall hold, of which the text is made."""

    version: int
    text: str | None = Field(None, max_length=400_000)
    data: dict[str, Any] | None = None


class DescriptionKept(BaseModel):
    version: int


@router.put("/setup/descriptions/{number}")
def save_description(context: WriteContext, number: Big, ask: DescriptionSaved) -> DescriptionKept:
    """Keep it as it stands, finished or not. Answers the version that the next change is to name."""
    if (ask.text is None) == (ask.data is None):
        raise Invalid("give either its text or its data")
    row = descriptions.save(context, number, ask.version, ask.text if ask.text is not None else descriptions.text_of(ask.data))
    context.session.flush()
    return DescriptionKept(version=row.version)


class DescriptionName(Ask):
    version: int
    name: str = Field(max_length=80)


@router.post("/setup/descriptions/{number}/name")
def rename_description(context: WriteContext, number: Big, ask: DescriptionName) -> Done:
    return Done(message=f"It is called {descriptions.rename(context, number, ask.version, ask.name).name} now")


class TrialOf(Ask):
    """What it is tried with. An empty key keeps the one from before."""

    address: str = Field("", max_length=500)
    key: str = Field("", max_length=500)


@router.post("/setup/descriptions/{number}/trial")
def set_trial(app: TheApp, context: WriteContext, number: Big, ask: TrialOf) -> Done:
    descriptions.set_trial(context, app.connectors.credentials, number, ask.address, ask.key)
    return Done(message="Kept")


class SignInOut(BaseModel):
    """address: where the person goes; back: where the partner sends them after it, which it may want to know beforehand."""

    address: str
    back: str


def _back(app: AppState) -> str:
    return f"{app.settings.address}/setup/signed-in"


@router.post("/setup/descriptions/{number}/sign-in")
def begin_sign_in(app: TheApp, context: WriteContext, number: Big) -> SignInOut:
    """Begin a sign-in that is given in the browser, at the partner (OAuth 2)."""
    return SignInOut(address=consents.begin(context, app.connectors, number, _back(app)), back=_back(app))


class CameBack(Ask):
    """What the partner sent the person back with."""

    code: str = Field(max_length=4000)
    state: str = Field(max_length=4000)


class ConsentKept(BaseModel):
    message: str
    description: int


@router.post("/setup/signed-in")
def end_sign_in(app: TheApp, who: SignedIn, request: Request, ask: CameBack) -> ConsentKept:
    """End it: the consent is exchanged for a key, which is kept sealed with the description."""
    with app.db.reading() as s:
        began = consents.came_back(context_of(request, s), app.connectors, ask.state)
    try:
        key = consents.exchanged(app.connectors, began, ask.code, _back(app))
    except OutsideError as error:
        raise Invalid(error.message) from error
    with app.db.writing() as s:
        message = consents.keep(context_of(request, s), app.connectors.credentials, began.number, key)
    return ConsentKept(message=message, description=began.number)


class ShownCallOut(BaseModel):
    method: str
    address: str
    headers: dict[str, str]
    body: str


class ReadCell(BaseModel):
    raw: str
    value: str
    fault: str


class AskedOut(BaseModel):
    """rows: by our fields, a hundred at most; sample: the answer; error: why nothing of it can be read."""

    call: ShownCallOut
    sample: str
    rows: list[dict[str, ReadCell]]
    whole: dict[str, ReadCell]
    more: bool
    error: str
    size: int


class GivenAsk(Ask):
    operation: str = Field(max_length=40)
    given: dict[str, str] = Field(default_factory=dict, max_length=20)


def _given(ask: GivenAsk, sample: bool) -> dict[str, Any]:
    lists = {name: [one.strip() for one in text.split(",")] for name, text in ask.given.items() if name in ("references", "numbers")}
    first = {name[:-1]: some[0] for name, some in lists.items() if some}
    return {**(SAMPLES if sample else {}), **ask.given, **lists, **first}


@router.post("/setup/descriptions/{number}/ask")
def ask_partner(app: TheApp, number: Big, who: SignedIn, ask: GivenAsk, request: Request) -> AskedOut:
    """Ask the partner one question, and show what is read of its answer. Nothing there is changed."""
    with app.db.reading() as s:
        trial = description_trials.trial_of(context_of(request, s), app.connectors, number)
    return AskedOut(**asdict(description_trials.ask(trial, app.connectors, ask.operation, _given(ask, False))))


@router.post("/setup/descriptions/{number}/call")
def show_call(app: TheApp, number: Big, who: SignedIn, ask: GivenAsk, request: Request) -> ShownCallOut:
    """A call as it would be, secrets hidden. Nothing is sent."""
    with app.db.reading() as s:
        trial = description_trials.trial_of(context_of(request, s), app.connectors, number)
    return ShownCallOut(**asdict(description_trials.shown(trial, ask.operation, _given(ask, True))))


class ExampleAsk(Ask):
    operation: str = Field(max_length=40)
    example: str = Field(max_length=2_000_000)


class ProposedOut(BaseModel):
    """operation: a part of a description; namespaces: the short names that it uses."""

    operation: dict[str, Any]
    namespaces: dict[str, str]


@router.post("/setup/descriptions/{number}/propose")
def propose_fields(context: ReadContext, number: Big, ask: ExampleAsk) -> ProposedOut:
    """Where our fields may be in an example of an answer. Nothing is kept."""
    return ProposedOut(**description_trials.proposed(context, number, ask.operation, ask.example))


class CertifyAsk(Ask):
    """listing: a SKU whose quantity may be changed and put back; practice: it is the partner's practice side, so that a purchase may be
    sent and let go; item: which, where it tells no list."""

    listing: str = Field("", max_length=100)
    practice: bool = False
    item: str = Field("", max_length=100)


@router.post("/setup/descriptions/{number}/certify", status_code=202)
def certify_description(context: WriteContext, number: Big, ask: CertifyAsk) -> Done:
    """Look through what holds of it, in a job of its own."""
    name = descriptions.ready(context, number).name
    body = {"id": number, **ask.model_dump(), "to": description_trials.practice_address(context)}
    start(context, "certify", f"certify-{number}", f"Trying {name}", body)
    return Done(message=f"{name} is being tried; the certificate follows")


class SpeakByAsk(Ask):
    owner: OwnerName
    id: int = Field(gt=0)


@router.post("/setup/descriptions/{number}/switch-on")
def speak_by(context: WriteContext, number: Big, ask: SpeakByAsk) -> Done:
    """Speak to a partner by the description as it stands now."""
    return Done(message=descriptions.switch(context, number, ask.owner, ask.id))


class DifferenceOut(BaseModel):
    place: str
    before: str
    after: str


@router.get("/setup/descriptions/{number}/differences")
def differences_of(context: ReadContext, number: Big, since: Annotated[int, Query(gt=0)]) -> list[DifferenceOut]:
    """What reads differently now from a version that was kept."""
    found = descriptions.since(context, number, since)
    return [DifferenceOut(place=one.place, before=one.before, after=one.after) for one in found]


@router.get("/setup/descriptions/{number}/file", responses=download("application/yaml"))
def description_file(context: ReadContext, number: Big) -> Response:
    """The description as a file to be shared; keys and the address that it is tried with are not in it."""
    row = context.get(Description, number, "description")
    return _download(row.text, "application/yaml", f"{_plain(row.name)}.yaml")


@router.get("/setup/descriptions/{number}/certificate", responses=download("text/plain"))
def certificate_file(context: ReadContext, number: Big) -> Response:
    """The certificate as a file."""
    row = context.get(Description, number, "description")
    return _download(description_trials.certificate_text(row), "text/plain; charset=utf-8", f"{_plain(row.name)}-certificate.txt")


def _plain(name: str) -> str:
    return "".join(sign if sign.isascii() and sign.isalnum() else "-" for sign in name).strip("-").lower() or "description"


def _download(text: str, kind: str, name: str) -> Response:
    return Response(text, media_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'})


@router.delete("/setup/descriptions/{number}")
def remove_description(context: WriteContext, number: Big) -> Done:
    """Remove one that nobody is spoken to by. Cannot be undone; export it first."""
    return Done(message=f"{descriptions.remove(context, number)} was removed")
