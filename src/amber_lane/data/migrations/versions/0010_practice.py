"""stores begin in practice, with a switch each for prices, stock and orders; listings may rest until something changes"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("store") as batch:
        for name in ("write_prices", "write_stock", "buy_orders", "mass_agreed"):
            batch.add_column(sa.Column(name, sa.Boolean(), nullable=False, server_default=sa.false()))
    # Stores that were at work go on as they were.
    op.execute("update store set write_prices = write_listings, write_stock = write_listings, buy_orders = true, mass_agreed = write_listings")
    with op.batch_alter_table("store") as batch:
        batch.drop_column("write_listings")
    with op.batch_alter_table("listing") as batch:
        batch.add_column(sa.Column("rest_price", sa.BigInteger(), nullable=True))
        batch.add_column(sa.Column("rest_stock", sa.BigInteger(), nullable=True))
    with op.batch_alter_table("order") as batch:
        batch.add_column(sa.Column("before_start", sa.Boolean(), nullable=False, server_default=sa.false()))
    with op.batch_alter_table("carrier") as batch:
        batch.add_column(sa.Column("page", sa.Text(), nullable=False, server_default=""))
    with op.batch_alter_table("supplier") as batch:
        batch.add_column(sa.Column("sheet_whole", sa.Boolean(), nullable=True))
    with op.batch_alter_table("inbox") as batch:
        batch.add_column(sa.Column("begun", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.create_table(
        "sheet_out",
        sa.Column("id", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), primary_key=True),
        sa.Column("owner", sa.Text(), nullable=False),
        sa.Column("owner_id", sa.BigInteger(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("header", Json(), nullable=False),
        sa.Column("rows", Json(), nullable=False),
        sa.Column("outbox", Json(), nullable=False),
        sa.Column("back_at", UtcTime(), nullable=True),
    )
    op.create_index("ix_sheet_out_owner", "sheet_out", ["owner", "owner_id", "id"])


def downgrade() -> None:
    op.drop_table("sheet_out")
    with op.batch_alter_table("inbox") as batch:
        batch.drop_column("begun")
    with op.batch_alter_table("supplier") as batch:
        batch.drop_column("sheet_whole")
    with op.batch_alter_table("carrier") as batch:
        batch.drop_column("page")
    with op.batch_alter_table("order") as batch:
        batch.drop_column("before_start")
    with op.batch_alter_table("listing") as batch:
        batch.drop_column("rest_stock")
        batch.drop_column("rest_price")
    with op.batch_alter_table("store") as batch:
        batch.add_column(sa.Column("write_listings", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.execute("update store set write_listings = write_prices and write_stock")
    with op.batch_alter_table("store") as batch:
        for name in ("write_prices", "write_stock", "buy_orders", "mass_agreed"):
            batch.drop_column(name)
