"""what was read out of sentences stands as a code: why a lane is in its state, and what is wrong with a bill"""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

# Of lanes that are there, by the words that stood for it until now.
CAUSES = (
    ("person", "set by %"),
    ("confirmed", "looked at and right%"),
    ("record", "by what happened: %"),
    ("packs", "%comes in packs of%"),
    ("supplier_ended", "its supplier is disconnected"),
    ("proven", "proven by %"),
)
FAULTS = (("other_currency", "its bill is in %"), ("far_higher", "its bill of %"))


def cause_of(cause: str, words: str) -> sa.TextClause:
    change = sa.text("update lane set cause = :cause where cause = '' and reason like :words")
    return change.bindparams(cause=cause, words=words)


def upgrade() -> None:
    op.add_column("lane", sa.Column("cause", sa.Text(), nullable=False, server_default=""))
    for cause, words in CAUSES:
        op.execute(cause_of(cause, words))
    op.add_column("purchase_order", sa.Column("bill_fault", sa.Text(), nullable=False, server_default=""))
    for fault, words in FAULTS:
        change = sa.text("update purchase_order set bill_fault = :fault where noted like :words")
        op.execute(change.bindparams(fault=fault, words=words))
    some = sa.text("bill_fault <> ''")
    op.create_index("ix_purchase_order_bill_fault", "purchase_order", ["id"], sqlite_where=some, postgresql_where=some)
    op.drop_index("ix_purchase_order_noted", "purchase_order")


def downgrade() -> None:
    some = sa.text("noted <> ''")
    op.create_index("ix_purchase_order_noted", "purchase_order", ["noted"], sqlite_where=some, postgresql_where=some)
    op.drop_index("ix_purchase_order_bill_fault", "purchase_order")
    with op.batch_alter_table("purchase_order") as batch:
        batch.drop_column("bill_fault")
    with op.batch_alter_table("lane") as batch:
        batch.drop_column("cause")
