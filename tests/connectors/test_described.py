"""Descriptions: what they may say, what they are read as, what is caught in partners that misbehave, and what their certificates see."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_lane.connectors.described import templates
from amber_lane.connectors.described.certify import Allowed, certify
from amber_lane.connectors.described.expressions import BadDocument, compile_json, compile_xml, evaluate, parse_xml
from amber_lane.connectors.described.load import BadDescription, checksum, load, parse, shipped
from amber_lane.connectors.described.make import make
from amber_lane.connectors.described.openapi import draft
from amber_lane.connectors.described.propose import propose
from amber_lane.connectors.described.requests import build
from amber_lane.connectors.described.samples import SAMPLES
from amber_lane.connectors.described.schema import Description, MoneyManner, Owner, Request, TimeManner
from amber_lane.connectors.described.trial import HIDDEN, show_call, try_read
from amber_lane.connectors.described.values import as_text, moment, money, whole
from amber_lane.connectors.errors import CannotAsk, Denied, Malformed, Postponed, RateLimited, Refused, Unavailable, UnknownOutcome
from amber_lane.connectors.protocols import Address, Purchase, PurchaseItem

HERE = Path(__file__).parent / "descriptions"
ITEM = {"number": "no", "cost": "price", "currency": "money", "stock": "left"}
BUYER = Address("Wren Sorrel", "4 Lantern Row", "Whitby", "YO21 3PR", "GB")


def described(**more: Any) -> Description:
    """A supplier with one list of offers, and whatever else."""
    offers = {"call": {"path": "/offers", "query": {"after": "{{ cursor }}"}}, "rows": "rows", "fields": ITEM}
    offers["paging"] = {"by": "cursor", "next": "next", "most": 50}
    operations = {"offers": offers, **more.pop("operations", {})}
    return Description.model_validate({"name": "Somebody", "owner": "supplier", "operations": operations, **more})


def partner(description: Description, answer: Callable[[httpx.Request], httpx.Response], key: str = "k") -> Any:
    return make(description, "http://x.example/api", key, 1, httpx.MockTransport(answer))


def row(number: str = "A", **more: Any) -> dict[str, Any]:
    return {"no": number, "price": "1.00", "money": "GBP", "left": 3, **more}


def test_what_ships_can_be_used_and_says_the_same_in_yaml_and_json():
    for text in shipped().values():
        assert load(text).operations
        assert checksum(json.dumps(parse(text))) == checksum(text)


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("", ""),
        ("[1, 2]", ""),
        ("a: &x [1]\nb: *x", ""),
        ("name: a\nname: b", ""),
        ("{" * 5000, ""),
        ("name: x\nowner: supplier\noperations: {fly: {}}", "operations.fly"),
        ("name: x\nowner: supplier\noperations: {}", "operations"),
        ("name: x\nowner: supplier\nmaker: y\noperations: {}", "maker"),
        ("name: x\nowner: supplier\noperations: {offers: {fields: {number: a}}}", "operations.offers.fields.cost"),
        ("name: x\nowner: store\nbatch_most: 4\noperations: {listings: {}}", "batch_most"),
        ("name: x\nowner: carrier\ntime: {zone: Nowhere/None}\noperations: {track: {}}", "time.zone"),
    ],
)
def test_a_bad_description_is_told_with_its_place(text: str, place: str):
    with pytest.raises(BadDescription) as told:
        load(text)
    assert place in [one.place for one in told.value.faults] or (not place and told.value.faults[0].message)


def test_after_a_lost_answer_somebody_must_be_asked_or_the_description_says_that_nobody_can():
    buy = {"call": {"method": "POST", "path": "/buy", "json": "{r: reference}"}, "fields": {"reference": "r", "state": "s"}}
    text = json.dumps(described(operations={"buy": buy}).model_dump(mode="json", by_alias=True, exclude_defaults=True))
    with pytest.raises(BadDescription, match="nobody could be asked"):
        load(text)
    told = load(json.dumps({**json.loads(text), "cannot_find": ["buy"]}))

    def lose(request: httpx.Request) -> httpx.Response:
        raise httpx.ReadTimeout("lost", request=request)

    with pytest.raises(UnknownOutcome):
        partner(told, lose).buy(Purchase("R-1", "o", "s", BUYER, [PurchaseItem(1, "A", 1)]))
    with pytest.raises(CannotAsk, match="look there"):
        partner(told, lose).find_purchases(["R-1"])


@pytest.mark.parametrize(
    "text",
    [
        "{{ name.__class__ }}",
        "{{ name|attr('upper') }}",
        "{{ range(10) }}",
        "{% for x in range(9) %}{% endfor %}",
        "{% for a in l %}{% for b in l %}{% for c in l %}x{% endfor %}{% endfor %}{% endfor %}",
        "{% set x = 1 %}",
        "{% macro m() %}{% endmacro %}",
        "{% include 'x' %}",
        "{{ 'a' * 999999999 }}",
        "{{ name()",
        "{{ name.format(name) }}",
        "{{ name | join('aaaa') | join('aaaa') }}",
        "{{ name | replace('', 'aaaa') }}",
        "{% for x in l recursive %}{% endfor %}",
    ],
)
def test_a_template_can_only_put_in_what_is_given(text: str):
    with pytest.raises((templates.BadTemplate, Refused)):
        templates.check(text)
        templates.fill(text, {"name": "x", "l": [1, 2]})


@given(st.text(max_size=60))
def test_what_is_put_into_a_path_or_xml_stays_one_piece_of_it(text: str):
    clean = "".join(one for one in text if one.isprintable() and one not in "\ud800\udfff")
    assert "/" not in templates.fill("{{ a }}", {"a": clean}, "path").replace("%2F", "")
    root = parse_xml(templates.fill('<r at="{{ a }}">{{ a }}</r>', {"a": clean}, "xml").encode())
    assert (root.text or "") == clean and root.get("at") == clean and len(root) == 0


def test_an_expression_cannot_make_an_answer_grow_nor_take_for_ever():
    for text in ("[@,@] | [@,@] | [@,@]", "[@,@][] | [@,@][]", "map(&@, [@,@])[]", "join('', [@,@]) | join('', [@,@])", "a["):
        with pytest.raises(BadDocument):
            compile_json(text)
    assert evaluate("{a: b, c: d[].{e: f}}", {"b": 1, "d": [{"f": 2}]}) == {"a": 1, "c": [{"e": 2}]}
    for text in ("//a[.//b[.//c]]", "a" * 400, "document('file:///etc/passwd')", "x:a"):
        with pytest.raises(BadDocument):
            compile_xml(text, ())
    for body in (b'<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>', b"<a>", b"", b"\x00"):
        with pytest.raises(BadDocument):
            parse_xml(body)


@pytest.mark.parametrize(
    ("raw", "manner", "currency", "minor"),
    [
        ("12.95", {}, "GBP", 1295),
        (12.95, {}, "GBP", 1295),
        ("1.234,50", {"mark": ","}, "EUR", 123450),
        ("12", {"mark": ","}, "EUR", 1200),
        (310, {"unit": "minor"}, "GBP", 310),
        ("310", {"unit": "minor"}, "JPY", 310),
        ("1.250", {}, "KWD", 1250),
    ],
)
def test_amounts_are_read_in_their_manner(raw: Any, manner: dict[str, str], currency: str, minor: int):
    assert money(raw, currency, MoneyManner(**manner)) == minor


@pytest.mark.parametrize("raw", ["NaN", "1e9", "", "12.955", True, [1, 2], {"a": 1}, "９"])
def test_what_is_no_amount_is_none(raw: Any):
    with pytest.raises(ValueError):
        money(raw, "GBP", MoneyManner())
    with pytest.raises(ValueError, match="what money"):
        money("1.00", "", MoneyManner())


def test_moments_are_read_in_their_manner_also_over_a_change_of_clocks():
    at = datetime(2026, 3, 29, 0, 30, tzinfo=UTC)
    assert moment(int(at.timestamp()), TimeManner(kind="seconds")) == at
    assert moment(str(int(at.timestamp() * 1000)), TimeManner(kind="milliseconds")) == at
    assert moment("29.03.2026 01:30", TimeManner(kind="pattern", pattern="%d.%m.%Y %H:%M", zone="Europe/Warsaw")) == at
    assert moment("2026-03-29T00:30:00Z", TimeManner(zone="Asia/Tokyo")) == at
    assert moment("2026-03-29T09:30:00", TimeManner(zone="Asia/Tokyo")) == at
    for bad in ("soon", "1999-01-01T00:00:00Z", "9" * 40):
        with pytest.raises(ValueError):
            moment(bad, TimeManner())
    assert (whole("12.0"), whole(7), as_text(12.0)) == (12, 7, "12")
    with pytest.raises(ValueError):
        whole("1.5")


def test_an_answer_of_another_shape_is_not_one_without_rows():
    for body in ({}, {"data": []}, {"rows": None}, {"rows": "x"}, [], "x", 7):
        with pytest.raises(Malformed):
            partner(described(), lambda request, body=body: httpx.Response(200, json=body)).sweep_page(1)
    assert partner(described(), lambda request: httpx.Response(200, json={"rows": []})).sweep_page(1).seen == []
    rows = [row("A"), row("B", price="NaN"), row("C", left=None), row("D", money="ZZZ"), {"no": "E"}, "F"]
    page = partner(described(), lambda request: httpx.Response(200, json={"rows": rows})).sweep_page(1)
    assert [one.number for one in page.seen] == ["A"] and len(page.bad) == 5


def test_a_cursor_that_never_ends_and_one_that_stands_still_are_told():
    calls: list[str] = []

    def onward(request: httpx.Request) -> httpx.Response:
        calls.append(request.url.params["after"])
        return httpx.Response(200, json={"rows": [row(f"N{len(calls)}")], "next": str(len(calls))})

    link, pages, cursor = partner(described(), onward), 0, ""
    with pytest.raises(Malformed, match="never comes to an end"):
        while True:
            cursor, pages = link.sweep_page(pages + 1, cursor).cursor, pages + 1
    assert pages == 50 and calls[:3] == ["", "1", "2"]
    still = partner(described(), lambda request: httpx.Response(200, json={"rows": [row()], "next": "x"}))
    with pytest.raises(Malformed, match="same cursor"):
        still.sweep_page(2, "x")


def test_the_next_portion_is_never_fetched_from_another_address():
    paging = {"by": "link"}
    offers = {"call": {"path": "/offers"}, "rows": "rows", "fields": ITEM, "paging": paging}
    told = described(operations={"offers": offers})
    away = {"link": '<http://elsewhere.example/api/offers?p=2>; rel="next"'}
    with pytest.raises(Malformed, match="another address"):
        partner(told, lambda request: httpx.Response(200, json={"rows": [row()]}, headers=away)).sweep_page(1)
    seen: list[str] = []

    def near(request: httpx.Request) -> httpx.Response:
        seen.append(str(request.url))
        head = {"link": '</api/offers?p=2>; rel="next"'} if len(seen) == 1 else {}
        return httpx.Response(200, json={"rows": [row(str(len(seen)))]}, headers=head)

    link = partner(told, near)
    first = link.sweep_page(1)
    assert first.pages == 2 and link.sweep_page(2, first.cursor).pages == 2
    assert seen == ["http://x.example/api/offers", "http://x.example/api/offers?p=2"]


def test_a_token_that_runs_out_in_the_middle_is_fetched_anew_once():
    how = {
        "kind": "token",
        "name": "pass",
        "value": "{{ token }}",
        "token": "t",
        "call": {"method": "POST", "path": "/token", "json": "{k: key}"},
    }
    given, refused = [], {"always": False}

    def answer(request: httpx.Request) -> httpx.Response:
        if request.url.path.endswith("/token"):
            given.append(json.loads(request.content)["k"])
            return httpx.Response(200, json={"t": f"t{len(given)}"})
        good = request.headers["pass"] == f"t{len(given)}" and len(given) > 1 and not refused["always"]
        return httpx.Response(200, json={"rows": [row()]}) if good else httpx.Response(401)

    link = partner(described(sign_in=how), answer, "secret")
    assert link.sweep_page(1).seen and given == ["secret", "secret"]
    assert link.sweep_page(1).seen and len(given) == 2
    refused["always"] = True
    with pytest.raises(Denied):
        link.sweep_page(1)
    assert len(given) == 3
    huge = lambda request: httpx.Response(200, text='{"t": "' + "x" * 200_000 + '"}')  # noqa: E731
    with pytest.raises(Malformed, match="longer than any"):
        partner(described(sign_in=how), huge).sweep_page(1)
    with pytest.raises(Malformed, match="token cannot be read"):
        partner(described(sign_in=how), lambda request: httpx.Response(200, json=[7])).sweep_page(1)
    for status, failure in ((401, Denied), (503, Unavailable), (429, RateLimited)):
        with pytest.raises(failure):
            partner(described(sign_in=how), lambda request, status=status: httpx.Response(status)).sweep_page(1)


def test_oauth_client_credentials_are_fetched_used_and_renewed():
    how = {"kind": "oauth_client", "token_address": "/oauth/token", "scope": "read"}
    asked: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        if request.url.path.endswith("/oauth/token"):
            asked.append(request)
            return httpx.Response(200, json={"access_token": f"a{len(asked)}", "token_type": "Bearer", "expires_in": 3600})
        good = request.headers.get("authorization") == f"Bearer a{len(asked)}"
        return httpx.Response(200 if good else 401, json={"rows": [row()]})

    link = partner(described(sign_in=how, key=["client", "secret"]), answer, "me:hush")
    assert link.sweep_page(1).seen and link.sweep_page(1).seen and len(asked) == 1
    assert b"grant_type=client_credentials" in asked[0].content and b"hush" not in asked[0].content
    assert asked[0].headers["authorization"].startswith("Basic ")


def test_calls_of_a_day_are_counted_beside_those_of_a_moment():
    link = partner(described(limits={"calls": 2, "seconds": 1, "day": 3}), lambda request: httpx.Response(200, json={"rows": [row()]}))
    for _ in range(3):
        assert link.sweep_page(1).seen
    with pytest.raises(RateLimited, match="3 calls in a day") as told:
        link.sweep_page(1)
    assert told.value.wait > 80_000


def test_a_renewed_refresh_token_is_kept():
    how = {"kind": "oauth_code", "token_address": "https://x.example/oauth/token"}
    kept: list[str] = []

    def answer(request: httpx.Request) -> httpx.Response:
        if "oauth" in request.url.path:
            assert b"refresh_token=old" in request.content
            return httpx.Response(200, json={"access_token": "a", "token_type": "Bearer", "refresh_token": "new"})
        return httpx.Response(200, json={"rows": [row()]})

    told = described(sign_in=how, key=["client", "secret", "refresh"])
    link = make(told, "https://x.example/api", "me:hush:old", 1, httpx.MockTransport(answer), kept.append)
    assert link.sweep_page(1).seen and kept == ["me:hush:new"]


def test_failures_mean_what_the_description_says():
    failures = {"code": "code", "words": "why", "rules": [{"codes": ["full"], "means": "later"}, {"status": [409], "means": "busy"}]}
    buy = {"call": {"method": "POST", "path": "/buy", "json": "{r: reference}"}, "fields": {"reference": "r", "state": "s"}}
    told = described(operations={"buy": buy}, failures=failures, limits={"wait": "again-in"})
    wish = Purchase("R-1", "o", "s", BUYER, [PurchaseItem(1, "A", 1)])

    def fail(status: int, body: Any, **head: str) -> Any:
        return partner(told, lambda request: httpx.Response(status, json=body, headers=head))

    with pytest.raises(Postponed, match="no room"):
        fail(422, {"code": "full", "why": "no room"}).buy(wish)
    with pytest.raises(RateLimited) as told_:
        fail(409, {}, **{"again-in": "7"}).buy(wish)
    assert told_.value.wait == 7
    with pytest.raises(Refused, match="nope"):
        fail(422, {"code": "x", "why": "nope"}).buy(wish)
    for status in (500, 504):
        with pytest.raises(UnknownOutcome):
            fail(status, {}).buy(wish)
    with pytest.raises(UnknownOutcome, match="another"):
        fail(200, {"r": "R-2", "s": "received"}).buy(wish)


def test_a_call_is_shown_without_what_is_secret():
    for name in ("cinder", "fern", "marram"):
        told = load((HERE / f"{name}.yaml").read_text())
        call = show_call(told, "http://x.example", "buy", SAMPLES)
        assert HIDDEN in call.headers.values() and "AL-1001-1" in call.body and "Wren Sorrel" in call.body.replace("+", " ")


def test_bodies_are_made_of_what_is_given_and_nothing_is_smuggled_in():
    lines = [{"sku": "A&B", "n": 1}, {"sku": "C", "n": 2}]
    form = build(Request(method="POST", form="{ref: r, line: l[].{art: sku, qty: n}}"), {"r": "x=1&y", "l": lines})
    assert form.content == b"ref=x%3D1%26y&line%5B0%5D%5Bart%5D=A%26B&line%5B0%5D%5Bqty%5D=1&line%5B1%5D%5Bart%5D=C&line%5B1%5D%5Bqty%5D=2"
    assert build(Request(path="/a/{{ r }}"), {"r": "../../b?c#d"}).target == "/a/..%2F..%2Fb%3Fc%23d"
    with pytest.raises(Refused, match="header"):
        build(Request(headers={"X": "{{ r }}"}), {"r": "a\r\nHost: b"})
    with pytest.raises(Refused, match="filled"):
        build(Request(path="/{{ nobody }}"), {})


def test_the_places_of_fields_are_proposed_from_an_example():
    text = """<s:stock xmlns:s="urn:a" made="2026-03-01T10:00:00Z"><s:more>2</s:more>
      <s:article no="F-1"><s:price cur="EUR">3.10</s:price><s:onhand>12</s:onhand></s:article>
      <s:article no="F-2"><s:price cur="EUR">4.10</s:price><s:onhand>3</s:onhand></s:article></s:stock>"""
    found = propose(described(money={"currency": "EUR"}), "offers", text)
    assert (found.rows, found.namespaces) == ("/s:stock/s:article", {"s": "urn:a"})
    assert found.fields.items() >= {"number": "@no", "cost": "s:price", "stock": "s:onhand"}.items()
    rows = [{"id": str(n), "name": "Lamp", "price": {"amount": "3.10", "currency": "EUR"}, "qty": 4} for n in range(3)]
    deep = propose(described(), "items", json.dumps({"data": {"products": rows}, "page": 1, "next_cursor": "x"}))
    assert deep.paging == {"by": "cursor", "next": "next_cursor"}
    assert deep.rows == "data.products" and deep.fields["cost"] == "price.amount" and deep.fields["title"] == "name"
    sheet = propose(described(money={"mark": ","}), "offers", "art;net;qty\nA;3,10;4\n")
    assert sheet.delimiter == ";" and sheet.fields["cost"] == "net" and sheet.fields["stock"] == "qty"
    with pytest.raises(BadDocument):
        propose(described(), "offers", '{"a": "b"}')


def test_each_field_of_a_row_is_shown_with_why_it_cannot_be_read():
    rows = [row("A"), row("B", price="a lot", left="")]
    link = partner(described(), lambda request: httpx.Response(200, json={"rows": rows}))
    tried = try_read(link.call, "offers", {})
    assert tried.rows[0]["cost"].value == "£1.00" and not tried.error
    assert tried.rows[1]["cost"].raw == "a lot" and "number" in tried.rows[1]["cost"].fault and tried.rows[1]["stock"].fault
    assert "<html>" in try_read(partner(described(), lambda request: httpx.Response(200, text="<html>")).call, "offers", {}).sample


@pytest.mark.parametrize("name", ["fern", "marram", "cinder"])
def test_a_certificate_sees_what_holds_and_what_does_not(world, name: str):
    world.calm()
    text = (HERE / f"{name}.yaml").read_text()
    key = {"fern": "practice-fernmoor", "marram": "practice-marram", "cinder": "dusk-dial:practice-cinder"}[name]

    def checked(text: str) -> dict[str, str]:
        told, at = load(text), f"{world.address}/{name}"
        checks = certify(make(told, at, key, 5), make(told, at, "no:body", 5), Allowed(practice=True, to=BUYER))
        assert all(one.message for one in checks if one.outcome != "holds")
        return {one.code: one.outcome for one in checks}

    good = checked(text)
    assert set(good.values()) == {"holds"} and {"stranger", "offers.whole", "offers.torn", "item.nothing", "buy.once", "buy.lost"} <= set(
        good
    )
    bought = [one for one in world.record()["purchases"] if one["supplier"] == name] if "purchases" in world.record() else []
    assert all(one["state"] == "withdrawn" for one in bought)
    # The same list over and over, where its portions are not asked for rightly.
    wrong = text.replace("{{ cursor }}", "").replace("after: cursor", "after: `null`").replace("skip: offset", "skip: `0`")
    assert checked(wrong)["offers.whole"] == "fails"


def test_rates_are_units_of_a_base():
    table = {"as_of": "2026-03-12T00:00:00Z", "base": "GBP", "rates": {"PLN": "5.1", "EUR": "NaN"}}
    link = make(load(shipped()["bank"]), "http://x", "k", 1, httpx.MockTransport(lambda request: httpx.Response(200, json=table)))
    assert link.table().rates == {"GBP": Decimal(1), "PLN": Decimal("5.1")}


def test_a_first_description_is_made_of_an_openapi_document(world):
    item = {
        "properties": {"sku": {"type": "string"}, "name": {"type": "string"}, "price": {"type": "string"}, "currency": {"type": "string"}}
    }
    item["properties"] |= {"stock": {"type": "integer"}}
    page = {"properties": {"items": {"type": "array", "items": {"$ref": "#/components/schemas/Item"}}, "next_cursor": {"type": "string"}}}
    ok = lambda schema: {"200": {"content": {"application/json": {"schema": schema}}}}  # noqa: E731
    query = [{"name": "cursor", "in": "query"}, {"name": "limit", "in": "query", "schema": {"maximum": 250}}]
    order = {"properties": {"reference": {}, "lines": {}, "address": {}, "gift": {}}}
    bought = {"properties": {"id": {"type": "string"}, "reference": {"type": "string"}, "status": {"enum": ["received", "shipped"]}}}
    document = {
        "openapi": "3.0.0",
        "info": {"title": "Some supplier"},
        "servers": [{"url": "https://api.some.example/v1"}],
        "components": {"schemas": {"Item": item}, "securitySchemes": {"k": {"type": "apiKey", "in": "header", "name": "X-Key"}}},
        "paths": {
            "/items": {"get": {"parameters": query, "responses": ok(page)}},
            "/items/{sku}": {"get": {"responses": ok({"$ref": "#/components/schemas/Item"})}},
            "/orders": {"post": {"requestBody": {"content": {"application/json": {"schema": order}}}, "responses": ok(bought)}},
            "/orders/{id}/cancel": {"post": {"responses": ok(bought)}},
        },
    }
    made = draft(document, Owner.supplier, "Some")
    assert made["sign_in"] == {"kind": "header", "name": "X-Key"} and made["address"] == "https://api.some.example/v1"
    items = made["operations"]["items"]
    assert items["call"]["query"] == {"cursor": "{{ cursor }}", "limit": "{{ size }}"} and items["rows"] == "items"
    assert items["fields"].items() >= {"number": "sku", "title": "name", "cost": "price", "stock": "stock"}.items()
    assert items["paging"] == {"by": "cursor", "size": 250, "next": "next_cursor"}
    assert made["operations"]["item"]["call"]["path"] == "/items/{{ number }}"
    assert made["operations"]["buy"]["call"]["json"] == '{"reference": reference, "lines": lines, "address": address}'
    assert made["operations"]["recall"]["call"]["path"] == "/orders/{{ reference }}/cancel" and made["cannot_find"] == ["buy"]
    assert load(json.dumps(made)).name == "Some"
    world.calm()
    whole = draft(world.client.get("/openapi.json").json(), Owner.store, "World")
    assert "listings" in whole["operations"]
    for none in ({}, [], {"paths": 7}, "x"):
        with pytest.raises(BadDocument):
            draft(none, Owner.store, "x")
