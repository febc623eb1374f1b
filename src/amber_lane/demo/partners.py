"""The demo's stores, suppliers and carrier joined one by one, each in the way that its kind needs."""

from __future__ import annotations

import csv
import io
import os
import random
from dataclasses import asdict
from datetime import timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..api.deps import AppState
from ..api.people.sign_in import DEMO
from ..connectors.kinds import connect
from ..connectors.protocols import OriginTerms, ServiceTerms
from ..core.permissions import Scope
from ..core.plans import Membership
from ..data.prices import PriceRule, Rate
from ..data.setup import BuyingAccount, FeeRow, Mailbox, Store, Supplier
from ..services.base import house_days, regional
from ..services.base.context import Context
from ..services.delivery import agent_leases
from ..services.files import rules
from ..services.fulfilment import parcel_tracking
from ..services.listings import going_live, store_listings
from ..services.monitoring import catalogue_sheets
from ..services.partners import connections, partner_terms, rosters
from ..services.people import users
from ..services.pricing.drafts import PolicyChange
from ..sheets.mapped import look
from ..world.front import CRAFT, DOORS, LANDS, MAIL_KEY, POUND, Door, Land

OWNER = "Mara Whitlock"
UNCALLED = (("store", "program", "Hearthmade Row"), ("supplier", "sheet", "Ines at Meridian Buying"))
TOKEN = "hearthmade.token"


def quayside(land: Land) -> OriginTerms:
    services = [
        ServiceTerms("road", "Road parcel", land.country, 1290, 300, 40_000, 6, 9, True),
        ServiceTerms("road", "Road parcel", land.near[0], 1690, 300, None, 7, 10, True),
        ServiceTerms("road", "Road parcel", land.near[1], 1190, 300, 40_000, 4, 6, True),
    ]
    back, shut = "Quayside Bulk, ul. Nabrzeżna 12, Gdynia", ("2026-04-06", "2026-05-01")
    return OriginTerms("gdynia", "Gdynia", "PL", "12:00", 150, services, back, shut)


def meridian(land: Land) -> OriginTerms:
    services = [
        ServiceTerms("air", "Air parcel", land.country, 640, 210, None, 7, 11, True),
        ServiceTerms("air", "Air parcel", land.near[0], 690, 210, None, 7, 12, True),
    ]
    return OriginTerms("porto", "Porto", "PT", "10:00", 80, services, "Meridian Buying, Rua do Cais 40, Porto")


# Of a rule, what are amounts: written in pence, and turned into the house's money.
RULE_AMOUNTS = ("band_from", "min_profit")
# Two bands say nothing of returns: there what really came back is kept.
RULES: tuple[dict[str, Any], ...] = (
    {
        "band_from": 0,
        "rule": "multiple",
        "rule_value": 3_000_000,
        "min_profit": 150,
        "endings": "49|99",
        "step": 120_000,
        "reserve": 10_000,
    },
    {"band_from": 500, "rule": "margin", "rule_value": 280_000, "min_profit": 250, "endings": "95", "step": 120_000},
    {"band_from": 2000, "rule": "margin", "rule_value": 220_000, "min_profit": 500, "endings": "95", "step": 80_000},
    {"band_from": 6000, "rule": "return", "rule_value": 240_000, "min_profit": 1200, "endings": "00", "step": 80_000, "reserve": 15_000},
)
KNITS = ("star blanket", "night hat", "mitten pair", "lantern cosy", "field scarf", "moon cushion", "tripod sleeve", "mug warmer")
COLOURS = ("navy", "moss", "slate", "rust", "oat", "night sky", "heather", "ash")


def join_all(house: AppState, world: str, land: Land) -> None:
    """Join everybody, say what the business takes and gives, and set its rules."""
    port = int(world.rsplit(":", 1)[1])
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        users.make_person(context, OWNER, DEMO.mail, DEMO.password)
        parcel_tracking.make_templates(context)
        mails = {"mailbox": f"smtp://127.0.0.1:{port + 1}|{world}/mail/api", "inbox": f"pop://127.0.0.1:{port + 2}"}
        letters = (Door("mailbox", "smtp", "Dusk & Dial", "", ""), Door("inbox", "pop", "Dusk & Dial answers", "", MAIL_KEY))
        for one in (*DOORS, *letters):
            address = mails.get(one.owner, f"{world}{one.path}")
            lands = ("PL", "PLN") if one.kind == "folder" else ("", "")
            given = connections.Join(one.owner, one.kind, one.name, address, one.key, *lands)
            connections.join_partner(context, house.connectors, given, connections.ask_account(house.connectors, given))
        for owner, kind, name in UNCALLED:
            where = ("PT", "EUR") if owner == "supplier" else (land.country, land.currency)
            connections.join_uncalled(context, connections.Join(owner, kind, name, "", "", *where))
        for store in s.scalars(select(Store)):
            # The demo is a house at work: what goes out was looked at long ago.
            going_live.all_on(context, store)
        _say_terms(context, land)
        s.add_all(PriceRule(scope="house", scope_key="", **_ruled(rule, land)) for rule in RULES)
        PolicyChange("house", "", {"send": "once", "wait_over": 600}).keep(context)
        regional.set_place(context, regional.Place(land.country, land.zone, land.dates, ".", land.currency))
        link = house.connectors.store(context, 1)
        link.tell_of_orders(f"{house.settings.address}/api/v1/hooks/stores/1", house.connectors.credentials.for_use("hook-1"))
        _make_token(context, house.settings.data)


def _ruled(rule: dict[str, Any], land: Land) -> dict[str, Any]:
    """A rule in the land's money; its prices end as they do there."""
    amounts = {name: land.amount(rule[name]) for name in RULE_AMOUNTS}
    return rule | amounts | ({} if land.ending == 95 else {"endings": str(land.ending)})


def _say_terms(context: Context, land: Land) -> None:
    """What no partner tells by itself."""
    stores = {row.name: row for row in context.session.scalars(select(Store))}
    own, fair, craft = stores["Dusk & Dial shop"], stores["Bramble Fair"], stores["Hearthmade Row"]
    for store, percent, fixed in ((own, 19_000, land.amount(20)), (fair, 0, 0), (craft, 25_000, land.amount(20))):
        store.payment, store.payment_fixed, store.tax_in_price = percent, fixed, 0
    fees = {(row.store_id, row.category): row for row in context.session.scalars(select(FeeRow))}
    fees[own.id, ""].percent = 20_000
    fees[craft.id, ""].percent, fees[craft.id, ""].fixed = 65_000, land.amount(15)
    fair.title_most, fair.banned_words = 80, ["best", "cheapest", "free", "guaranteed"]
    craft.title_most, craft.banned_words = 140, ["wholesale"]
    suppliers = {row.name: row for row in context.session.scalars(select(Supplier))}
    suppliers["Northlight Trade"].rebate = 20_000
    suppliers["Northlight Trade"].plans = [
        asdict(Membership("Trade circle", 30_000, fee=land.amount(2900))),
        asdict(Membership("Volume terms", 20_000, from_spend=land.amount(4_500_000), taken=True)),
    ]
    suppliers["Tarn Print House"].plans = [asdict(Membership("Studio terms", 50_000, from_spend=land.amount(40_000), taken=True))]
    suppliers["Sable Retail"].calls_day = 600
    # What may be bought in a day where the house pays by card, and from its main wholesaler.
    for name, supplier, money, orders in (
        ("House card", "Sable Retail", 25_000, None),
        ("Trade account", "Northlight Trade", 250_000, 200),
    ):
        context.session.add(BuyingAccount(supplier_id=suppliers[supplier].id, name=name, cap_money=land.amount(money), cap_orders=orders))
    suppliers["Quayside Bulk"].plans = [asdict(Membership("Season pass", 45_000, fee=19_900))]
    suppliers["Ines at Meridian Buying"].note = "buys for us in Portugal; writes back within a day"
    ines = suppliers["Ines at Meridian Buying"]
    ines.order_road, ines.mail = "mail", "orders@meridian-buying.example"
    own.greeting = "Clear skies, {name}!"
    context.session.scalars(select(Mailbox)).one().sender = "orders@dusk-and-dial.example"
    users.make_person(context, "Ines", "ines@meridian-buying.example", "practice-agent", "agent", Scope(suppliers=frozenset({ines.id})))
    # Whom a manager has let in to help.
    for name, role in (("Noor Vale", "mapper"), ("Bram Quill", "claims"), ("Tilda Marsh", "buyer")):
        users.make_person(context, name, f"{name.split()[0].lower()}@dusk-and-dial.example", "practice-helper", role)
    for base in ("PLN", "EUR"):
        rate = (Decimal(POUND[land.currency]) / Decimal(POUND[base])).quantize(Decimal("0.001"))
        context.session.add(Rate(base=base, quote=land.currency, day=context.now - timedelta(days=1), nano=int(rate.scaleb(9))))
    for name, terms in (("Quayside Bulk", quayside(land)), ("Ines at Meridian Buying", meridian(land))):
        partner_terms.write_origins(context, suppliers[name], [terms])
    context.session.flush()


def _make_token(context: Context, folder: Path) -> None:
    """The craft market's program starts with the demo, so its token is kept where only its owner can read it."""
    store = context.session.scalars(select(Store).where(Store.kind == "program")).one()
    handle = os.open(folder / TOKEN, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as out:
        out.write(agent_leases.make_token(context, store.id))


def bring_in_goods(house: AppState, world: str, retail_items: int = 450) -> None:
    """Catalogues and listings of everybody, each by its own way."""
    with house.db.reading() as s:
        numbers = {row.name: row.id for row in s.scalars(select(Supplier))}
        stores = {row.kind: row.id for row in s.scalars(select(Store))}
    house.reader.catalogue(numbers["Northlight Trade"])
    _bring_quayside(house, numbers["Quayside Bulk"])
    _bring_sable(house, world, numbers["Sable Retail"], retail_items)
    for name in ("Tarn Print House", "Copperbeck Press"):
        house.reader.catalogue(numbers[name])
    _bring_meridian(house, world, numbers["Ines at Meridian Buying"])
    house.reader.listings(stores["own_site"])
    house.reader.listings(stores["market_api"])
    link = connect("store", "craft_pages", f"{world}{CRAFT.path}", CRAFT.key, 10)
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        for page in link.listings():
            store_listings.bring_in(context, context.get(Store, stores["program"], "store"), page.listings)


def _bring_quayside(house: AppState, number: int) -> None:
    """The folder's columns named as its sheet suggests, then read."""
    with house.db.reading() as s:
        fetch = house.connectors.sheet(Context(s, house.clock, OWNER), number)
    data, _ = fetch()
    with house.db.writing() as s:
        catalogue_sheets.keep_reading(Context(s, house.clock, OWNER), number, look(data).reading, ["EUR"])
    house.reader.catalogue(number)
    with house.db.writing() as s:
        # The first look is the catalogue itself; the next comes on the hour.
        Context(s, house.clock, OWNER).get(Supplier, number, "supplier").next_sweep = house.clock.now() + timedelta(minutes=65)


def _bring_sable(house: AppState, world: str, number: int, most: int) -> None:
    """Some of the retail site's items by their numbers; its call limit is lifted until the doors open."""
    with httpx.Client(base_url=world, timeout=60, trust_env=False) as hand:
        hand.post("/world/facts", json={"name": "retail_calls", "value": 100_000})
        numbers = hand.get("/world/record/numbers", params={"supplier": "retail"}).json()["numbers"]
        house.reader.catalogue(number)
        house.reader.items(number, numbers[:most])


def _bring_meridian(house: AppState, world: str, number: int) -> None:
    """The agent's own sheet, as she writes it; what she has left comes each day as a file on the wharf."""
    rng = random.Random("meridian-7")
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["Code", "Name", "Variant", "Group", "Price", "Currency", "Available", "Grams", "Days"])
    left = ["item,stock"]
    for n in range(360):
        what, colour = KNITS[n % len(KNITS)], COLOURS[n // len(KNITS) % len(COLOURS)]
        size = ("small", "medium", "large", "double", "child")[n // 64 % 5]
        cost, stock = rng.randint(310, 2900), rng.randint(0, 60)
        left.append(f"MB-{7000 + n},{stock}")
        writer.writerow(
            [
                f"MB-{7000 + n}",
                f"Wool {what}, {colour}",
                size,
                "warmth",
                f"{cost // 100}.{cost % 100:02d}",
                "EUR",
                stock,
                240,
                3,
            ]
        )
    data = out.getvalue().encode()

    def context_of(s: Session) -> Context:
        return Context(s, house.clock, OWNER)

    with house.db.writing() as s:
        catalogue_sheets.keep_reading(context_of(s), number, look(data).reading, whole=False)
    catalogue_sheets.take_sheet(number, data, house.db, context_of, lambda done, of: None)
    door = next(one for one in DOORS if one.owner == "files")
    with house.db.writing() as s:
        context = context_of(s)
        (server,) = rosters.of_kind(context, "files")
        today = house_days.today(context).strftime("%Y%m%d")
        said = rules.Said(
            server.id, "supplier", number, "stock", False, "meridian/stock-{year}{month}{day}.csv", done_folder="meridian/done"
        )
        rules.add(context, said)
        rules.add(context, rules.Said(server.id, "supplier", number, "answers", False, "meridian/answers/*.csv", newest=False))
    # A file as they come: with one item that nobody here knows.
    left.append("MB-7999,12")
    with httpx.Client(base_url=f"{world}{door.path}", auth=httpx.BasicAuth(*door.key.split(":")), timeout=20, trust_env=False) as hand:
        hand.put(f"/meridian/stock-{today}.csv", content="\n".join([*left, ""]).encode()).raise_for_status()


__all__ = ["CRAFT", "LANDS", "OWNER", "TOKEN", "Land", "bring_in_goods", "join_all"]
