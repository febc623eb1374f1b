"""A person sets up a code beside the password, signs in with it, and comes back in after forgetting the password."""

from __future__ import annotations

import re
import time

import pyotp
from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.data.outbox import Outbox

from ..business import Business
from .conftest import Served, eventually


def sign_in(page: Page, password: str) -> None:
    page.get_by_label("Mail address").fill("tester@amber-lane.example")
    page.get_by_label("Password").fill(password)
    page.keyboard.press("Enter")


def sign_out(page: Page) -> None:
    page.get_by_role("button", name="Set-up and clock").click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("heading", name="Amber Lane")).to_be_visible()


def test_a_code_beside_the_password_and_the_way_back_in(app: Page, shop: tuple[Business, Served]) -> None:
    business, served = shop
    app.goto(f"{served.address}/setup/you")
    app.get_by_role("button", name="Set it up").click()
    phone = pyotp.TOTP(app.locator("p.select-all").inner_text().replace(" ", ""))
    app.get_by_label("The code that it shows now").fill(phone.now())
    app.get_by_label("Your password", exact=True).fill("long-enough-word")
    app.keyboard.press("Enter")
    app.get_by_text("Keep these ten recovery codes").wait_for()
    codes = app.locator("ul.font-mono li").all_inner_texts()
    assert len(codes) == 10
    app.get_by_role("button", name="I have kept them").click()
    expect(app.get_by_role("button", name="Turn it off")).to_be_visible()
    sign_out(app)
    sign_in(app, "long-enough-word")
    expect(app.get_by_label("Code", exact=True)).to_be_focused()
    app.keyboard.type("000000")
    app.keyboard.press("Enter")
    expect(app.get_by_role("alert")).to_contain_text("not good")
    # The next half minute's code, since each is good once.
    app.keyboard.type(phone.at(time.time() + 30))
    app.keyboard.press("Enter")
    app.get_by_role("navigation", name="The road").wait_for()
    sign_out(app)
    app.get_by_role("button", name="I forgot my password").click()
    app.get_by_label("Mail address").fill("tester@amber-lane.example")
    app.get_by_role("button", name="Mail me the link").click()
    expect(app.get_by_role("status")).to_contain_text("on its way")
    mailed = select(Outbox).where(Outbox.key.startswith("password:"))
    eventually(lambda: bool(business.all(mailed)))
    mail = business.one(mailed)
    eventually(lambda: business.world.record()["mails"].get(mail.key) == 1)
    app.goto(re.findall(r"http\S+", mail.body["body"])[0])
    app.reload()
    app.get_by_label("Password").fill("eleven loud otters")
    app.get_by_role("button", name="Take this one").click()
    expect(app.get_by_role("status")).to_contain_text("tester@amber-lane.example")
    assert "new-password" not in app.url
    sign_in(app, "eleven loud otters")
    app.get_by_label("Code", exact=True).fill(codes[0])
    app.keyboard.press("Enter")
    app.get_by_role("navigation", name="The road").wait_for()
