"""what samples cost and what suppliers' plans cost a month is in the books"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import UtcTime

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("sample", sa.Column("cost", sa.BigInteger(), nullable=True))
    op.add_column("sample", sa.Column("currency", sa.Text(), nullable=False, server_default=""))
    with op.batch_alter_table("overhead") as batch:
        batch.add_column(sa.Column("supplier_id", sa.BigInteger(), nullable=True))
        batch.create_foreign_key("fk_overhead_supplier_id_supplier", "supplier", ["supplier_id"], ["id"])
        batch.add_column(sa.Column("plan", sa.Text(), nullable=False, server_default=""))
        batch.add_column(sa.Column("made_at", UtcTime(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("overhead") as batch:
        batch.drop_constraint("fk_overhead_supplier_id_supplier", type_="foreignkey")
        for column in ("made_at", "plan", "supplier_id"):
            batch.drop_column(column)
    for column in ("currency", "cost"):
        op.drop_column("sample", column)
