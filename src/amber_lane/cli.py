"""The command line: calculators without a server, and the application itself."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

app = typer.Typer(no_args_is_help=True, add_completion=False, help="Amber Lane: the desk of a dropshipping manager.")
calc = typer.Typer(no_args_is_help=True, help="The computation by itself: no database, no server.")
app.add_typer(calc, name="calc")


@calc.command("price")
def calc_price(
    source: Annotated[Path, typer.Argument(help="The price list, CSV or XLSX.")],
    target: Annotated[Path, typer.Argument(help="Where the prices go, CSV.")],
) -> None:
    """Price a list by the same rules as the application."""
    from .sheets import price as sheet
    from .sheets.table import write_csv

    try:
        rows = sheet.price_sheet(source.read_bytes())
        # The reason column is there only when a row needs it, so that a clean list stays seven columns wide.
        width = len(sheet.HEADER) if any(row[-1] for row in rows) else len(sheet.HEADER) - 1
        with target.open("w", encoding="utf-8", newline="") as out:
            write_csv(out, sheet.HEADER[:width], [row[:width] for row in rows])
    except (OSError, ValueError) as error:
        typer.echo(f"amber-lane: {error}", err=True)
        raise typer.Exit(2) from error


if __name__ == "__main__":
    app()
