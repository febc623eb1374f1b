"""The interface: who may call it, what it says to bad input, and that it never breaks."""

from __future__ import annotations

import contextlib
import json
import threading
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest
import schemathesis
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis.errors import Unsatisfiable
from hypothesis.stateful import run_state_machine_as_test
from schemathesis import GenerationMode
from schemathesis.checks import CHECKS, load_all_checks
from schemathesis.config import SchemathesisConfig

from amber_lane.api import deps
from amber_lane.api.app import make_app, make_app_state
from amber_lane.api.document import OPEN
from amber_lane.api.pricing import exchange_rates
from amber_lane.clock import SystemClock
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict
from amber_lane.services.grids import goods_grids
from amber_lane.settings import Settings
from amber_lane.sheets.opened import NotASheet

from ..business import begin

OURS = {"X-Amber-Lane": "1"}


@pytest.fixture(scope="module")
def app(tmp_path_factory):
    folder = tmp_path_factory.mktemp("api")
    (folder / "index.html").write_text("<p>page</p>")
    begin(folder)
    house = make_app_state(Settings(data=folder, jobs=False, web=folder, call_deadline=0.3), clock=SystemClock())
    return make_app(house)


@pytest.fixture
def client(app) -> Iterator[TestClient]:
    with TestClient(app, headers=OURS) as client:
        first = client.get("/api/v1/session").json()["first_start"]
        body = {"mail": "a@amber-lane.example", "password": "long-enough-word"}
        answer = (
            client.post("/api/v1/session/first", json=body | {"name": "Ada", "country": "GB", "zone": "Europe/London"})
            if first
            else client.post("/api/v1/session", json=body)
        )
        assert answer.status_code == 200, answer.text
        yield client


def test_heavy_views_are_few_at_a_time_and_starve_no_light_one(client, monkeypatch):
    inside, most, free = [0], [0], threading.Event()

    def slow(*_, **__):
        inside[0] += 1
        most[0] = max(most[0], inside[0])
        free.wait(20)
        inside[0] -= 1
        raise Conflict("enough seen")

    monkeypatch.setattr(exchange_rates.replay_summary, "beside", slow)
    with ThreadPoolExecutor(60) as pool:
        heavy = [pool.submit(client.post, "/api/v1/prices/replay", json={"days": 14}) for _ in range(50)]
        try:
            for _ in range(20):
                assert client.get("/api/v1/pulse").status_code == 200
            assert most[0] == deps.HEAVY
        finally:
            free.set()
        assert {one.result().status_code for one in heavy} == {409} and most[0] == deps.HEAVY


def test_health_pages_and_unknown_paths(client):
    assert client.get("/api/health").json()["status"] == "ok"
    assert "page" in client.get("/orders/anything").text
    lost = client.get("/api/v1/nothing")
    assert lost.status_code == 404 and lost.headers["content-type"] == "application/problem+json"


def test_nobody_gets_in_without_signing_in_nor_by_another_page(app, client):
    with TestClient(app) as stranger:
        assert stranger.get("/api/v1/today").status_code == 401
        assert stranger.post("/api/v1/session", json={"mail": "a@amber-lane.example", "password": "long-enough-word"}).status_code == 403
        assert (
            stranger.post(
                "/api/v1/session/first",
                json={"mail": "b@b.example", "password": "long-enough-word", "name": "B", "country": "GB", "zone": "Europe/London"},
                headers=OURS,
            ).status_code
            == 409
        )
    forged = client.post("/api/v1/orders/send", json={}, headers={"X-Amber-Lane": "0"})
    assert forged.status_code == 403 and "own pages" in forged.json()["detail"]


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "said"),
    [
        ("get", "/orders/999999", None, 404, "no order 999999"),
        ("get", "/orders/0", None, 422, "greater than 0"),
        ("get", "/orders/abc", None, 422, "integer"),
        ("get", "/orders/99999999999999999999", None, 422, "less than"),
        ("get", "/lanes?sort=nonsense", None, 422, "cannot be sorted"),
        ("get", "/orders?filters=weather:bad", None, 422, "cannot be filtered"),
        ("post", "/lanes", {"sku_id": 1, "parts": []}, 422, "at least 1"),
        ("post", "/lanes", {"sku_id": 1, "parts": [{"item_id": 1}], "color": "red"}, 422, "not permitted"),
        ("post", "/lanes", {"sku_id": 5, "parts": [{"item_id": 1, "units": "0"}]}, 422, "units"),
        (
            "post",
            "/setup/partners",
            {"owner": "store", "kind": "own_site", "address": "http://127.0.0.1:9", "key": "a:b"},
            422,
            "cannot be reached",
        ),
        ("post", "/setup/partners", {"owner": "store", "kind": "sheet", "name": "S", "country": "UK", "currency": "GBP"}, 422, "ISO 3166"),
        (
            "post",
            "/setup/partners",
            {"owner": "supplier", "kind": "sheet", "name": "S", "country": "GB", "currency": "XXX"},
            422,
            "unknown currency",
        ),
        ("post", "/orders/send", {"orders": []}, 409, "nothing was sent"),
        ("post", "/acts/77/undo", None, 404, "no act 77"),
        ("post", "/sheets/lanes/take", {"token": "0" * 24}, 404, "not here any more"),
        ("get", "/sheets/weather/template.csv", None, 422, "no sheet called"),
        ("post", "/prices/apply", {"rules": [{"rule": "margin", "rule_value": 1000000}], "seen": {}}, 422, "below 100 %"),
        ("get", "/world/clock", None, 409, "no practice world"),
    ],
)
def test_bad_input_gets_a_clear_word(client, method, path, body, status, said):
    answer = client.request(method, f"/api/v1{path}", json=body)
    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"] == "application/problem+json" and said in json.dumps(answer.json()), answer.text


def test_keys_are_kept_sealed_and_never_shown(app, client):
    house = app.state.app_state
    sealed = house.connectors.credentials.seal("very-secret")
    assert "very-secret" not in sealed and house.connectors.credentials.open(sealed) == "very-secret"
    assert oct((house.settings.data / "secret").stat().st_mode)[-3:] == "600"
    with house.db.engine.connect() as c:
        assert c.exec_driver_sql("select password from person").scalar().startswith("$argon2id$")


def test_a_sheet_comes_in_with_a_preview_and_bad_rows_come_back(app, client):
    assert (
        client.post(
            "/api/v1/setup/partners", json={"owner": "store", "kind": "sheet", "name": "Stall", "country": "GB", "currency": "GBP"}
        ).status_code
        == 201
    )
    sheet = "store,sku,title,price,quantity\nStall,S-1,Lamp,12.00,5\nStall,S-2,Lamp,-4,5\n"
    started = client.post("/api/v1/sheets/listings/check", files={"file": ("l.csv", sheet)}).json()
    app.state.app_state.worker.jobs.run_due()
    job = client.get(f"/api/v1/jobs/{started['job']}").json()
    assert job["state"] == "done" and job["result"]["counts"] == {"new": 1, "changed": 0, "same": 0, "bad": 1}
    assert client.get("/api/v1/prices/listings").json()["total"] == 0
    bad = client.get(f"/api/v1/sheets/listings/bad/{started['token']}.csv").text
    assert bad.splitlines()[1].startswith("Stall,S-2") and "between 0.01" in bad
    client.post("/api/v1/sheets/listings/take", json={"token": started["token"]})
    app.state.app_state.worker.jobs.run_due()
    row = client.get("/api/v1/prices/listings?filters=state:live").json()
    assert row["total"] == 1 and row["rows"][0]["price"] == {"amount": "12.00", "currency": "GBP"}
    out = client.get("/api/v1/sheets/lists/listings.csv").text
    assert "S-1" in out and "12.00" in out
    told = client.get("/api/v1/acts?filters=kind:list.out").json()["rows"]
    assert [one["message"] for one in told] == ["Ada took listings out as CSV"]


load_all_checks()
# Whoever is known is asked apart from this (a stranger's calls), and what a stream says has no end to wait for.
CHECKED = [CHECKS.get_one(name) for name in CHECKS.get_all_names() if name != "ignored_auth"]
CALLS = settings(
    max_examples=2, derandomize=True, deadline=None, database=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck)
)
ADA = {"mail": "a@amber-lane.example", "password": "long-enough-word"}


@pytest.fixture
def document(app, client, monkeypatch):
    """The interface's document as tests are made from it. What is meant well may be refused for what it means (422), and a partner that
    is not there is told of (502)."""
    for name in ("tries", "links", "tokens"):
        monkeypatch.setattr(getattr(app.state.app_state, name), "wait", lambda *_: 0.0)
    raw = client.get("/api/openapi.json").json()
    assert {"401", "403", "404", "409", "422"} <= raw["paths"]["/api/v1/lanes"]["post"]["responses"].keys()
    raw["components"].pop("securitySchemes")
    for calls in raw["paths"].values():
        for call in calls.values():
            call.pop("security", None)
    taken = {"expected-statuses": ["2xx", "401", "403", "404", "409", "422", "502"]}
    config = SchemathesisConfig.from_dict(
        {"checks": {"positive_data_acceptance": taken, "not_a_server_error": {"expected-statuses": ["2xx", "3xx", "4xx", "502"]}}}
    )
    found = (
        schemathesis.openapi.from_dict(raw, config=config).exclude(path_regex="/events$").exclude(path="/api/v1/session", method="DELETE")
    )
    found.app = app
    return found


def ask_all(document, ask, mode) -> int:
    """Ask every call with input of a mode; how many there were. A call with nothing that could be wrong has no wrong input."""
    asked = 0
    for found in document.get_all_operations():
        operation = found.ok()
        with contextlib.suppress(Unsatisfiable):
            CALLS(given(case=operation.as_strategy(generation_mode=mode))(ask))()
            asked += 1
    return asked


@pytest.mark.parametrize("mode", [GenerationMode.POSITIVE, GenerationMode.NEGATIVE], ids=["meant well", "wrong"])
def test_every_call_keeps_to_the_document_whatever_it_is_asked(document, client, mode):
    """It answers in the shapes and with the statuses that the document names, refuses what the document forbids, and never breaks; and no
    call but the open ones answers a stranger, however well it is meant."""

    def ask(case):
        if mode is GenerationMode.POSITIVE and (case.method.lower(), case.path) not in OPEN:
            strange = case.call(headers=OURS)
            assert strange.status_code in (401, 403), (case.method, case.path, strange.status_code, strange.text[:200])
            strangers[case.path] += 1
        answer = case.call(headers=OURS, cookies=dict(client.cookies))
        if answer.status_code == 401 and case.path.startswith("/api/v1/session"):
            # One's own sign-in was ended by its number, or a code was asked for.
            client.post("/api/v1/session", json=ADA)
        case.validate_response(answer, checks=CHECKED)

    strangers = Counter()
    assert ask_all(document, ask, mode) > 150
    assert len(strangers) > 200 or mode is GenerationMode.NEGATIVE


HOSTILE = ("9" * 30, "-" + "9" * 30, "nan", "\0", "x" * 400, "'; drop table", "1" + "0" * 400, "٣", "", "²")


def test_no_filter_nor_key_of_today_breaks_on_what_nobody_would_write(client):
    """What they hold has no shape in the document: names and values, numbers after a colon."""
    goods = ("store", "supplier", "category", "cost", "days", "keeps", "margin", "stock", "ours", "stock_least", "keeps_least", "suppliers")
    asked = [(f"/sheets/lists/{name}/ids", key) for name, one in goods_grids.LISTS.items() for key in one.filters]
    for path, key in [*asked, *(("/source/search", key) for key in goods)]:
        for value in HOSTILE:
            answer = client.get(f"/api/v1{path}", params={"filters": f"{key}:{value}"})
            assert answer.status_code < 500, (path, key, value, answer.text)
    for path in [f"/sheets/lists/{name}/ids" for name in goods_grids.LISTS]:
        for value in HOSTILE:
            assert client.get(f"/api/v1{path}", params={"words": value[:200], "sort": value[:40]}).status_code < 500
    kinds = [kind for kinds in today.SOURCES for kind in kinds.split()]
    for key in [f"{kind}:{value}" for kind in kinds for value in (*HOSTILE, "1:2:3")] + [
        f"{kind}:1#{value}" for kind in kinds for value in HOSTILE[::4]
    ]:
        answer = client.post("/api/v1/today/step", json={"key": key[:200]})
        assert answer.status_code < 500, (key, answer.text)


def test_what_one_call_makes_the_next_can_use(document, client):
    """Walks from call to call, each with what those before it answered."""
    walked = Counter()

    class Walk(document.as_state_machine()):
        def get_call_kwargs(self, case):
            return {"headers": OURS, "cookies": dict(client.cookies)}

        def validate_response(self, response, case, **_):
            walked[case.path] += 1
            case.validate_response(response, checks=CHECKED)

    run_state_machine_as_test(Walk, settings=settings(CALLS, max_examples=12, stateful_step_count=10))
    assert len(walked) > 20


@pytest.mark.parametrize(
    ("path", "reads"),
    [
        ("/sheets/items/look", "amber_lane.sheets.apart.flat"),
        ("/sheets/items/check", "amber_lane.sheets.apart.flat"),
        ("/mine/sheets/answers", "amber_lane.sheets.apart.flat"),
        ("/shelf/listings/1/pictures", "amber_lane.services.listings.images.check"),
        ("/ordering/documents", "amber_lane.services.purchasing.po_documents.read"),
    ],
)
def test_while_a_file_is_opened_everybody_else_writes(client, monkeypatch, path, reads):
    inside, free = threading.Event(), threading.Event()

    def slow(_: bytes) -> bytes:
        inside.set()
        assert free.wait(20)
        raise NotASheet("enough seen")

    monkeypatch.setattr(reads, slow)
    with ThreadPoolExecutor(1) as pool:
        waits = pool.submit(client.post, f"/api/v1{path}", files={"file": ("a.xlsx", b"PK\x03\x04 and so on")})
        try:
            assert inside.wait(10), waits.result(1).text
            for n in range(5):
                assert client.post("/api/v1/today/snooze", json={"key": f"x{n}", "hours": 1}).status_code == 200
        finally:
            free.set()
        assert waits.result().status_code == 422 and waits.result().json()["detail"] == "enough seen"
