"""part refunds: what a buyer got back of a line that they keep, and of which claim"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import UtcTime

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("order_line", sa.Column("refunded", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("order_line", sa.Column("refunded_at", UtcTime(), nullable=True))
    with op.batch_alter_table("claim") as table:
        table.add_column(sa.Column("buyer_amount", sa.BigInteger(), nullable=True))
        table.add_column(sa.Column("part_at", UtcTime(), nullable=True))
        table.drop_constraint(op.f("ck_claim_buyer"), type_="check")
        table.create_check_constraint(op.f("ck_claim_buyer"), "buyer in ('','refund','again','part','ask','let_go')")
