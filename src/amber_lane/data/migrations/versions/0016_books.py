"""books: the journal of all money, settlements and statements held against it, fixed costs, closed months; what orders bring beside prices"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Day, Json, UtcTime

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.add_column("order", sa.Column("told", Json(), nullable=False, server_default="[]"))
    for name in ("shipping_paid", "discount"):
        op.add_column("order_line", sa.Column(name, sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("order_line", sa.Column("tax_by", sa.Text(), nullable=False, server_default=""))
    op.add_column("plan", sa.Column("settled", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("store", sa.Column("settled_cursor", sa.Text(), nullable=True))
    op.add_column("store", sa.Column("next_settled", UtcTime(), nullable=True))
    op.create_table(
        "journal_event",
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("about", sa.Text(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("id", _id(), primary_key=True),
    )
    op.create_table(
        "closed_month",
        sa.Column("month", Day(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("id", _id(), primary_key=True),
        sa.UniqueConstraint("month", name="uq_closed_month_month"),
    )
    op.create_table(
        "overhead",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("store_id", sa.BigInteger(), sa.ForeignKey("store.id", name="fk_overhead_store_id_store"), nullable=True),
        sa.Column("amount", sa.BigInteger(), nullable=False),
        sa.Column("currency", sa.Text(), nullable=False),
        sa.Column("first", Day(), nullable=False),
        sa.Column("last", Day(), nullable=True),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.Column("id", _id(), primary_key=True),
        sa.CheckConstraint('amount > 0', name=op.f("ck_overhead_amount")),
        sa.CheckConstraint("kind in ('overhead','plan_fee')", name=op.f("ck_overhead_kind")),
    )
    op.create_table(
        "settlement",
        sa.Column("store_id", sa.BigInteger(), sa.ForeignKey("store.id", name="fk_settlement_store_id_store"), nullable=False),
        sa.Column("number", sa.Text(), nullable=False),
        sa.Column("currency", sa.Text(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("paid", sa.BigInteger(), nullable=True),
        sa.Column("read_at", UtcTime(), nullable=False),
        sa.Column("settled_at", UtcTime(), nullable=True),
        sa.Column("id", _id(), primary_key=True),
        sa.UniqueConstraint("store_id", "number", name="uq_settlement_store_id_number"),
    )
    op.create_table(
        "settlement_row",
        sa.Column("settlement_id", sa.BigInteger(), sa.ForeignKey("settlement.id", name="fk_settlement_row_settlement_id_settlement"), nullable=False),
        sa.Column("line", sa.Text(), nullable=False),
        sa.Column("order_no", sa.Text(), nullable=False),
        sa.Column("order_id", sa.BigInteger(), sa.ForeignKey("order.id", name="fk_settlement_row_order_id_order"), nullable=True),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("amount", sa.BigInteger(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("id", _id(), primary_key=True),
        sa.CheckConstraint("kind in ('sale','shipping','discount','tax','fee','payment_fee','refund','fee_back','adjustment','payout')", name=op.f("ck_settlement_row_kind")),
        sa.UniqueConstraint("settlement_id", "line", name="uq_settlement_row_settlement_id_line"),
    )
    op.create_index("ix_settlement_row_at", "settlement_row", ["at"])
    op.create_index("ix_settlement_row_order_id", "settlement_row", ["order_id"])
    op.create_table(
        "statement_row",
        sa.Column("supplier_id", sa.BigInteger(), sa.ForeignKey("supplier.id", name="fk_statement_row_supplier_id_supplier"), nullable=False),
        sa.Column("reference", sa.Text(), nullable=False),
        sa.Column("line", sa.Text(), nullable=False),
        sa.Column("purchase_id", sa.BigInteger(), sa.ForeignKey("purchase_order.id", name="fk_statement_row_purchase_id_purchase_order"), nullable=True),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("amount", sa.BigInteger(), nullable=False),
        sa.Column("currency", sa.Text(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("read_at", UtcTime(), nullable=False),
        sa.Column("accepted_at", UtcTime(), nullable=True),
        sa.Column("claimed_at", UtcTime(), nullable=True),
        sa.Column("id", _id(), primary_key=True),
        sa.CheckConstraint("kind in ('goods','shipping','handling','tax','refund','rebate')", name=op.f("ck_statement_row_kind")),
        sa.UniqueConstraint("supplier_id", "reference", "kind", "line", name="uq_statement_row_supplier_id_reference_kind_line"),
    )
    op.create_index("ix_statement_row_open", "statement_row", ["supplier_id", "reference"], sqlite_where=sa.text('accepted_at is null'), postgresql_where=sa.text('accepted_at is null'))
    op.create_index("ix_statement_row_purchase_id", "statement_row", ["purchase_id"])
    op.create_table(
        "journal_entry",
        sa.Column("event_id", sa.BigInteger(), sa.ForeignKey("journal_event.id", name="fk_journal_entry_event_id_journal_event"), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("basis", sa.Text(), nullable=False),
        sa.Column("account", sa.Text(), nullable=False),
        sa.Column("against", sa.Text(), nullable=False),
        sa.Column("order_id", sa.BigInteger(), sa.ForeignKey("order.id", name="fk_journal_entry_order_id_order"), nullable=True),
        sa.Column("order_line_id", sa.BigInteger(), sa.ForeignKey("order_line.id", name="fk_journal_entry_order_line_id_order_line"), nullable=True),
        sa.Column("purchase_id", sa.BigInteger(), sa.ForeignKey("purchase_order.id", name="fk_journal_entry_purchase_id_purchase_order"), nullable=True),
        sa.Column("parcel_id", sa.BigInteger(), sa.ForeignKey("parcel.id", name="fk_journal_entry_parcel_id_parcel"), nullable=True),
        sa.Column("claim_id", sa.BigInteger(), sa.ForeignKey("claim.id", name="fk_journal_entry_claim_id_claim"), nullable=True),
        sa.Column("store_id", sa.BigInteger(), sa.ForeignKey("store.id", name="fk_journal_entry_store_id_store"), nullable=True),
        sa.Column("supplier_id", sa.BigInteger(), sa.ForeignKey("supplier.id", name="fk_journal_entry_supplier_id_supplier"), nullable=True),
        sa.Column("sku_id", sa.BigInteger(), sa.ForeignKey("sku.id", name="fk_journal_entry_sku_id_sku"), nullable=True),
        sa.Column("item_id", sa.BigInteger(), sa.ForeignKey("item.id", name="fk_journal_entry_item_id_item"), nullable=True),
        sa.Column("category", sa.Text(), nullable=False),
        sa.Column("country", sa.Text(), nullable=False),
        sa.Column("units", sa.BigInteger(), nullable=False),
        sa.Column("currency", sa.Text(), nullable=False),
        sa.Column("amount", sa.BigInteger(), nullable=False),
        sa.Column("rate", sa.BigInteger(), nullable=True),
        sa.Column("home", sa.BigInteger(), nullable=True),
        sa.Column("home_currency", sa.Text(), nullable=False),
        sa.Column("day", Day(), nullable=False),
        sa.Column("own_day", Day(), nullable=True),
        sa.Column("id", _id(), primary_key=True),
        sa.CheckConstraint("account in ('profit','open_orders','store','supplier','tax_office','bank')", name=op.f("ck_journal_entry_account")),
        sa.CheckConstraint('account <> against', name=op.f("ck_journal_entry_balances")),
        sa.CheckConstraint("basis in ('planned','bill','weight','rate','fee','refund','reversal','statement')", name=op.f("ck_journal_entry_basis")),
        sa.CheckConstraint("kind in ('sale','shipping_paid','discount','tax','store_fee','payment_fee','goods','shipping','handling','supplier_tax','refund','fee_back','claim','return_cost','rebate','plan_fee','sample','overhead','rate_difference','correction','prepaid','payout','supplier_paid')", name=op.f("ck_journal_entry_kind")),
        sa.CheckConstraint('(home is null) = (rate is null)', name=op.f("ck_journal_entry_rate")),
    )
    op.create_index("ix_journal_entry_day", "journal_entry", ["day"])
    op.create_index("ix_journal_entry_no_rate", "journal_entry", ["id"], sqlite_where=sa.text('home is null'), postgresql_where=sa.text('home is null'))
    op.create_index("ix_journal_entry_order_id", "journal_entry", ["order_id"], sqlite_where=sa.text('order_id is not null'), postgresql_where=sa.text('order_id is not null'))

def downgrade() -> None:
    for table in ("journal_entry", "statement_row", "settlement_row", "settlement", "overhead", "closed_month", "journal_event"):
        op.drop_table(table)
    with op.batch_alter_table("order_line") as batch:
        for column in ("tax_by", "discount", "shipping_paid"):
            batch.drop_column(column)
    with op.batch_alter_table("order") as batch:
        batch.drop_column("told")
    with op.batch_alter_table("plan") as batch:
        batch.drop_column("settled")
    with op.batch_alter_table("store") as batch:
        batch.drop_column("next_settled")
        batch.drop_column("settled_cursor")
