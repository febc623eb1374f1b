"""claims: what is asked of a supplier for goods that are lost, late, damaged or wrong, with its story"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Day, Json, UtcTime

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    # It was made long ago for this, and nothing ever wrote to it.
    op.drop_table("claim")
    op.create_table('claim',
    sa.Column('reference', sa.Text(), nullable=False),
    sa.Column('order_id', _id(), nullable=False),
    sa.Column('order_line_id', _id(), nullable=False),
    sa.Column('purchase_id', _id(), nullable=False),
    sa.Column('supplier_id', _id(), nullable=False),
    sa.Column('parcel_id', _id(), nullable=True),
    sa.Column('reason', sa.Text(), nullable=False),
    sa.Column('units', sa.BigInteger(), nullable=False),
    sa.Column('wish', sa.Text(), nullable=False),
    sa.Column('state', sa.Text(), nullable=False),
    sa.Column('amount', sa.BigInteger(), nullable=False),
    sa.Column('currency', sa.Text(), nullable=False),
    sa.Column('paid', sa.BigInteger(), nullable=False),
    sa.Column('words', sa.Text(), nullable=False),
    sa.Column('evidence', Json(), nullable=False),
    sa.Column('opened_at', UtcTime(), nullable=False),
    sa.Column('asked_at', UtcTime(), nullable=True),
    sa.Column('due', Day(), nullable=True),
    sa.Column('reminded', sa.BigInteger(), nullable=False),
    sa.Column('answered_at', UtcTime(), nullable=True),
    sa.Column('answer', sa.Text(), nullable=False),
    sa.Column('their_number', sa.Text(), nullable=False),
    sa.Column('offered', sa.BigInteger(), nullable=True),
    sa.Column('came_back', sa.BigInteger(), nullable=False),
    sa.Column('came_at', UtcTime(), nullable=True),
    sa.Column('buyer', sa.Text(), nullable=False),
    sa.Column('buyer_at', UtcTime(), nullable=True),
    sa.Column('closed_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("buyer in ('','refund','again','ask','let_go')", name=op.f('ck_claim_buyer')),
    sa.CheckConstraint("reason in ('no_number','no_movement','lost','late','damaged','defective','wrong_item','missing','not_as_described','changed_mind')", name=op.f('ck_claim_reason')),
    sa.CheckConstraint("state in ('open','question','refused','asked','accepted','settled','dropped')", name=op.f('ck_claim_state')),
    sa.CheckConstraint("wish in ('money','again')", name=op.f('ck_claim_wish')),
    sa.CheckConstraint('units > 0 and amount >= 0 and came_back >= 0', name=op.f('ck_claim_amounts')),
    sa.ForeignKeyConstraint(['order_id'], ['order.id'], name=op.f('fk_claim_order_id_order')),
    sa.ForeignKeyConstraint(['order_line_id'], ['order_line.id'], name=op.f('fk_claim_order_line_id_order_line')),
    sa.ForeignKeyConstraint(['parcel_id'], ['parcel.id'], name=op.f('fk_claim_parcel_id_parcel')),
    sa.ForeignKeyConstraint(['purchase_id'], ['purchase_order.id'], name=op.f('fk_claim_purchase_id_purchase_order')),
    sa.ForeignKeyConstraint(['supplier_id'], ['supplier.id'], name=op.f('fk_claim_supplier_id_supplier')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_claim')),
    sa.UniqueConstraint('reference', name=op.f('uq_claim_reference'))
    )
    op.create_index('ix_claim_order_id', 'claim', ['order_id'], unique=False)
    op.create_index('ix_claim_state_due', 'claim', ['state', 'due'], unique=False)
    op.create_index('uq_claim_open', 'claim', ['purchase_id', 'order_line_id'], unique=True, sqlite_where=sa.text('closed_at is null'), postgresql_where=sa.text('closed_at is null'))
    op.create_table('claim_event',
    sa.Column('claim_id', _id(), nullable=False),
    sa.Column('at', UtcTime(), nullable=False),
    sa.Column('who', sa.Text(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['claim_id'], ['claim.id'], name=op.f('fk_claim_event_claim_id_claim')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_claim_event'))
    )
    op.create_index('ix_claim_event_claim_id', 'claim_event', ['claim_id'], unique=False)
