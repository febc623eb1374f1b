"""what lanes came to is kept for routing, plans know risk and the next best, buying accounts have approvals, orders may wait for a hand"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

PROVED = ("refuse_ppm", "late_ppm")
STATES = "state in ('waiting','sent','accepted','refused','shipped','stopped','withdrawn')"
OLD_STATES = "state in ('waiting','sent','accepted','refused','shipped','stopped')"
NOTE = "Please put no prices or adverts in the parcel."
# How we ask suppliers to send, and what buyers asked for after we had bought.
WORDS = {
    "store": (("greeting", ""), ("phone", "")),
    "supplier": (("parcel_note", NOTE), ("phone_rule", "buyer"), ("order_form", "sheet"), ("order_road", "hand")),
    "order": (("wants", ""), ("wants_told", "")),
    "carrier": (("shape", ""),),
    "parcel": (("ended_by", ""),),
    "snooze": (("told", ""),),
}


def upgrade() -> None:
    for table, columns in WORDS.items():
        with op.batch_alter_table(table) as batch:
            for name, default in columns:
                batch.add_column(sa.Column(name, sa.Text(), nullable=False, server_default=default))
    with op.batch_alter_table("purchase_order") as batch:
        batch.drop_constraint(op.f("ck_purchase_order_state"), type_="check")
        batch.create_check_constraint(op.f("ck_purchase_order_state"), STATES)
    for table, names in (("lane", (*PROVED, "sure_days")), ("supplier", PROVED), ("buying_account", ("send_minutes",))):
        with op.batch_alter_table(table) as batch:
            for name in names:
                batch.add_column(sa.Column(name, sa.BigInteger(), nullable=True))
    with op.batch_alter_table("buying_account") as batch:
        batch.add_column(sa.Column("send", sa.Text(), nullable=True))
    op.create_index(op.f("ix_purchase_order_order_id"), "purchase_order", ["order_id"])
    where = sa.text("wants <> ''")
    op.create_index(op.f("ix_order_wants"), "order", ["wants"], sqlite_where=where, postgresql_where=where)
    with op.batch_alter_table("purchase_order") as batch:
        batch.add_column(sa.Column("bill_taken", sa.Boolean(), nullable=False, server_default=sa.false()))
    with op.batch_alter_table("purchase_line") as batch:
        batch.add_column(sa.Column("refused", sa.Boolean(), nullable=False, server_default=sa.false()))
    with op.batch_alter_table("message_template") as batch:
        batch.add_column(sa.Column("delay_minutes", sa.BigInteger(), nullable=False, server_default="0"))
    with op.batch_alter_table("plan") as batch:
        for name in ("risk", "parcels"):
            batch.add_column(sa.Column(name, sa.BigInteger(), nullable=False, server_default="0"))
        batch.add_column(sa.Column("next_best", Json(), nullable=False, server_default="{}"))
    with op.batch_alter_table("order") as batch:
        batch.add_column(sa.Column("by_hand", sa.Boolean(), nullable=False, server_default=sa.false()))
        batch.add_column(sa.Column("allowed", Json(), nullable=False, server_default="[]"))
    # What a person let go before was let past every limit.
    every = '["least_profit","look_over","too_late","unusual","splits","address"]'
    op.execute(sa.text("update \"order\" set allowed = cast(:every as json) where lifted" if op.get_bind().dialect.name == "postgresql"
                       else "update \"order\" set allowed = :every where lifted").bindparams(every=every))
    with op.batch_alter_table("order") as batch:
        batch.drop_column("lifted")


def downgrade() -> None:
    op.drop_index(op.f("ix_order_wants"), table_name="order")
    op.drop_index(op.f("ix_purchase_order_order_id"), table_name="purchase_order")
    with op.batch_alter_table("purchase_order") as batch:
        batch.drop_constraint(op.f("ck_purchase_order_state"), type_="check")
        batch.create_check_constraint(op.f("ck_purchase_order_state"), OLD_STATES)
    for table, columns in WORDS.items():
        with op.batch_alter_table(table) as batch:
            for name, _ in columns:
                batch.drop_column(name)
    with op.batch_alter_table("order") as batch:
        batch.add_column(sa.Column("lifted", sa.Boolean(), nullable=False, server_default=sa.false()))
        batch.drop_column("allowed")
        batch.drop_column("by_hand")
    with op.batch_alter_table("plan") as batch:
        for name in ("next_best", "parcels", "risk"):
            batch.drop_column(name)
    with op.batch_alter_table("purchase_order") as batch:
        batch.drop_column("bill_taken")
    with op.batch_alter_table("purchase_line") as batch:
        batch.drop_column("refused")
    with op.batch_alter_table("message_template") as batch:
        batch.drop_column("delay_minutes")
    for table, names in (("buying_account", ("send_minutes", "send")), ("supplier", PROVED), ("lane", (*PROVED, "sure_days"))):
        with op.batch_alter_table(table) as batch:
            for name in names:
                batch.drop_column(name)
