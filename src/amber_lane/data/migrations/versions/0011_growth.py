"""indexes for what was gone through whole, and how often each table was changed"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

OPEN = "state in ('waiting', 'claimed', 'unknown', 'posted')"
LANES = ["use", "state", "supplier_id", "sku_id", "id"]
INDEXES = (
    ("ix_outbox_state_id", "outbox", ["state", "id", "target"], None),
    ("ix_lane_use", "lane", LANES, "until is null"),
    ("ix_lane_landed", "lane", ["landed", *LANES], "until is null"),
    ("ix_lane_profit", "lane", ["profit", *LANES], "until is null"),
    ("ix_item_cost", "item", ["cost"], None),
    ("ix_item_stock", "item", ["stock"], None),
    ("ix_item_number", "item", ["number"], None),
    ("ix_lane_item_id", "lane", ["item_id"], "until is null"),
    ("ix_lane_fits", "lane", ["id"], "until is null and fits is null"),
    ("ix_lane_services", "lane", ["id"], "until is null and services <> '{}'"),
    ("ix_lane_kit", "lane", ["use", "id"], "until is null and items > 1"),
    ("ix_listing_theirs", "listing", ["store_id"], "theirs is not null"),
    ("ix_listing_lane_id", "listing", ["lane_id"], None),
    ("ix_listing_out", "listing", ["sku_id"], "state = 'paused' and paused_by = 'stock'"),
    ("ix_listing_hand_until", "listing", ["hand_until", "sku_id"], "hand_until is not null"),
    ("ix_listing_told", "listing", ["id"], "told <> ''"),
    ("ix_response_act_id", "response", ["act_id"], None),
    ("ix_response_item_id", "response", ["item_id"], None),
    ("ix_response_kind", "response", ["kind", "id"], None),
    ("ix_outbox_subject_id", "outbox", ["subject", "id", "state"], None),
    ("ix_outbox_open", "outbox", ["target", "id", "kind", "state", "after", "made_at"], OPEN),
    ("ix_outbox_delayed", "outbox", ["target", "fault"], "state in ('waiting', 'unknown') and tries >= 12"),
    ("ix_lane_shut", "lane", ["sku_id"], "until is null and state = 'shut'"),
    ("ix_lane_origin_id", "lane", ["origin_id", "service"], "until is null"),
    ("ix_listing_oversell", "listing", ["store_id", "id"], "state = 'paused' and shown_state = 'live' and shown_quantity > 0"),
    ("ix_listing_no_rule", "listing", ["store_id", "sku_id"], "outcome = 5 and hand_price is null and state in ('live', 'paused')"),
    ("ix_listing_bare", "listing", ["sku_id"], "lane_id is null and state in ('live', 'paused')"),
    ("ix_purchase_order_told", "purchase_order", ["state", "id"], "told <> ''"),
    ("ix_item_doubted", "item", ["id"], "offer = 'doubted'"),
    ("ix_parcel_ended_by", "parcel", ["ended_by"], None),
)


def upgrade() -> None:
    op.create_table("revision", sa.Column("name", sa.Text(), primary_key=True), sa.Column("n", sa.BigInteger(), nullable=False))
    op.create_table(
        "job_part",
        sa.Column("id", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), primary_key=True),
        sa.Column("job_id", sa.BigInteger(), sa.ForeignKey("job.id", name="fk_job_part_job_id_job"), nullable=False),
        sa.Column("body", Json(), nullable=False),
        sa.Column("tries", sa.BigInteger(), nullable=False),
    )
    op.create_table(
        "act_part",
        sa.Column("id", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), primary_key=True),
        sa.Column("act_id", sa.BigInteger(), sa.ForeignKey("act.id", name="fk_act_part_act_id_act"), nullable=False),
        sa.Column("before", Json(), nullable=True),
        sa.Column("after", Json(), nullable=True),
    )
    op.create_index("ix_act_part_act_id", "act_part", ["act_id", "id"])
    op.create_index("ix_job_part_job_id", "job_part", ["job_id", "id"])
    op.drop_index("ix_outbox_target_subject_id", "outbox")
    op.drop_index("ix_outbox_state_target_id", "outbox")
    op.drop_index("ix_parcel_astray", "parcel")
    with op.batch_alter_table("lane") as batch:
        batch.add_column(sa.Column("item_id", sa.BigInteger(), sa.ForeignKey("item.id", name="fk_lane_item_id_item"), nullable=True))
        batch.add_column(sa.Column("items", sa.BigInteger(), nullable=False, server_default="1"))
        batch.add_column(sa.Column("landed", sa.BigInteger(), nullable=True))
        batch.add_column(sa.Column("profit", sa.BigInteger(), nullable=True))
        batch.add_column(sa.Column("fits", sa.Boolean(), nullable=True))
    op.execute(
        "update lane set item_id = (select item_id from lane_part where lane_id = lane.id order by id limit 1),"
        " items = max(1, (select count(*) from lane_part where lane_id = lane.id)),"
        " landed = (select landed from listing where lane_id = lane.id and sku_id = lane.sku_id order by id limit 1),"
        " profit = (select profit from listing where lane_id = lane.id and sku_id = lane.sku_id order by id limit 1)"
    )
    for name, table, columns, where in INDEXES:
        part = {} if where is None else {"sqlite_where": sa.text(where), "postgresql_where": sa.text(where)}
        op.create_index(name, table, columns, **part)


def downgrade() -> None:
    for name, table, _, _ in reversed(INDEXES):
        op.drop_index(name, table)
    with op.batch_alter_table("lane") as batch:
        for name in ("fits", "profit", "landed", "items", "item_id"):
            batch.drop_column(name)
    op.create_index("ix_outbox_state_target_id", "outbox", ["state", "target", "id"])
    op.create_index("ix_outbox_target_subject_id", "outbox", ["target", "subject", "id"])
    astray = sa.text("ended_by = 'elsewhere'")
    op.create_index("ix_parcel_astray", "parcel", ["ended_by"], sqlite_where=astray, postgresql_where=astray)
    op.drop_table("act_part")
    op.drop_table("job_part")
    op.drop_table("revision")
