"""suppliers have limits of looking and plans, rates have a source, items a time of their own to be looked at, stores' differences are kept"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

NUMBER = sa.BigInteger().with_variant(sa.Integer(), "sqlite")
OWNERS = "owner in ('store','supplier','carrier','mailbox','rates')"
OLD_OWNERS = "owner in ('store','supplier','carrier','mailbox')"
LIMITS = ("calls_minute", "calls_day", "hour_from", "hour_to")


def upgrade() -> None:
    with op.batch_alter_table("supplier") as batch:
        for name in LIMITS:
            batch.add_column(sa.Column(name, sa.BigInteger(), nullable=True))
        batch.add_column(sa.Column("plans", Json(), nullable=False, server_default="[]"))
    with op.batch_alter_table("item") as batch:
        batch.add_column(sa.Column("look_every", sa.BigInteger(), nullable=True))
    with op.batch_alter_table("rate") as batch:
        batch.add_column(sa.Column("source", sa.Text(), nullable=False, server_default="hand"))
    with op.batch_alter_table("store") as batch:
        batch.add_column(sa.Column("next_check", UtcTime(), nullable=True))
    with op.batch_alter_table("link") as batch:
        batch.drop_constraint(op.f("ck_link_owner"), type_="check")
        batch.create_check_constraint(op.f("ck_link_owner"), OWNERS)
    op.create_table(
        "rate_source",
        sa.Column("id", NUMBER, nullable=False),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.Column("code", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("next_ask", UtcTime(), nullable=True),
        sa.Column("doubted", Json(), nullable=False, server_default="{}"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_rate_source")),
        sa.UniqueConstraint("code", name=op.f("uq_rate_source_code")),
    )
    op.create_table(
        "drift",
        sa.Column("id", NUMBER, nullable=False),
        sa.Column("listing_id", sa.BigInteger(), nullable=False),
        sa.Column("seen_at", UtcTime(), nullable=False),
        sa.Column("price", sa.BigInteger(), nullable=False),
        sa.Column("quantity", sa.BigInteger(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("ended_at", UtcTime(), nullable=True),
        sa.Column("how", sa.Text(), nullable=False, server_default=""),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_drift")),
        sa.ForeignKeyConstraint(["listing_id"], ["listing.id"], name=op.f("fk_drift_listing_id_listing")),
    )
    op.create_index("ix_drift_ended_at", "drift", ["ended_at"])


def downgrade() -> None:
    op.drop_table("drift")
    op.drop_table("rate_source")
    op.execute("delete from link where owner = 'rates'")
    with op.batch_alter_table("link") as batch:
        batch.drop_constraint(op.f("ck_link_owner"), type_="check")
        batch.create_check_constraint(op.f("ck_link_owner"), OLD_OWNERS)
    with op.batch_alter_table("store") as batch:
        batch.drop_column("next_check")
    with op.batch_alter_table("rate") as batch:
        batch.drop_column("source")
    with op.batch_alter_table("item") as batch:
        batch.drop_column("look_every")
    with op.batch_alter_table("supplier") as batch:
        batch.drop_column("plans")
        for name in LIMITS:
            batch.drop_column(name)
