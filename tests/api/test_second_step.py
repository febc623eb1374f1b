"""The second step of signing in, and the way back for who forgot a password or lost a phone."""

from __future__ import annotations

import re
from datetime import timedelta
from typing import Any

import pyotp
import pytest
from fastapi.testclient import TestClient
from httpx import Response
from sqlalchemy import select, update
from typer.testing import CliRunner

from amber_lane.api.deps import AppState
from amber_lane.cli import app as commands
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Mailbox, PasswordLink, Person
from amber_lane.services.people import passwords, second_step, sessions

from .test_doors import ADA, WORD, WREN, browser, enter, house, inside

__all__ = ["house"]
SECOND = "/api/v1/session/second"


class Phone:
    """Shows codes, half a minute each; time passes when a test says so."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.later, self.secret, real = 0, "", sessions.now
        for place in (sessions, second_step):
            monkeypatch.setattr(place, "now", lambda: real() + timedelta(seconds=self.later))

    def code(self, wait: int = 30) -> str:
        self.later += wait
        return pyotp.TOTP(self.secret).at(second_step.now())


@pytest.fixture
def phone(monkeypatch: pytest.MonkeyPatch) -> Phone:
    return Phone(monkeypatch)


def set_up(client: TestClient, phone: Phone) -> list[str]:
    begun = client.post(f"{SECOND}/begin").json()
    assert begun["picture"].startswith("data:image/svg+xml")
    phone.secret = begun["secret"]
    told = client.post(SECOND, json={"begun": begun["begun"], "code": phone.code(), "password": WORD})
    assert told.status_code == 200, told.text
    return told.json()["codes"]


def try_in(client: TestClient, code: str = "", mail: str = ADA) -> Response:
    return client.post("/api/v1/session", json={"mail": mail, "password": WORD, "code": code})


def test_a_code_is_asked_for_and_is_good_once(house: AppState, phone: Phone) -> None:
    here, elsewhere = browser(house, ADA), browser(house, ADA)
    codes = set_up(here, phone)
    assert inside(here) and not inside(elsewhere) and len(set(codes)) == 10
    with house.db.reading() as s:
        row = s.scalar(select(Person).where(Person.mail == ADA))
        assert row and phone.secret not in row.second and not {*codes} & {*row.recovery}, "neither stands there as it is"
    other = browser(house)
    assert try_in(other).json()["needs"] == "code" and not inside(other)
    code = phone.code()
    assert try_in(other, code[::-1] if code != code[::-1] else "000000").status_code == 401
    assert try_in(other, f"{code[:3]} {code[3:]}").status_code == 200 and inside(other)
    assert try_in(browser(house), code).status_code == 401, "nobody who saw it can use it again"
    assert try_in(browser(house), codes[3].upper()).status_code == 200
    assert try_in(browser(house), codes[3]).status_code == 401
    # The password is still the first thing: a code alone says nothing.
    assert browser(house).post("/api/v1/session", json={"mail": ADA, "password": "no", "code": codes[4]}).status_code == 401
    assert try_in(browser(house), codes[4]).status_code == 200


def test_guessing_codes_waits_like_guessing_passwords(house: AppState, phone: Phone, monkeypatch: pytest.MonkeyPatch) -> None:
    set_up(browser(house, ADA, "10.0.0.1"), phone)
    evil = browser(house, address="203.0.113.7")
    # A busy machine lets the waits pass between two tries.
    monkeypatch.setattr(passwords.time, "monotonic", lambda: 1000.0)
    assert [try_in(evil, "123123").status_code for _ in range(6)] == [401] * 5 + [429]


def test_turning_it_off_and_new_codes_take_password_and_code(house: AppState, phone: Phone) -> None:
    here = browser(house, ADA)
    codes = set_up(here, phone)
    assert here.post(f"{SECOND}/off", json={"password": "wrong word here", "code": phone.code()}).status_code == 422
    assert here.post(f"{SECOND}/off", json={"password": WORD, "code": "000000"}).status_code == 422
    fresh = here.post(f"{SECOND}/codes", json={"password": WORD, "code": phone.code()}).json()["codes"]
    assert try_in(browser(house), codes[0]).status_code == 401 and try_in(browser(house), fresh[0]).status_code == 200
    assert here.post(f"{SECOND}/off", json={"password": WORD, "code": fresh[1]}).status_code == 200
    assert try_in(browser(house)).status_code == 200


def test_a_new_phone_takes_the_place_of_the_old_one_with_a_code_of_it(house: AppState, phone: Phone) -> None:
    here = browser(house, ADA)
    codes, was = set_up(here, phone), phone.secret
    begun = here.post(f"{SECOND}/begin").json()
    phone.secret = begun["secret"]
    ask = {"begun": begun["begun"], "password": WORD}
    assert here.post(SECOND, json={**ask, "code": phone.code()}).status_code == 422, "who sits at an open page has no old phone"
    assert here.post(SECOND, json={**ask, "code": phone.code(), "old": codes[0]}).status_code == 200
    assert try_in(browser(house), phone.code()).status_code == 200
    phone.secret = was
    assert try_in(browser(house), phone.code()).status_code == 401 and try_in(browser(house), codes[1]).status_code == 401


def test_a_picture_is_of_whom_it_was_made_for_and_not_for_ever(house: AppState, phone: Phone) -> None:
    ada, wren = browser(house, ADA), browser(house, WREN)
    begun = ada.post(f"{SECOND}/begin").json()
    phone.secret = begun["secret"]
    ask: dict[str, Any] = {"begun": begun["begun"], "password": WORD}
    assert wren.post(SECOND, json={**ask, "code": phone.code()}).status_code == 422
    assert ada.post(SECOND, json={**ask, "code": phone.code(16 * 60)}).status_code == 422
    assert ada.post(SECOND, json={**ask, "begun": "made up", "code": phone.code()}).status_code == 422
    assert not ada.get("/api/v1/session").json()["second"]


def test_a_house_may_ask_all_managers_for_it(house: AppState, phone: Phone) -> None:
    ada, wren = browser(house, ADA), browser(house, WREN)
    rule = "/api/v1/setup/people/rule"
    assert ada.put(rule, json={"managers": True}).status_code == 409, "nobody locks themselves out"
    set_up(ada, phone)
    assert ada.put(rule, json={"managers": True}).status_code == 200 and inside(ada)
    # Who lacks it sees nothing but where it is set up, on pages that stand open too.
    assert wren.get("/api/v1/today").status_code == 403 and wren.get("/api/v1/session").json()["must"]
    assert wren.put(rule, json={"managers": False}).status_code == 403
    assert ada.post(f"{SECOND}/off", json={"password": WORD, "code": phone.code()}).status_code == 409
    set_up(wren, phone)
    assert inside(wren) and not wren.get("/api/v1/session").json()["must"]
    # A lost phone: another manager takes it away, and it is asked for anew.
    people = ada.get("/api/v1/setup/people").json()
    row = next(one for one in people if one["mail"] == WREN)
    assert row["second"] and ada.post(f"/api/v1/setup/people/{row['id']}/second/off", json={"version": row["version"]}).status_code == 200
    assert not inside(wren) and enter(browser(house), WREN).json()["must"]


def links(house: AppState) -> list[str]:
    with house.db.reading() as s:
        bodies = s.scalars(select(Outbox.body).where(Outbox.kind == "mail").order_by(Outbox.id)).all()
    return [re.findall(r"#new-password=(\S+)", body["body"])[0] for body in bodies]


def test_a_forgotten_password_is_said_anew_by_a_link_that_is_good_once(house: AppState, phone: Phone) -> None:
    with house.db.writing() as s:
        s.add(Mailbox(name="House", sender="desk@amber-lane.example"))
    here, nobody = browser(house, ADA), browser(house)
    ask, say = "/api/v1/session/forgotten", "/api/v1/session/new-password"
    answers = [nobody.post(ask, json={"mail": mail}).json() for mail in (ADA, "who@amber-lane.example")]
    assert answers[0] == answers[1] and len(links(house)) == 1, "nobody learns who is here"
    assert inside(here), "asking alone changes nothing"
    nobody.post(ask, json={"mail": ADA})
    older, newer = links(house)
    fresh = "eleven loud otters"
    for link, word, status in (
        (older, fresh, 422),
        ("made-up", fresh, 422),
        (newer, "short", 422),
        (newer, fresh, 200),
        (newer, WORD, 422),
    ):
        assert nobody.post(say, json={"link": link, "password": word}).status_code == status, (link, word)
    assert not inside(here) and not inside(nobody)
    assert enter(browser(house), ADA).status_code == 401 and enter(browser(house), ADA, fresh).status_code == 200
    nobody.post(ask, json={"mail": WREN})
    with house.db.writing() as s:
        s.execute(update(PasswordLink).values(at=sessions.now() - timedelta(minutes=61)))
    assert nobody.post(say, json={"link": links(house)[-1], "password": fresh}).status_code == 422, (
        "it lies in a mailbox no longer than an hour"
    )


def test_the_machine_itself_lets_in_whom_nobody_can(house: AppState, phone: Phone, monkeypatch: pytest.MonkeyPatch) -> None:
    set_up(browser(house, ADA), phone)
    monkeypatch.setenv("AMBER_LANE_DATA", str(house.settings.data))
    run = CliRunner().invoke
    assert run(commands, ["new-password", "who@amber-lane.example", "--password", "eleven loud otters"]).exit_code == 2
    assert run(commands, ["new-password", ADA, "--password", "eleven loud otters"]).exit_code == 0
    assert enter(browser(house), ADA, "eleven loud otters").status_code == 200
