"""people sign in with a second step, and with a link by mail when they forgot their password; orders whose buyer was erased"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "password_link",
        sa.Column("id", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), primary_key=True),
        sa.Column("hash", sa.Text(), nullable=False),
        sa.Column("person_id", sa.BigInteger(), sa.ForeignKey("person.id", name="fk_password_link_person_id_person"), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("used_at", UtcTime(), nullable=True),
        sa.UniqueConstraint("hash", name="uq_password_link_hash"),
    )
    op.create_index("ix_password_link_person_id", "password_link", ["person_id", "id"])
    with op.batch_alter_table("person") as batch:
        batch.add_column(sa.Column("second", sa.Text(), nullable=False, server_default=""))
        batch.add_column(sa.Column("second_step", sa.BigInteger(), nullable=False, server_default="0"))
        batch.add_column(sa.Column("recovery", Json(), nullable=False, server_default="[]"))
    op.add_column("order", sa.Column("erased_at", UtcTime(), nullable=True))


def downgrade() -> None:
    op.drop_column("order", "erased_at")
    with op.batch_alter_table("person") as batch:
        for column in ("recovery", "second_step", "second"):
            batch.drop_column(column)
    op.drop_table("password_link")
