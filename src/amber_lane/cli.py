"""The command line: calculators without a server, and the application itself."""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Sequence
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from .settings import Settings

from . import __version__

app = typer.Typer(no_args_is_help=True, add_completion=False, help="Amber Lane: the desk of a dropshipping manager.")


@app.callback()
def _private() -> None:
    """Amber Lane: the desk of a dropshipping manager."""
    # Whatever is written from here on is its owner's alone.
    os.umask(0o077)


calc = typer.Typer(no_args_is_help=True, help="The computation by itself: no database, no server.")
app.add_typer(calc, name="calc")


# The money of the calculators where nobody says which, as their sheets have it since they are there.
FIXED = "GBP"


@calc.command("price")
def calc_price(
    source: Annotated[Path, typer.Argument(help="The price list, CSV or XLSX.")],
    target: Annotated[Path, typer.Argument(help="Where the prices go, CSV.")],
    currency: Annotated[str, typer.Option(help="The money of all amounts, which says how many decimals there are.")] = FIXED,
) -> None:
    """Price a list by the same rules as the application."""
    from .sheets import price as sheet

    try:
        _written(target, sheet.HEADER, sheet.price_sheet(source.read_bytes(), currency.upper()))
    except (OSError, ValueError) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error


@calc.command("match")
def calc_match(
    listings: Annotated[Path, typer.Argument(help="What the store sells: sku, title, brand, gtin, mpn, price, currency. CSV or XLSX.")],
    offers: Annotated[Path, typer.Argument(help="Supplier items: supplier, item, title, brand, gtin, mpn, pack_size, cost, currency.")],
    target: Annotated[Path, typer.Argument(help="Where the likest offers of each SKU go, CSV.")],
) -> None:
    """Find for each SKU the supplier items that are like it, and which are sure."""
    from .sheets import match as sheet
    from .sheets.table import write_csv

    try:
        rows, notes = sheet.match_sheets(listings.read_bytes(), offers.read_bytes())
        with target.open("w", encoding="utf-8", newline="") as out:
            write_csv(out, sheet.HEADER, rows)
    except (OSError, ValueError) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error
    for note in notes[:20]:
        typer.echo(note)


@calc.command("route")
def calc_route(
    orders: Annotated[Path, typer.Argument(help="Waiting order lines: order_no, line_no, sku, quantity, country, promised_by, sale_net.")],
    lanes: Annotated[Path, typer.Argument(help="Lanes: sku, lane, supplier, item, origin, unit_cost, pack_units, stock, risk_cost.")],
    origins: Annotated[Path, typer.Argument(help="What a parcel costs from each origin to each country, and how many days it takes.")],
    limits: Annotated[Path, typer.Argument(help="Spending caps: supplier, spend_cap.")],
    target: Annotated[Path, typer.Argument(help="Where the plan goes, CSV.")],
    today: Annotated[datetime, typer.Option(formats=["%Y-%m-%d"], help="The day from which arrivals are counted.")],
    min_profit: Annotated[str, typer.Option(help="The least profit an order may make.")] = "0",
    cancel_cost: Annotated[str, typer.Option(help="What holding an order costs.")] = "0",
    seconds: Annotated[float, typer.Option(help="After so long the best found is taken, and its gap told.")] = 60.0,
    currency: Annotated[str, typer.Option(help="The money of all amounts, which says how many decimals there are.")] = FIXED,
) -> None:
    """Fill waiting orders for the most profit over all together, with the proven gap."""
    import json
    import time

    from .core.currency import minor_digits, parse_money
    from .sheets import route as sheet
    from .sheets.table import write_csv

    begun = time.perf_counter()
    try:
        money = currency.upper()
        least, cancel = parse_money(min_profit, money, "min-profit"), parse_money(cancel_cost, money, "cancel-cost")
        given = (orders.read_bytes(), lanes.read_bytes(), origins.read_bytes(), limits.read_bytes())
        rows, done = sheet.route_sheets(*given, money=money, today=today.date(), min_profit=least, cancel_cost=cancel, seconds=seconds)
        with target.open("w", encoding="utf-8", newline="") as out:
            write_csv(out, sheet.HEADER, rows)
    except (OSError, ValueError) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error
    summary = {
        "objective": float(Decimal(done.objective).scaleb(-minor_digits(money))),
        "filled": done.filled,
        "held": len(done.plans) - done.filled,
        "proven_gap": round(done.gap, 8),
        "seconds": round(time.perf_counter() - begun, 2),
    }
    typer.echo(json.dumps(summary))


@calc.command("bridge")
def calc_bridge(
    before: Annotated[Path, typer.Argument(help="The period before: sku, units, sales, tax, store_fee, payment_fee, goods, shipping, …")],
    after: Annotated[Path, typer.Argument(help="The period after, in the same columns.")],
    target: Annotated[Path, typer.Argument(help="Where the effects go, CSV.")],
    currency: Annotated[str, typer.Option(help="The money of all amounts, which says how many decimals there are.")] = FIXED,
) -> None:
    """Split the change of profit between two periods into new, ended, volume, mix, price, cost, fees and other; exactly."""
    from .sheets import bridge as sheet
    from .sheets.table import write_csv

    try:
        rows = sheet.bridge_sheets(before.read_bytes(), after.read_bytes(), currency.upper())
        with target.open("w", encoding="utf-8", newline="") as out:
            write_csv(out, sheet.HEADER, rows)
    except (OSError, ValueError) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error


def _written(target: Path, header: Sequence[str], rows: list[list[str]]) -> None:
    """A calculator's sheet; its reason column is there only when a row needs it, so that a clean sheet has its columns alone."""
    from .sheets.table import write_csv

    width = len(header) if any(row[-1] for row in rows) else len(header) - 1
    with target.open("w", encoding="utf-8", newline="") as out:
        write_csv(out, header[:width], [row[:width] for row in rows])


@calc.command("print")
def calc_print(
    source: Annotated[Path, typer.Argument(help="The jobs: artwork, where it lies on its area in mm, the cloth's colour, the limits.")],
    target: Annotated[Path, typer.Argument(help="Where the answers go, CSV.")],
) -> None:
    """Look whether artwork is sharp enough, inside its area, and readable on the cloth."""
    from .sheets import print_jobs as sheet

    try:
        _written(target, sheet.HEADER, sheet.print_sheet(source.read_bytes(), source.parent))
    except (OSError, ValueError) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error


@calc.command("reorder")
def calc_reorder(
    source: Annotated[Path, typer.Argument(help="Daily sales, lead time, stock and costs by SKU.")],
    target: Annotated[Path, typer.Argument(help="Where the answers go, CSV.")],
    currency: Annotated[str, typer.Option(help="The money of all amounts, which says how many decimals there are.")] = FIXED,
) -> None:
    """Say for each SKU when to send how many, in whole cartons."""
    from .sheets import reorder as sheet

    try:
        _written(target, sheet.HEADER, sheet.reorder_sheet(source.read_bytes(), currency.upper()))
    except (OSError, ValueError) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error


@app.command()
def serve(
    world: Annotated[str, typer.Option(help="Follow the clock of a practice world at this address.")] = "",
) -> None:
    """Serve the application: pages, interface, and beside it everything that runs by itself."""
    import uvicorn

    from . import logs
    from .beside import Beside
    from .memory import few_arenas

    few_arenas()
    # All that is loaded now stays: looking for what could go would take a fifth of the start, and of every later look.
    gc.disable()
    # Much of what is worked on beside the pages is Python; so often it makes room for what answers people.
    sys.setswitchinterval(0.001)
    from .api.app import make_app, make_app_state
    from .settings import Settings

    logs.set_up()
    settings = Settings(world=world) if world else Settings()

    class Server(uvicorn.Server):
        async def startup(self, sockets: Any = None) -> None:
            await super().startup(sockets)
            if self.started:
                typer.echo(f"Amber Lane {__version__} answers at {settings.address}  (data in {settings.data.resolve()}; stop with Ctrl C)")

        def handle_exit(self, *signal: Any) -> None:
            # Pages that are open have a stream that ends with the server.
            logs.leave_out_broken_answers()
            super().handle_exit(*signal)

    # The tables are brought up to date here, before the worker begins.
    beside = Beside(world) if settings.jobs else None
    app = make_app(make_app_state(settings.model_copy(update={"jobs": False})), beside)
    gc.freeze()
    gc.enable()
    config = uvicorn.Config(
        app,
        host=settings.host,
        port=settings.port,
        root_path=settings.root,
        proxy_headers=True,
        forwarded_allow_ips=settings.trusted,
        log_level="warning",
        access_log=False,
        timeout_graceful_shutdown=2,
    )
    Server(config).run()


@app.command(hidden=True)
def work(
    world: Annotated[str, typer.Option(help="Follow the clock of a practice world at this address.")] = "",
) -> None:
    """Everything that runs by itself, and nothing else; `serve` starts it beside itself."""
    from . import logs
    from .memory import few_arenas

    few_arenas()
    from .beside import work as work_on
    from .settings import Settings

    logs.set_up()
    work_on(Settings(world=world) if world else Settings())


@app.command()
def world(
    speed: Annotated[float | None, typer.Option(help="World seconds per real second; 0 = paused. Left as it was if not given.")] = None,
    small: Annotated[bool, typer.Option(help="A few items only, for tests.")] = False,
    skus: Annotated[int, typer.Option(min=100, max=100_000, help="About how many SKUs its stores sell, where it is filled now.")] = 1330,
    house: Annotated[str, typer.Option(help="Where it lies, where it is filled now: GB, US or JP.")] = "GB",
) -> None:
    """Run the practice world: simulated store, supplier, carrier and mailbox with a clock of their own."""
    import uvicorn

    from . import logs
    from .settings import Settings
    from .world.app import make_app
    from .world.front import told
    from .world.life import populate, sized
    from .world.printing import stock_houses
    from .world.state import World

    logs.set_up()
    # By its dials an answer breaks off in the middle.
    logs.leave_out_broken_answers()
    settings = Settings()
    here = World(settings.data / "world.db", land=_land(house))
    if small:
        populate(here, items=60, sold=24, others=(40, 30), history_days=3)
    else:
        populate(here, **sized(skus))
    stock_houses(here)
    if speed is not None:
        here.set_clock(speed=speed)
    typer.echo(told(settings.world_address))
    uvicorn.run(
        make_app(here, settings.world_port + 1),
        host="127.0.0.1",
        port=settings.world_port,
        log_level="warning",
        access_log=False,
        timeout_graceful_shutdown=2,
    )


def _land(house: str) -> str:
    from .world.lands import LANDS

    if house.upper() not in LANDS:
        typer.echo(f"amber-lane: --house is one of {', '.join(LANDS)}", err=True)
        raise typer.Exit(2)
    return house.upper()


@app.command()
def agent(
    token: Annotated[str, typer.Option(envvar="AMBER_LANE_TOKEN", help="The token that Amber Lane showed when the store was joined.")],
    store: Annotated[str, typer.Option(help="The store's own address.")],
    key: Annotated[str, typer.Option(envvar="AMBER_LANE_STORE_KEY", help="name:password of your account in the store; it stays here.")],
    kind: Annotated[str, typer.Option(help="How the store is worked.")] = "craft_pages",
    at: Annotated[str, typer.Option(help="Where Amber Lane answers.")] = "http://127.0.0.1:8700",
    once: Annotated[bool, typer.Option(help="One round only.")] = False,
) -> None:
    """Work for a store without an open interface: take its waiting changes from Amber Lane, do them there, report each."""
    from . import logs
    from .agent import TokenEnded, work_for
    from .connectors.errors import Refused

    logs.set_up()
    try:
        work_for(token, store, key, kind, at, once)
    except (Refused, TokenEnded) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error
    except KeyboardInterrupt:
        raise typer.Exit(0) from None


@app.command()
def demo(
    speed: Annotated[float, typer.Option(help="How fast the practice world's time runs.")] = 60.0,
    skus: Annotated[int, typer.Option(min=100, max=100_000, help="About how many SKUs the demo data has, where it is made now.")] = 1330,
    house: Annotated[str, typer.Option(help="Where its business is, where it is made now: GB, US or JP.")] = "GB",
) -> None:
    """Fill the demo data if there is none, and serve application and practice world until Ctrl C."""
    from .demo.run import run

    raise typer.Exit(run(speed, skus, _land(house)))


@app.command("new-password")
def new_password(
    mail: Annotated[str, typer.Argument(help="The mail address they sign in with.")],
    password: Annotated[str, typer.Option(prompt=True, hide_input=True, confirmation_prompt=True, help="Asked for when not given.")],
) -> None:
    """Lets a person sign in again when no manager can help: a new password, and no second step until they set it up anew."""
    from .clock import SystemClock
    from .data.session import Database
    from .services.base.context import Context
    from .services.base.errors import UseCaseError
    from .services.people.password_reset import say_for
    from .settings import Settings

    db = Database(Settings().url)
    try:
        with db.writing() as s:
            typer.echo(say_for(Context(s, SystemClock(), "the machine"), mail.lower(), password))
    except UseCaseError as error:
        typer.echo(f"amber-lane: {error.message}", err=True)
        raise typer.Exit(2) from error
    finally:
        db.close()


@app.command()
def upgrade() -> None:
    """Bring the data to this version, with a backup before; says what changed and how to go back."""
    from .data.backups import before_change, notes
    from .data.session import Database
    from .settings import Settings

    settings = Settings()
    settings.data.mkdir(parents=True, exist_ok=True)
    db = Database(settings.url)
    kept = before_change(db, settings.data)
    db.migrate()
    db.close()
    typer.echo(notes(__version__))
    typer.echo(f"The data is as version {__version__} needs it." + (f" As it was before: {kept}" if kept else " It was so already."))


def _file_of(settings: Settings) -> Path:
    """The file that the data stands in; ends with a word where it stands in none."""
    from sqlalchemy import make_url

    url = make_url(settings.url)
    if not url.drivername.startswith("sqlite") or not url.database:
        typer.echo("amber-lane: the data stands in another kind of database; use that one's own way", err=True)
        raise typer.Exit(2)
    return Path(url.database)


@app.command()
def backup(file: Annotated[Path, typer.Argument(help="Where the copy goes; it must not be there yet.")]) -> None:
    """Copy the data, with pictures, to a file, while the application goes on. The secret is not in it: keep that apart."""
    import sqlite3

    from .data.backups import copy
    from .settings import Settings

    settings = Settings()
    place = _file_of(settings)
    if file.exists() or not place.is_file():
        typer.echo(f"amber-lane: {file} is there already" if file.exists() else f"amber-lane: there is no data in {place}", err=True)
        raise typer.Exit(2)
    try:
        copy(place, file)
    except (OSError, sqlite3.Error) as error:
        typer.echo(f"amber-lane: {place} cannot be copied to {file}: {error}", err=True)
        raise typer.Exit(2) from error
    secret = settings.data / "secret"
    message = f"{secret} (or AMBER_LANE_SECRET)" if secret.is_file() else "AMBER_LANE_SECRET"
    typer.echo(f"{file}: {file.stat().st_size / 1e6:.1f} MB. Keep {message} apart from it: without that secret keys must be entered anew.")


@app.command()
def restore(file: Annotated[Path, typer.Argument(help="A file made by backup.")]) -> None:
    """Put a copy in the place of the data; what stood there is kept. The application must not be running."""
    import fcntl

    from .data.backups import FOLDER
    from .data.backups import restore as put_back
    from .data.session import held_beside
    from .settings import Settings

    settings = Settings()
    settings.data.mkdir(parents=True, exist_ok=True)
    place = _file_of(settings)
    with held_beside(place).open("a") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            typer.echo("amber-lane: the application is running; stop it first", err=True)
            raise typer.Exit(2) from None
        try:
            was = put_back(file, place, settings.data / FOLDER)
        except (OSError, ValueError) as error:
            typer.echo(f"amber-lane: {error}; nothing was changed", err=True)
            raise typer.Exit(2) from error
    typer.echo(f"The data is that of {file}." + (f" What stood here is {was}." if was else "") + " The next start brings it up to date.")


@app.command()
def check(file: Annotated[Path | None, typer.Argument(help="A file made by backup; none = the data itself.")] = None) -> None:
    """Look the data over: whole pages, rows that belong together, counts, purchases sent once. Ends with 1 where something is wrong."""
    from .data.backups import look_over
    from .settings import Settings

    place = file or _file_of(Settings())
    if not place.is_file():
        typer.echo(f"amber-lane: there is no data in {place}", err=True)
        raise typer.Exit(2)
    faults = look_over(place)
    for one in faults:
        typer.echo(f"wrong: {one}")
    if not faults:
        typer.echo(f"{place}: all is as it should be")
    raise typer.Exit(1 if faults else 0)


@app.command()
def openapi() -> None:
    """Print the OpenAPI document that the pages' types are made from."""
    import json
    import tempfile

    from . import logs
    from .api.app import make_app, make_app_state
    from .settings import Settings

    logs.set_up()
    with tempfile.TemporaryDirectory() as folder:
        app_state = make_app_state(Settings(data=Path(folder), database_url="", world="", jobs=False, web=Path(folder)))
        typer.echo(json.dumps(make_app(app_state).openapi(), indent=1, sort_keys=True))
        app_state.db.close()


@app.command("description-schema")
def description_schema() -> None:
    """Print the JSON Schema of descriptions of partners' interfaces."""
    import json

    from .connectors.described.schema import Description

    typer.echo(json.dumps(Description.model_json_schema(by_alias=True), indent=1, sort_keys=True))


if __name__ == "__main__":
    app()
