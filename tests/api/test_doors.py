"""Who gets in and stays in: sign-ins that end at once, tries that are slowed down, and what every answer says to the browser."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from argon2 import PasswordHasher
from fastapi.testclient import TestClient
from httpx import Response
from sqlalchemy import select, update

from amber_lane.api import headers
from amber_lane.api.app import make_app, make_app_state
from amber_lane.api.deps import AppState
from amber_lane.api.headers import most_of
from amber_lane.api.people import sign_in
from amber_lane.clock import SystemClock
from amber_lane.data.outbox import AuditEntry
from amber_lane.data.setup import SignIn
from amber_lane.services.base import credentials
from amber_lane.services.base.context import Context
from amber_lane.services.delivery import agent_leases
from amber_lane.services.partners import connections
from amber_lane.services.people import passwords, sessions, users
from amber_lane.services.printing import files
from amber_lane.settings import Settings

from ..business import begin

OURS = {"X-Amber-Lane": "1"}
ADA, WREN = "ada@amber-lane.example", "wren@amber-lane.example"
WORD = "seven quiet herons"


@pytest.fixture
def house(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[AppState]:
    (tmp_path / "index.html").write_text("<p>page</p>")
    # The work of a password is its strength, and nothing that is asked here.
    monkeypatch.setattr(credentials, "_hasher", PasswordHasher(time_cost=1, memory_cost=8, parallelism=1))
    monkeypatch.setattr(sign_in, "_NOBODY", credentials.hash_password("nobody at all"))
    begin(tmp_path)
    made = make_app_state(Settings(data=tmp_path, jobs=False, web=tmp_path), clock=SystemClock())
    with made.db.writing() as s:
        for name, mail in (("Ada", ADA), ("Wren", WREN)):
            users.make_person(Context(s, made.clock, "Tester"), name, mail, WORD)
    yield made


def browser(house: AppState, mail: str = "", address: str = "testclient", base: str = "http://testserver") -> TestClient:
    client = TestClient(make_app(house), headers=OURS, client=(address, 5000), base_url=base)
    if mail:
        answer = enter(client, mail)
        assert answer.status_code == 200, answer.text
    return client


def enter(client: TestClient, mail: str, word: str = WORD) -> Response:
    return client.post("/api/v1/session", json={"mail": mail, "password": word})


def inside(client: TestClient) -> bool:
    answer = client.get("/api/v1/today")
    assert answer.status_code in (200, 401)
    return answer.status_code == 200


def test_signing_out_ends_it_on_the_server_too(house: AppState) -> None:
    one, other = browser(house, ADA), browser(house, ADA)
    kept = dict(one.cookies)
    assert one.delete("/api/v1/session").json()["message"] == "Ada signed out" and not inside(one)
    one.cookies.update(kept)
    assert not inside(one) and inside(other), "a cookie that was copied is worth nothing any more"
    with house.db.reading() as s:
        kinds = list(s.scalars(select(AuditEntry.kind).order_by(AuditEntry.id)))
        assert kinds.count("person.in") == 2 and kinds.count("person.out") == 1
        assert not s.scalar(select(SignIn.id).where(SignIn.hash.in_(kept.values()))), "only a hash of it is kept"


def test_one_sees_where_one_is_signed_in_and_ends_what_is_not_oneself(house: AppState) -> None:
    here, lost, other = browser(house, ADA), browser(house, ADA, "10.0.0.9"), browser(house, WREN)
    rows = here.get("/api/v1/session/mine").json()
    assert [(one["address"], one["this"]) for one in rows] == [("10.0.0.9", False), ("testclient", True)]
    assert other.delete(f"/api/v1/session/mine/{rows[0]['id']}").status_code == 404 and inside(lost)
    assert here.delete(f"/api/v1/session/mine/{rows[0]['id']}").status_code == 200
    assert not inside(lost) and inside(here)


def test_a_new_password_ends_all_other_sign_ins(house: AppState) -> None:
    here, lost = browser(house, ADA), browser(house, ADA)
    for was, fresh, field in (("wrong", "nine loud geese now", "was"), (WORD, "short", "password"), (WORD, "Ada-Ada-Ada-1", "password")):
        answer = here.post("/api/v1/session/password", json={"was": was, "fresh": fresh})
        assert answer.status_code == 422 and field in answer.json()["fields"] and inside(lost)
    assert here.post("/api/v1/session/password", json={"was": WORD, "fresh": "nine loud geese now"}).status_code == 200
    assert inside(here) and not inside(lost)
    assert enter(lost, ADA).status_code == 401 and enter(lost, ADA, "nine loud geese now").status_code == 200


def test_another_role_holds_at_once_and_who_is_removed_is_out(house: AppState) -> None:
    ada, wren = browser(house, ADA), browser(house, WREN)
    people = {one["name"]: one for one in ada.get("/api/v1/setup/people").json()}
    number, path = people["Wren"]["id"], "/api/v1/setup/people"
    change = {"version": people["Wren"]["version"], "role": "agent", "suppliers": [1]}
    assert wren.post(f"{path}/{people['Ada']['id']}/role", json={"version": 1, "role": "nobody"}).status_code == 422
    with house.db.writing() as s:
        from amber_lane.data.setup import Supplier

        s.add(Supplier(id=1, code="SUP", name="Supply House", kind="sheet", country="GB", currency="GBP"))
    assert ada.post(f"{path}/{number}/role", json=change).status_code == 200
    assert not inside(wren) and enter(wren, WREN).status_code == 200
    assert wren.get("/api/v1/today").status_code == 403 and wren.get("/api/v1/mine/purchases").status_code == 200
    (ours,) = [one for one in ada.get(path).json() if one["name"] == "Ada"]
    for does in (
        ada.post(f"{path}/{ours['id']}/role", json={"version": ours["version"], "role": "agent", "suppliers": [1]}),
        ada.delete(f"{path}/{ours['id']}", params={"version": ours["version"]}),
    ):
        assert does.status_code == 409, "the last manager stays one"
    (row,) = [one for one in ada.get(path).json() if one["name"] == "Wren"]
    assert ada.delete(f"{path}/{number}", params={"version": row["version"]}).status_code == 200
    assert wren.get("/api/v1/mine/purchases").status_code == 401 and enter(wren, WREN).status_code == 401
    again = ada.post(path, json={"mail": WREN, "role": "mapper"})
    assert again.status_code == 201 and "#invited=" in again.json()["link"], (
        "the address is free again; without a mailbox the link is shown"
    )


@pytest.mark.parametrize(("column", "life"), [("seen_at", sessions.IDLE), ("at", sessions.LONGEST)])
def test_a_sign_in_ends_when_left_alone_and_after_its_longest_life(house: AppState, column: str, life: timedelta) -> None:
    client = browser(house, ADA)
    for left, stays in ((timedelta(minutes=1), True), (-timedelta(minutes=1), False)):
        with house.db.writing() as s:
            s.execute(update(SignIn).values({column: sessions.now() - life + left}))
        assert inside(client) is stays
        if column == "seen_at" and stays:
            with house.db.reading() as s:
                assert s.scalar(select(SignIn.seen_at)) > sessions.now() - timedelta(minutes=1), "using it keeps it open"


def test_wrong_tries_wait_longer_and_longer_and_lock_nobody_out_for_good(house: AppState, monkeypatch: pytest.MonkeyPatch) -> None:
    at = [1000.0]
    monkeypatch.setattr(passwords.time, "monotonic", lambda: at[0])
    browser(house, ADA, "10.0.0.1")
    evil, waits = browser(house, address="203.0.113.7"), []
    for _ in range(9):
        while (answer := enter(evil, ADA, "x")).status_code == 429:
            waits.append(int(answer.headers["retry-after"]) - 1)
            at[0] += waits[-1] + 0.1
        assert answer.status_code == 401
    assert waits == [1, 2, 4, 8] and evil.get("/api/v1/today").status_code == 401
    # From everywhere at once, the account is slowed down as a whole …
    for n in range(24):
        enter(browser(house, address=f"203.0.113.{n + 10}"), ADA, "x")
    assert enter(browser(house, address="198.51.100.1"), ADA).status_code == 429
    # … but not for whoever comes from where she came from before, and not for others.
    assert enter(browser(house, address="10.0.0.1"), ADA).status_code == 200
    assert enter(browser(house, address="198.51.100.1"), WREN).status_code == 200
    at[0] += passwords.LONGEST_WAIT + 1
    assert enter(browser(house, address="198.51.100.1"), ADA).status_code == 200
    with house.db.reading() as s:
        told = list(s.scalars(select(AuditEntry.message).where(AuditEntry.kind == "person.refused")))
        assert "a wrong password for Ada, from 203.0.113.7" in told


@pytest.mark.parametrize(
    "word",
    [
        "short word",
        "aaaaaaaaaaaaaa",
        "123456789012",
        "passwordpassword",
        "Password2024!",
        "abcabcabcabcabc",
        "qwertyuiop12",
        "wren-wren-77",
        "AmberLane2026",
    ],
)
def test_a_password_that_anybody_would_try_is_none(word: str) -> None:
    assert passwords.password_fault(word, WREN, "Wren Sorrel")
    assert not passwords.password_fault("seven quiet herons", WREN, "Wren Sorrel")


def test_the_cookie_belongs_to_this_host_alone_behind_tls(tmp_path: Path) -> None:
    for public, root, name, secure in (
        ("", "", "amber_lane", False),
        ("https://desk.example", "", "__Host-amber_lane", True),
        ("https://desk.example/amber", "/amber", "amber_lane", True),
    ):
        folder = tmp_path / (name + root.strip("/"))
        folder.mkdir()
        begin(folder)
        house = make_app_state(Settings(data=folder, jobs=False, web=folder, public=public, root_path=root), clock=SystemClock())
        client = TestClient(make_app(house), headers=OURS, base_url=public or "http://testserver", root_path=root)
        answer = client.post(
            "/api/v1/session/first", json={"name": "Ada", "country": "GB", "zone": "Europe/London", "mail": ADA, "password": WORD}
        )
        kept = answer.headers["set-cookie"].lower()
        assert kept.startswith(f"{name.lower()}=") and "httponly" in kept and "samesite=strict" in kept and f"path={root or '/'};" in kept
        assert ("secure" in kept) is secure and ("strict-transport-security" in answer.headers) is secure


def test_every_answer_says_what_the_browser_may_do(house: AppState) -> None:
    client = browser(house, ADA)
    for path in ("/", "/api/v1/today", "/api/v1/nowhere", "/api/v1/shelf/pictures/1"):
        told = client.get(path).headers
        assert "frame-ancestors 'none'" in told["content-security-policy"] and "script-src 'self';" in told["content-security-policy"]
        assert (
            told["x-content-type-options"] == "nosniff"
            and told["referrer-policy"] == "no-referrer"
            and "camera=()" in told["permissions-policy"]
        )
        assert told.get("cache-control") == "no-store" or path == "/"


def test_what_is_too_much_or_of_nobody_is_not_even_read(house: AppState, monkeypatch: pytest.MonkeyPatch) -> None:
    client, stranger, read = browser(house, ADA), browser(house), [0]

    def much(n: int) -> Iterator[bytes]:
        for _ in range(n):
            read[0] += 100_000
            yield bytes(100_000)

    for who, path, n, status in (
        (stranger, "/api/v1/sheets/items/look", 900, 401),
        (stranger, "/api/v1/session", 900, 401),
        (client, "/api/v1/today/snooze", 900, 413),
        # It is no form, so nobody begins to read it.
        (client, "/api/v1/shelf/listings/1/pictures", 900, 422),
    ):
        # Told beforehand, nothing of it is read; untold, no more than may be.
        answer = who.post(path, content=bytes(headers.FILE_MAX + 1), headers={"content-type": "application/json"})
        assert answer.status_code == 413, answer.text
        read[0] = 0
        answer = who.post(path, content=much(n), headers={"content-type": "application/json"})
        assert answer.status_code == status and answer.headers["content-type"] == "application/problem+json"


def test_wrong_tokens_of_programs_are_counted_and_keep_no_right_one_waiting(house: AppState, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(passwords.time, "monotonic", lambda: 1000.0)
    with house.db.writing() as s:
        context = Context(s, house.clock, "Tester")
        store = connections.join_uncalled(context, connections.Join("store", "program", "Hearthmade Row", "", "", "GB", "GBP"))
        token = agent_leases.make_token(context, store.id)
    client = browser(house)
    hello = [client.get("/api/v1/program/hello", headers={"Authorization": f"Bearer guess-{n}"}).status_code for n in range(9)]
    assert hello == [401] * 4 + [429] * 5
    assert client.get("/api/v1/program/hello", headers={"Authorization": f"Bearer {token}"}).status_code == 200
    with house.db.reading() as s:
        assert list(s.scalars(select(AuditEntry.message).where(AuditEntry.kind == "program.refused"))) == [
            "5 wrong tokens of programs from testclient"
        ]


def test_what_is_typed_hides_nothing_and_is_no_line_of_a_mail(house: AppState) -> None:
    ada = browser(house, ADA)

    def let_in(name: str, mail: str) -> Response:
        return ada.post("/api/v1/setup/people", json={"name": name, "mail": mail, "role": "manager"})

    for mail in ("a@b.example\nBcc: x@y.example", "a@b\r\nx", "<a@b.example>", "a@b,c@d.example", "a b@c.example", "a@", "a@b@c"):
        assert let_in("Somebody", mail).status_code == 422, mail
    link = let_in("Wr\u202een\x00\u200b\nOther", "odd@b.example").json()["link"].partition("=")[2]
    assert browser(house).post("/api/v1/session/invitation", json={"link": link}).json()["name"] == "Wren Other"
    # A secret's signs all count, whatever they are.
    odd = "seven\u200bquiet herons"
    accept = {"link": link, "name": "Odd", "password": odd}
    assert browser(house).post("/api/v1/session/invitation/accept", json=accept).status_code == 200
    assert enter(browser(house), "odd@b.example", odd).status_code == 200
    assert enter(browser(house), "odd@b.example", odd.replace("\u200b", "")).status_code == 401
    assert ada.get(f"/api/v1/sheets/items/bad/{'a' * 3000}.csv").status_code == 404


def test_a_door_is_as_wide_as_what_comes_in_by_it() -> None:
    for path in ("/api/v1/printing/artwork", "/api/v1/printing/artwork/7/versions"):
        assert files.BYTES_MOST < most_of(path) < 2 * files.BYTES_MOST
    for path in ("/api/v1/printing/designs", "/api/v1/orders/versions", "/api/v1/printing/artwork/7/remove"):
        assert most_of(path) == most_of("/api/v1/today") < files.BYTES_MOST
