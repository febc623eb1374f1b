"""what lanes came to is kept for routing, plans know risk and the next best, buying accounts have approvals, orders may wait for a hand"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

PROVED = ("refuse_ppm", "late_ppm")


def upgrade() -> None:
    for table, names in (("lane", (*PROVED, "sure_days")), ("supplier", PROVED), ("buying_account", ("send_minutes",))):
        with op.batch_alter_table(table) as batch:
            for name in names:
                batch.add_column(sa.Column(name, sa.BigInteger(), nullable=True))
    with op.batch_alter_table("buying_account") as batch:
        batch.add_column(sa.Column("send", sa.Text(), nullable=True))
    with op.batch_alter_table("plan") as batch:
        for name in ("risk", "parcels"):
            batch.add_column(sa.Column(name, sa.BigInteger(), nullable=False, server_default="0"))
        batch.add_column(sa.Column("next_best", Json(), nullable=False, server_default="{}"))
    with op.batch_alter_table("order") as batch:
        batch.add_column(sa.Column("by_hand", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    with op.batch_alter_table("order") as batch:
        batch.drop_column("by_hand")
    with op.batch_alter_table("plan") as batch:
        for name in ("next_best", "parcels", "risk"):
            batch.drop_column(name)
    for table, names in (("buying_account", ("send_minutes", "send")), ("supplier", PROVED), ("lane", (*PROVED, "sure_days"))):
        with op.batch_alter_table(table) as batch:
            for name in names:
                batch.drop_column(name)
