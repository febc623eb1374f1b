"""What happens in the world by itself: buyers buy, prices and stocks move, purchases are answered, parcels travel."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from typing import Any

from . import lands
from .partners import PRINT_TIERS, SELLERS, SHOPS, TIERS, seller_named
from .state import World
from .words import Good, make_buyer, make_goods, make_others

MINUTE, HOUR, DAY = 60_000, 3_600_000, 86_400_000
# What a made-up penny is in the importer's money, in hundredths.
PLN = 510


def tiers_of(number: str, cost: int) -> list[tuple[int, int]]:
    """Costs by quantity of an item, as its seller counts them: some of a wholesaler's, all that is printed."""
    last = number.rsplit("-", 1)[-1]
    if not last.isdigit():
        return [(at, cost * (100 - off) // 100) for at, off in PRINT_TIERS]
    return [(at, cost * (100 - off) // 100) for at, off in TIERS] if int(last) % 7 == 3 and cost >= 20 else []


def cost_of(number: str, cost: int, quantity: int) -> int:
    """What one of so many costs."""
    return min([cost, *(price for at, price in tiers_of(number, cost) if quantity >= at)])


# What partners plan for themselves, by kind; each enters its own.
HAPPENS: dict[str, Callable[[World, dict[str, Any]], None]] = {}
# Who wants to know when a purchase has left, or its number was put right.
SHIPPED: list[Callable[[World, int], None]] = []
# Who wants to know that a parcel came back, by its number.
BACK: list[Callable[[World, str], None]] = []
_S10 = (8, 6, 4, 2, 3, 5, 9, 7)


def sized(skus: int) -> dict[str, Any]:
    """What `populate` is told so that the stores together sell about so many SKUs: as 4,600, 3,000 and 1,400 items are to 1,330."""
    return {"items": skus * 4600 // 1330, "sold": skus * 760 // 1330, "others": (skus * 3000 // 1330, skus * 1400 // 1330)}


def populate(
    world: World,
    items: int = 4600,
    sold: int = 760,
    others: tuple[int, int] = (3000, 1400),
    history_days: int = 60,
    buyers_a_day: int = 60,
) -> None:
    """Fill an empty world from its seed and let its prices and stocks live through the days before today.

    items: the wholesaler's; others: the importer's and the retail site's; sold: how many the own shop sells.
    """
    if world.one("select 1 from supply_item limit 1"):
        return
    rng = random.Random(f"start-{world.seed}")
    goods = make_goods(world.seed, items, sold)
    now = world.now()
    start = now - history_days * DAY
    with world.change() as db:
        world.remember("buyers_a_day", buyers_a_day)
        # What the fair sells at first fits into what it allows.
        world.remember("fair_offers_most", max(800, sold + 40))
        # A luck of its own for each, so that one partner more changes nothing for the others.
        _stock_up(world, rng, "wholesale", goods, start)
        _stock_up(world, random.Random(f"folder-{world.seed}"), "folder", make_others(world.seed, "QB", others[0], goods, 62), start)
        _stock_up(world, random.Random(f"retail-{world.seed}"), "retail", make_others(world.seed, "SR", others[1], goods, 148), start)
        _set_out(world, "shop", goods[:sold], start, 165)
        # The fair shares half of its goods with the shop; the craft market has a few of its own.
        _set_out(world, "fair", [*goods[sold // 2 : sold], *goods[sold : sold + sold // 2]], start, 190)
        _set_out(world, "craft", goods[sold + sold // 2 : sold * 2 - sold // 4], start, 185)
        db.execute("update shop_listing set quantity = 6 where store != 'shop'")
        for code in SELLERS:
            _live_the_past(world, rng if code == "wholesale" else random.Random(f"past-{code}-{world.seed}"), code, start, history_days)
        world.plan(now + MINUTE, "market")
        world.plan(now + 2 * MINUTE, "buyer")


def _stock_up(world: World, rng: random.Random, supplier: str, goods: list[Good], start: int) -> None:
    """Put goods on a supplier's shelves, in its money."""
    seller = SELLERS[supplier]
    origins = seller.origins
    for i, good in enumerate(goods):
        stock = rng.choice([0, 4, 12]) if rng.random() < 0.06 else rng.randint(15, 600)
        cost = good.cost * PLN // 100 if seller.money else lands.here().amount(good.cost)
        origin = origins[(i % 5 == 4) * (len(origins) - 1)]["code"]
        words = (good.title, good.gtin, good.mpn, good.brand, good.category, good.options, good.pack_size, good.weight_g)
        world.db.execute(
            f"insert into supply_item values ({','.join('?' * 14)},0)", (supplier, good.number, *words, cost, cost, stock, origin)
        )
        world.db.execute("insert into supply_history values (?,?,?,?,?)", (supplier, good.number, start, cost, stock))


def _set_out(world: World, store: str, goods: list[Good], start: int, times: int) -> None:
    """Show goods in a store; times: percent of cost and sending that it asks at first."""
    for i, good in enumerate(goods):
        # A few things in the shop carry no barcode: somebody has to find their item.
        bare = i % 25 == 7
        # And of these every second one is named so shortly that several items fit.
        short = i % 50 == 7
        title = good.shop_title.replace(f", {good.options}", "") if short else good.shop_title
        price = lands.here().amount((good.cost + 220) * times // 100) // 100 * 100 + lands.here().ending
        world.db.execute(
            "insert into shop_listing(store, sku, title, gtin, mpn, brand, category, options, weight_g, price, quantity, state, "
            f"popularity) values ({','.join('?' * 13)})",
            (
                store,
                good.sku,
                title,
                "" if bare else good.gtin,
                "" if bare else good.mpn,
                good.brand,
                good.category,
                "" if short else good.options,
                good.weight_g,
                price,
                8,
                "live",
                good.popularity,
            ),
        )
        show(world, store, good.sku, start, "shop")


def show(world: World, store: str, sku: str, at: int, by: str, key: str = "") -> None:
    world.db.execute(
        "insert into shop_show(at, store, sku, price, quantity, state, key, by) "
        "select ?, store, sku, price, quantity, state, ?, ? from shop_listing where store = ? and sku = ?",
        (at, key, by, store, sku),
    )


def _market(world: World, rng: random.Random, at: int, share: float) -> None:
    """Some items change price or stock; some run out, some come back."""
    if not world.numbers:
        rows = world.rows("select supplier, number from supply_item order by supplier = 'wholesale' desc, number")
        world.numbers = [(row["supplier"], row["number"]) for row in rows if row["supplier"] in SELLERS]
    for supplier, number in rng.sample(world.numbers, max(1, int(len(world.numbers) * share))):
        row = world.one("select base, cost, stock from supply_item where supplier = ? and number = ? and not gone", (supplier, number))
        if row and rng.random() < SELLERS[supplier].moves:
            set_item(world, supplier, number, *_moved(rng, row["base"], row["cost"], row["stock"]), at)


def _moved(rng: random.Random, base: int, cost: int, stock: int) -> tuple[int, int]:
    """An item's next cost and stock: mostly stock falls, sometimes the price drifts, empty shelves are filled again."""
    if rng.random() < 0.35:
        drift = rng.choice([-6, -4, -3, -2, 2, 2, 3, 4, 6, 9])
        return max(1, min(max(cost * (100 + drift) // 100, base * 7 // 10), base * 15 // 10)), stock
    if stock < 5 and rng.random() < 0.5:
        return cost, rng.choice([120, 240, 400])
    return cost, max(0, stock - (rng.randint(1, 5) if stock < 40 else rng.randint(1, max(2, stock // 6))))


def _live_the_past(world: World, rng: random.Random, supplier: str, start: int, days: int) -> None:
    """The weeks before today, in memory and written once."""
    items = {
        row["number"]: [row["base"], row["cost"], row["stock"]]
        for row in world.rows("select number, base, cost, stock from supply_item where supplier = ?", (supplier,))
    }
    share = max(1, int(len(items) * 0.02 * SELLERS[supplier].moves))
    numbers, history = sorted(items), []
    for day in range(days):
        for _ in range(6):
            at = start + day * DAY + rng.randint(0, DAY)
            for number in rng.sample(numbers, min(share, len(numbers))):
                item = items[number]
                item[1], item[2] = _moved(rng, *item)
                history.append((supplier, number, at, item[1], item[2]))
    history.sort(key=lambda one: one[2])
    world.db.executemany("insert into supply_history values (?,?,?,?,?)", history)
    world.db.executemany(
        "update supply_item set cost = ?, stock = ? where supplier = ? and number = ?",
        [(item[1], item[2], supplier, number) for number, item in items.items()],
    )


def set_item(world: World, supplier: str, number: str, cost: int, stock: int, at: int) -> None:
    """Change an item's price and stock, and remember that it was so."""
    world.db.execute("update supply_item set cost = ?, stock = ? where supplier = ? and number = ?", (cost, stock, supplier, number))
    world.db.execute("insert into supply_history values (?,?,?,?,?)", (supplier, number, at, cost, stock))


def live(world: World) -> list[dict[str, Any]]:
    """Let everything happen that is due by now. Returns new orders, for the webhook."""
    came: list[dict[str, Any]] = []
    while True:
        with world.change():
            event = world.one("select * from event where due <= ? order by due, id limit 1", (world.now(),))
            if not event:
                return came
            world.db.execute("delete from event where id = ?", (event["id"],))
            # Luck belongs to the event, so that the same seed lives the same life at any speed.
            # Its time belongs to it too, since the number of one that is over may be given again.
            rng = random.Random(f"{world.seed}-{event['id']}-{event['kind']}-{event['due']}")
            came += _happen(world, rng, event["kind"], json.loads(event["body"]), event["due"])


def _happen(world: World, rng: random.Random, kind: str, body: dict[str, Any], at: int) -> list[dict[str, Any]]:
    if kind == "market":
        share = float(world.fact("market_share", 0.004))
        if share:
            _market(world, rng, at, share)
        world.plan(at + 5 * MINUTE, "market")
    elif kind == "buyer":
        per_day = float(world.fact("buyers_a_day", 60))
        if per_day <= 0:
            world.plan(at + HOUR, "buyer")
            return []
        world.plan(at + int(rng.expovariate(1.0) * DAY / per_day) + 1, "buyer")
        order = buy(world, rng, at)
        return [order] if order else []
    elif kind in HAPPENS:
        HAPPENS[kind](world, body)
    elif kind == "decide":
        _decide(world, rng, body["purchase"], at)
    elif kind == "ship":
        _ship(world, rng, body["purchase"], at)
        _tell_shipped(world, body["purchase"])
    elif kind == "correct":
        world.db.execute("update purchase set tracking_number = ?, updated = ? where id = ?", (body["number"], at, body["purchase"]))
        _tell_shipped(world, body["purchase"])
    elif kind == "post":
        world.db.execute(
            "insert into parcel_event(number, at, kind, told, place) values (?,?,?,?,?)",
            (body["number"], at, body["event"], body["told"], body["place"]),
        )
        if body["event"] == "returned":
            for tell in BACK:
                tell(world, body["number"])
    return []


def buy(
    world: World,
    rng: random.Random,
    at: int,
    sku: str | None = None,
    quantity: int | None = None,
    country: str | None = None,
    store: str | None = None,
    given: dict[str, str] | None = None,
) -> dict[str, Any] | None:
    """A buyer buys what is on sale at the price shown; None when nothing (or not that) is. given: what they wrote of themselves."""
    where = "state = 'live' and quantity > 0"
    values: list[str] = []
    for column, value in (("sku", sku), ("store", store)):
        if value:
            where, values = f"{where} and {column} = ?", [*values, value]
    on_sale = world.rows(f"select * from shop_listing where {where} order by store = 'shop' desc, store, sku", values)
    if not on_sale:
        return None
    first = rng.choices(on_sale, [row["popularity"] * SHOPS[row["store"]].share for row in on_sale])[0]
    shop, picked = SHOPS[first["store"]], [first]
    if not sku and rng.random() < 0.12:
        other = rng.choice([row for row in on_sale if row["store"] == shop.code])
        picked += [other] if other["sku"] != first["sku"] else []
    lines = []
    for n, row in enumerate(picked, 1):
        wished = quantity or rng.choices([1, 2, 3], [86, 11, 3])[0]
        units = min(wished, row["quantity"])
        lines.append({"line_no": n, "sku": row["sku"], "title": row["title"], "quantity": units, "unit_price": row["price"]})
        world.db.execute("update shop_listing set quantity = quantity - ? where store = ? and sku = ?", (units, shop.code, row["sku"]))
        show(world, shop.code, row["sku"], at, "buyer")
    buyer = make_buyer(rng)
    if country and country != buyer["country"]:
        buyer["country"] = country
        if there := lands.here().far.get(country):
            buyer["city"], buyer["region"], buyer["postcode"] = there
    buyer |= given or {}
    count = world.one("select count(*) + 1 as n from shop_order where store = ?", (shop.code,))
    assert count
    number = f"{shop.prefix}{shop.first_number + count['n']}"
    days = 12 if buyer["country"] != lands.here().country else 7 if shop.code == "shop" else 10
    body = {"number": number, "buyer": buyer, "lines": lines, "promised_days": days, "store": shop.code}
    if shop.code == "shop":
        body |= _beside(world, sum(line["unit_price"] * line["quantity"] for line in lines), count["n"])
    world.db.execute(
        "insert into shop_order(store, number, at, state, body) values (?,?,?,?,?)", (shop.code, number, at, "open", json.dumps(body))
    )
    return body | {"at": at}


def _beside(world: World, paid: int, nth: int) -> dict[str, int]:
    """What the own shop's buyers pay for sending below a sum, and what is taken off every eighth order."""
    sending = int(world.fact("shop_sending", 0)) if paid < int(world.fact("shop_free_from", 3000)) else 0
    off = float(world.fact("shop_discount", 0)) if nth % 8 == 0 else 0.0
    return {"shipping": lands.here().amount(sending), "discount": int(paid * off / 100)}


def _tell_shipped(world: World, purchase: int) -> None:
    for tell in SHIPPED:
        tell(world, purchase)


def _decide(world: World, rng: random.Random, number: int, at: int) -> None:
    purchase = world.one("select * from purchase where id = ?", (number,))
    if not purchase or purchase["state"] != "received":
        return
    lines = json.loads(purchase["body"])["lines"]
    short = None
    for line in lines:
        item = world.one("select * from supply_item where supplier = ? and number = ? and not gone", (purchase["supplier"], line["item"]))
        if not item or item["stock"] < line["quantity"]:
            short = line["item"]
    if short:
        world.db.execute(
            "update purchase set state = 'refused', told = ?, updated = ? where id = ?",
            (f"{short} is not in stock in that quantity", at, number),
        )
        return
    for line in lines:
        item = world.one("select * from supply_item where supplier = ? and number = ?", (purchase["supplier"], line["item"]))
        assert item
        set_item(world, purchase["supplier"], line["item"], item["cost"], item["stock"] - line["quantity"], at)
    world.db.execute("update purchase set state = 'accepted', updated = ? where id = ?", (at, number))
    world.plan(at + rng.randint(2 * HOUR, 20 * HOUR), "ship", purchase=number)


def s10(serial: int) -> str:
    """Eight digits of a parcel's number with their check digit."""
    digits = f"{serial:08d}"
    rest = 11 - sum(int(d) * w for d, w in zip(digits, _S10, strict=True)) % 11
    return f"{digits}{ {10: 0, 11: 5}.get(rest, rest) }"


def _ship(world: World, rng: random.Random, number: int, at: int) -> None:
    purchase = world.one("select * from purchase where id = ?", (number,))
    if not purchase or purchase["state"] != "accepted":
        return
    digits, check = s10(10_000_000 + number * 37 % 80_000_000)[:8], int(s10(10_000_000 + number * 37 % 80_000_000)[8])
    home_country = lands.here().country
    tracking = f"SW{digits}{check}{home_country}"
    given = tracking
    if rng.random() < 0.02:
        # A slip of the pen, put right some hours later.
        given = f"SW{digits}{(check + 1) % 10}{home_country}"
        world.plan(at + 6 * HOUR, "correct", purchase=number, number=tracking)
    world.db.execute("update purchase set state = 'shipped', tracking_number = ?, updated = ? where id = ?", (given, at, number))
    country = json.loads(purchase["body"])["address"]["country"]
    stuck = rng.random() < 0.03
    world.db.execute("insert or ignore into parcel values (?,?,?,?)", (tracking, number, country, int(stuck)))
    # Now and then a parcel finds nobody and goes back; a luck of its own, so that the rest of the life stays the same.
    back = random.Random(f"back-{world.seed}-{number}").random() < float(world.fact("comes_back", 0.02))
    days = rng.uniform(1.2, 2.9) if country == home_country else rng.uniform(3.5, 6.5)
    seller = seller_named(purchase["supplier"])
    home = seller.origins[0]["name"]
    days += 3.5 if seller.country != home_country else 0
    steps = [
        (0.0, "label", "Label made", home),
        (0.12, "collected", "Collected", home),
        (0.45, "moving", "Sorted", "Midway depot"),
        (0.85, "moving", "At the delivery office", "Near the buyer"),
        (1.0, "returned", "Back to its sender", home) if back else (1.0, "delivered", "Delivered", "At the door"),
    ]
    for part, event, told, place in steps[: 1 if stuck else 5]:
        world.plan(at + int(part * days * DAY), "post", number=tracking, event=event, told=told, place=place)


def _ship_again(world: World, body: dict[str, Any]) -> None:
    """What a claim made a seller send once more leaves at once; the claim tells its number."""
    number = int(body["purchase"])
    _ship(world, random.Random(f"again-{world.seed}-{number}"), number, world.now())
    row = world.one("select tracking_number from purchase where id = ?", (number,))
    world.db.execute(
        "update claim set state = 'paid', tracking = ? where reference = ?", (row and row["tracking_number"], body["reference"])
    )


HAPPENS["ship_again"] = _ship_again
