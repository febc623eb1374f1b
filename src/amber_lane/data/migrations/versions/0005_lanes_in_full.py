"""lanes have a service by country, dates, proof and items from several suppliers; replacements are lanes; faults can be set aside"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_table("replacement")
    with op.batch_alter_table("lane") as batch:
        batch.add_column(sa.Column("sku_code", sa.Text(), nullable=False, server_default=""))
        batch.add_column(sa.Column("services", Json(), nullable=False, server_default="{}"))
        batch.add_column(sa.Column("starts", UtcTime(), nullable=True))
        batch.add_column(sa.Column("ends", UtcTime(), nullable=True))
        batch.add_column(sa.Column("begun", sa.Boolean(), nullable=False, server_default=sa.true()))
        batch.add_column(sa.Column("instead", sa.Boolean(), nullable=False, server_default=sa.false()))
        batch.add_column(sa.Column("proof", Json(), nullable=True))
    op.execute("update lane set sku_code = (select code from sku where sku.id = lane.sku_id)")
    in_force, columns = sa.text("until is null"), ["sku_code", "use", "state", "supplier_id", "sku_id", "id", "until"]
    op.create_index("ix_lane_sku_code", "lane", columns, sqlite_where=in_force, postgresql_where=in_force)
    with op.batch_alter_table("lane_part") as batch:
        batch.add_column(sa.Column("service", sa.Text(), nullable=False, server_default=""))
        batch.add_column(sa.Column("cost_then", sa.BigInteger(), nullable=True))
    # In one word, since making the table anew would lose its checks.
    op.execute("alter table lane_part add column origin_id bigint references origin(id)")
    op.execute("update lane_part set cost_then = (select cost from item where item.id = lane_part.item_id)")
    gone = sa.text("offer = 'gone'")
    op.drop_index("ix_lane_sku_id", "lane")
    op.create_index("ix_lane_sku_id", "lane", ["sku_id", "until", "use", "state", "supplier_id", "instead"])
    op.drop_index("ix_lane_supplier_id", "lane")
    op.create_index("ix_lane_supplier_id", "lane", ["supplier_id", "until", "state", "use"])
    op.create_index("ix_item_gone", "item", ["offer"], sqlite_where=gone, postgresql_where=gone)
    op.drop_index("ix_listing_sku_id", "listing")
    op.create_index("ix_listing_sku_id", "listing", ["sku_id", "state"])
    op.create_index("ix_purchase_line_item_id", "purchase_line", ["item_id"])
    with op.batch_alter_table("store") as batch:
        batch.add_column(sa.Column("replacements", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.create_table(
        "fault_seen",
        sa.Column("id", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_fault_seen")),
        sa.UniqueConstraint("key", name=op.f("uq_fault_seen_key")),
    )


def downgrade() -> None:
    op.drop_table("fault_seen")
    op.drop_index("ix_purchase_line_item_id", "purchase_line")
    op.drop_index("ix_listing_sku_id", "listing")
    op.create_index("ix_listing_sku_id", "listing", ["sku_id"])
    op.drop_index("ix_item_gone", "item")
    op.drop_index("ix_lane_sku_code", "lane")
    op.drop_index("ix_lane_supplier_id", "lane")
    op.create_index("ix_lane_supplier_id", "lane", ["supplier_id"])
    op.drop_index("ix_lane_sku_id", "lane")
    op.create_index("ix_lane_sku_id", "lane", ["sku_id"])
    with op.batch_alter_table("store") as batch:
        batch.drop_column("replacements")
    with op.batch_alter_table("lane_part") as batch:
        batch.drop_column("cost_then")
        batch.drop_column("service")
        batch.drop_column("origin_id")
    with op.batch_alter_table("lane") as batch:
        for column in ("sku_code", "proof", "instead", "begun", "ends", "starts", "services"):
            batch.drop_column(column)
    number = sa.BigInteger().with_variant(sa.Integer(), "sqlite")
    op.create_table(
        "replacement",
        sa.Column("sku_id", number, nullable=False),
        sa.Column("item_id", number, nullable=False),
        sa.Column("allowed_by", sa.Text(), nullable=False),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.Column("id", number, nullable=False),
        sa.ForeignKeyConstraint(["item_id"], ["item.id"], name=op.f("fk_replacement_item_id_item")),
        sa.ForeignKeyConstraint(["sku_id"], ["sku.id"], name=op.f("fk_replacement_sku_id_sku")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_replacement")),
    )
