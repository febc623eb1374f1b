"""batches and programs in the outbox, calls counted, sheets in others' words, words and pictures of listings"""

import sqlalchemy as sa
from alembic import op

import amber_lane.data.base

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

Time, Json = amber_lane.data.base.UtcTime, amber_lane.data.base.Json
STATES = "state in ('waiting','claimed','unknown','posted','done','dropped','dead')"
OLD_STATES = "state in ('waiting','claimed','unknown','done','dropped','dead')"


def text(name):
    return sa.Column(name, sa.Text(), nullable=False, server_default="")


def maybe(name, kind):
    return sa.Column(name, kind, nullable=True)


def items(name):
    return sa.Column(name, Json(), nullable=False, server_default="[]")


ADDED = {
    "store": [maybe("title_most", sa.BigInteger()), items("banned_words"), items("title_order")],
    "supplier": [text("site"), maybe("reading", Json())],
    "link": [maybe("calls_limit", sa.BigInteger()), maybe("calls_left", sa.BigInteger()), maybe("calls_at", Time())],
    "token": [text("holder"), maybe("held_until", Time())],
    "listing": [
        text("category"),
        text("tags"),
        maybe("compare_at", sa.BigInteger()),
        items("pictures"),
        maybe("copied_from", sa.BigInteger()),
        sa.Column("follow_words", sa.Boolean(), nullable=False, server_default=sa.false()),
        maybe("theirs", Json()),
        text("told"),
        sa.Column("words_due", sa.Boolean(), nullable=False, server_default=sa.false()),
        maybe("most", sa.BigInteger()),
    ],
    "item": [maybe("looked_at", Time())],
    "sample": [text("reference"), sa.Column("quantity", sa.BigInteger(), nullable=False, server_default="1"), text("note")],
    "supplier_request": [text("note"), maybe("item_id", sa.BigInteger()), maybe("ended_at", Time())],
    "saved_search": [maybe("store_id", sa.BigInteger()), maybe("last_at", Time()), items("reports")],
}
KEYS = (("supplier_request", "item_id", "item"), ("saved_search", "store_id", "store"))


def upgrade() -> None:
    op.create_index("ix_item_changed_at", "item", ["changed_at"])
    op.create_index("ix_sku_gtin", "sku", ["gtin"])
    with op.batch_alter_table("outbox") as batch:
        batch.add_column(maybe("ticket", sa.Text()))
        batch.add_column(maybe("until", Time()))
        batch.drop_constraint(op.f("ck_outbox_state"), type_="check")
        batch.create_check_constraint(op.f("ck_outbox_state"), STATES)
    for table, columns in ADDED.items():
        with op.batch_alter_table(table) as batch:
            for column in columns:
                batch.add_column(column)
            for ours, column, other in KEYS:
                if ours == table:
                    batch.create_foreign_key(op.f(f"fk_{table}_{column}_{other}"), other, [column], ["id"])
    number = sa.BigInteger().with_variant(sa.Integer(), "sqlite")
    op.create_table(
        "picture",
        sa.Column("sha", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("width", sa.BigInteger(), nullable=False),
        sa.Column("height", sa.BigInteger(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.Column("id", number, nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_picture")),
        sa.UniqueConstraint("sha", name=op.f("uq_picture_sha")),
    )
    op.create_table(
        "picture_at",
        sa.Column("picture_id", sa.BigInteger(), nullable=False),
        sa.Column("store_id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("id", number, nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_picture_at")),
        sa.ForeignKeyConstraint(["picture_id"], ["picture.id"], name=op.f("fk_picture_at_picture_id_picture")),
        sa.ForeignKeyConstraint(["store_id"], ["store.id"], name=op.f("fk_picture_at_store_id_store")),
        sa.UniqueConstraint("picture_id", "store_id", name=op.f("uq_picture_at_picture_id_store_id")),
    )


def downgrade() -> None:
    op.drop_index("ix_sku_gtin", "sku")
    op.drop_index("ix_item_changed_at", "item")
    op.drop_table("picture_at")
    op.drop_table("picture")
    for table, columns in ADDED.items():
        with op.batch_alter_table(table) as batch:
            for ours, column, other in KEYS:
                if ours == table:
                    batch.drop_constraint(op.f(f"fk_{table}_{column}_{other}"), type_="foreignkey")
            for column in columns:
                batch.drop_column(column.name)
    with op.batch_alter_table("outbox") as batch:
        batch.drop_constraint(op.f("ck_outbox_state"), type_="check")
        batch.create_check_constraint(op.f("ck_outbox_state"), OLD_STATES)
        batch.drop_column("until")
        batch.drop_column("ticket")
