"""who is signed in stands here and not in a cookie; mails to suppliers carry a key; a mailbox's server may be believed"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import UtcTime

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def _number() -> sa.Column:
    return sa.Column("id", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), primary_key=True)


def upgrade() -> None:
    op.create_table(
        "sign_in",
        _number(),
        sa.Column("hash", sa.Text(), nullable=False),
        sa.Column("person_id", sa.BigInteger(), sa.ForeignKey("person.id", name="fk_sign_in_person_id_person"), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("seen_at", UtcTime(), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("program", sa.Text(), nullable=False),
        sa.Column("ended_at", UtcTime(), nullable=True),
        sa.UniqueConstraint("hash", name="uq_sign_in_hash"),
    )
    op.create_index("ix_sign_in_person_id", "sign_in", ["person_id", "id"])
    op.create_table(
        "mail_key",
        _number(),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("supplier_id", sa.BigInteger(), sa.ForeignKey("supplier.id", name="fk_mail_key_supplier_id_supplier"), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.UniqueConstraint("key", name="uq_mail_key_key"),
    )
    some = sa.text("failed > 0")
    op.create_index("ix_job_failed", "job", ["id"], sqlite_where=some, postgresql_where=some)
    with op.batch_alter_table("inbox") as batch:
        batch.add_column(sa.Column("trusts", sa.Text(), nullable=False, server_default=""))
    with op.batch_alter_table("letter") as batch:
        batch.add_column(sa.Column("held", sa.Boolean(), nullable=False, server_default=sa.false()))
    with op.batch_alter_table("person") as batch:
        batch.add_column(sa.Column("gone_at", UtcTime(), nullable=True))


def downgrade() -> None:
    for table, column in (("person", "gone_at"), ("letter", "held"), ("inbox", "trusts")):
        with op.batch_alter_table(table) as batch:
            batch.drop_column(column)
    op.drop_index("ix_job_failed", "job")
    op.drop_table("mail_key")
    op.drop_table("sign_in")
