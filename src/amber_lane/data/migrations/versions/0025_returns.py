"""returns: part refunds, what buyers ask for in a store, goods on their way back, and addresses that are told of events"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Day, Json, UtcTime

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.add_column("order_line", sa.Column("refunded", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("order_line", sa.Column("refunded_at", UtcTime(), nullable=True))
    op.add_column("lane", sa.Column("claim_ppm", sa.BigInteger(), nullable=True))
    op.add_column("supplier", sa.Column("claim_ppm", sa.BigInteger(), nullable=True))
    op.add_column("store", sa.Column("returns_cursor", sa.Text(), server_default="", nullable=False))
    with op.batch_alter_table("claim") as table:
        table.add_column(sa.Column("buyer_amount", sa.BigInteger(), nullable=True))
        table.add_column(sa.Column("part_at", UtcTime(), nullable=True))
        table.drop_constraint(op.f("ck_claim_buyer"), type_="check")
        table.create_check_constraint(op.f("ck_claim_buyer"), "buyer in ('','refund','again','part','ask','let_go')")
    with op.batch_alter_table("link") as table:
        table.drop_constraint(op.f("ck_link_owner"), type_="check")
        owners = "'store','supplier','carrier','mailbox','rates','inbox','webhook'"
        table.create_check_constraint(op.f("ck_link_owner"), f"owner in ({owners})")
    op.create_table('webhook',
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('events', Json(), nullable=False),
    sa.Column('person_id', _id(), nullable=True),
    sa.Column('made_at', UtcTime(), nullable=False),
    sa.Column('paused_at', UtcTime(), nullable=True),
    sa.Column('ended_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['person.id'], name=op.f('fk_webhook_person_id_person')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_webhook'))
    )
    op.create_table('return_request',
    sa.Column('store_id', _id(), nullable=False),
    sa.Column('number', sa.Text(), nullable=False),
    sa.Column('order_id', _id(), nullable=False),
    sa.Column('order_line_id', _id(), nullable=False),
    sa.Column('units', sa.BigInteger(), nullable=False),
    sa.Column('reason', sa.Text(), nullable=False),
    sa.Column('words', sa.Text(), nullable=False),
    sa.Column('asked_at', UtcTime(), nullable=False),
    sa.Column('answer_by', UtcTime(), nullable=True),
    sa.Column('state', sa.Text(), nullable=False),
    sa.Column('answered_at', UtcTime(), nullable=True),
    sa.Column('claim_id', _id(), nullable=True),
    sa.Column('paid_back', sa.BigInteger(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("state in ('asked','accepted','kept','refused','lapsed')", name=op.f('ck_return_request_state')),
    sa.CheckConstraint('units > 0', name=op.f('ck_return_request_units')),
    sa.ForeignKeyConstraint(['claim_id'], ['claim.id'], name=op.f('fk_return_request_claim_id_claim')),
    sa.ForeignKeyConstraint(['order_id'], ['order.id'], name=op.f('fk_return_request_order_id_order')),
    sa.ForeignKeyConstraint(['order_line_id'], ['order_line.id'], name=op.f('fk_return_request_order_line_id_order_line')),
    sa.ForeignKeyConstraint(['store_id'], ['store.id'], name=op.f('fk_return_request_store_id_store')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_return_request')),
    sa.UniqueConstraint('store_id', 'number', name=op.f('uq_return_request_store_id_number'))
    )
    op.create_index('ix_return_request_state', 'return_request', ['state'], unique=False)
    op.create_table('goods_return',
    sa.Column('number', sa.Text(), nullable=False),
    sa.Column('claim_id', _id(), nullable=False),
    sa.Column('order_id', _id(), nullable=False),
    sa.Column('order_line_id', _id(), nullable=False),
    sa.Column('request_id', _id(), nullable=True),
    sa.Column('units', sa.BigInteger(), nullable=False),
    sa.Column('supplier_id', _id(), nullable=True),
    sa.Column('address', sa.Text(), nullable=False),
    sa.Column('refund_when', sa.Text(), nullable=False),
    sa.Column('state', sa.Text(), nullable=False),
    sa.Column('opened_at', UtcTime(), nullable=False),
    sa.Column('send_by', Day(), nullable=False),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('label_message', sa.Text(), nullable=False),
    sa.Column('label_cost', sa.BigInteger(), nullable=False),
    sa.Column('label_currency', sa.Text(), nullable=False),
    sa.Column('carrier_id', _id(), nullable=True),
    sa.Column('tracking', sa.Text(), nullable=False),
    sa.Column('last_word', sa.Text(), nullable=False),
    sa.Column('sent_at', UtcTime(), nullable=True),
    sa.Column('arrived_at', UtcTime(), nullable=True),
    sa.Column('ended_at', UtcTime(), nullable=True),
    sa.Column('sound', sa.BigInteger(), nullable=False),
    sa.Column('note', sa.Text(), nullable=False),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("label in ('','asked','made','refused')", name=op.f('ck_goods_return_label')),
    sa.CheckConstraint("refund_when in ('at_once','sent','arrived','looked_at')", name=op.f('ck_goods_return_refund_when')),
    sa.CheckConstraint("state in ('agreed','on_the_way','arrived','looked_at','dropped')", name=op.f('ck_goods_return_state')),
    sa.CheckConstraint('units > 0', name=op.f('ck_goods_return_units')),
    sa.ForeignKeyConstraint(['carrier_id'], ['carrier.id'], name=op.f('fk_goods_return_carrier_id_carrier')),
    sa.ForeignKeyConstraint(['claim_id'], ['claim.id'], name=op.f('fk_goods_return_claim_id_claim')),
    sa.ForeignKeyConstraint(['order_id'], ['order.id'], name=op.f('fk_goods_return_order_id_order')),
    sa.ForeignKeyConstraint(['order_line_id'], ['order_line.id'], name=op.f('fk_goods_return_order_line_id_order_line')),
    sa.ForeignKeyConstraint(['request_id'], ['return_request.id'], name=op.f('fk_goods_return_request_id_return_request')),
    sa.ForeignKeyConstraint(['supplier_id'], ['supplier.id'], name=op.f('fk_goods_return_supplier_id_supplier')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_goods_return')),
    sa.UniqueConstraint('number', name=op.f('uq_goods_return_number'))
    )
    op.create_index('ix_goods_return_carrier_id', 'goods_return', ['carrier_id', 'tracking'], unique=False)
    op.create_index('ix_goods_return_order_id', 'goods_return', ['order_id'], unique=False)
    op.create_index('ix_goods_return_state', 'goods_return', ['state'], unique=False)
    op.create_index('uq_goods_return_open', 'goods_return', ['claim_id'], unique=True, sqlite_where=sa.text('ended_at is null'), postgresql_where=sa.text('ended_at is null'))
    op.create_table('return_label',
    sa.Column('return_id', _id(), nullable=False),
    sa.Column('data', sa.LargeBinary(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['return_id'], ['goods_return.id'], name=op.f('fk_return_label_return_id_goods_return')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_return_label')),
    sa.UniqueConstraint('return_id', name=op.f('uq_return_label_return_id'))
    )
