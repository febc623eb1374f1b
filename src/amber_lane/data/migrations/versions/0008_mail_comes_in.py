"""suppliers' answers come in by mail, each mail once; a batch can be marked as paid, an order that was cancelled stays so"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import UtcTime

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

NUMBER = sa.BigInteger().with_variant(sa.Integer(), "sqlite")
OWNERS = "owner in ('store','supplier','carrier','mailbox','rates','inbox')"
OLD_OWNERS = "owner in ('store','supplier','carrier','mailbox','rates')"


def upgrade() -> None:
    with op.batch_alter_table("link") as batch:
        batch.drop_constraint(op.f("ck_link_owner"), type_="check")
        batch.create_check_constraint(op.f("ck_link_owner"), OWNERS)
    with op.batch_alter_table("purchase_order") as batch:
        batch.add_column(sa.Column("paid_at", UtcTime(), nullable=True))
        batch.add_column(sa.Column("noted", sa.Text(), nullable=False, server_default=""))
    where = sa.text("noted <> ''")
    op.create_index("ix_purchase_order_noted", "purchase_order", ["noted"], sqlite_where=where, postgresql_where=where)
    where = sa.text("ended_by = 'elsewhere'")
    op.create_index("ix_parcel_astray", "parcel", ["ended_by"], sqlite_where=where, postgresql_where=where)
    with op.batch_alter_table("order") as batch:
        batch.add_column(sa.Column("cancelled_at", UtcTime(), nullable=True))
    op.execute("update \"order\" set cancelled_at = came_at where wants in ('cancel', 'return')")
    op.create_table(
        "inbox",
        sa.Column("id", NUMBER, nullable=False),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("next_read", UtcTime(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_inbox")),
    )
    op.create_table(
        "letter",
        sa.Column("id", NUMBER, nullable=False),
        sa.Column("inbox_id", sa.BigInteger(), nullable=False),
        sa.Column("uid", sa.Text(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("sender", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("supplier_id", sa.BigInteger(), nullable=True),
        sa.Column("told", sa.Text(), nullable=False),
        sa.Column("needs", sa.Boolean(), nullable=False),
        sa.Column("read_at", UtcTime(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_letter")),
        sa.UniqueConstraint("inbox_id", "uid", name=op.f("uq_letter_inbox_id_uid")),
        sa.ForeignKeyConstraint(["inbox_id"], ["inbox.id"], name=op.f("fk_letter_inbox_id_inbox")),
        sa.ForeignKeyConstraint(["supplier_id"], ["supplier.id"], name=op.f("fk_letter_supplier_id_supplier")),
    )
    where = sa.text("needs")
    op.create_index("ix_letter_needs", "letter", ["needs"], sqlite_where=where, postgresql_where=where)


def downgrade() -> None:
    op.drop_table("letter")
    op.drop_table("inbox")
    op.execute("delete from link where owner = 'inbox'")
    with op.batch_alter_table("order") as batch:
        batch.drop_column("cancelled_at")
    op.drop_index("ix_parcel_astray", "parcel")
    op.drop_index("ix_purchase_order_noted", "purchase_order")
    with op.batch_alter_table("purchase_order") as batch:
        batch.drop_column("paid_at")
        batch.drop_column("noted")
    with op.batch_alter_table("link") as batch:
        batch.drop_constraint(op.f("ck_link_owner"), type_="check")
        batch.create_check_constraint(op.f("ck_link_owner"), OLD_OWNERS)
