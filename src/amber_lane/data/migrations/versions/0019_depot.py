"""a depot of our own goods: what it takes, goods held there, loads on their way in, and the ledger of stock"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Day, Json, UtcTime

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    # Both were made long ago for this, and nothing ever wrote to them.
    op.drop_table("depot_entry")
    op.drop_table("inbound")
    op.create_table('depot_terms',
    sa.Column('supplier_id', _id(), nullable=False),
    sa.Column('storage', sa.BigInteger(), nullable=False),
    sa.Column('receive', sa.BigInteger(), nullable=False),
    sa.Column('pick', sa.BigInteger(), nullable=False),
    sa.Column('weight_most', sa.BigInteger(), nullable=False),
    sa.Column('side_most', sa.BigInteger(), nullable=False),
    sa.Column('value_most', sa.BigInteger(), nullable=False),
    sa.Column('kinds', Json(), nullable=False),
    sa.Column('carton_weight', sa.BigInteger(), nullable=False),
    sa.Column('carton_sides', Json(), nullable=False),
    sa.Column('days_low', sa.BigInteger(), nullable=False),
    sa.Column('days_high', sa.BigInteger(), nullable=False),
    sa.Column('room', sa.BigInteger(), nullable=False),
    sa.Column('address', Json(), nullable=False),
    sa.Column('cursor', sa.Text(), nullable=False),
    sa.Column('told_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['supplier_id'], ['supplier.id'], name=op.f('fk_depot_terms_supplier_id_supplier')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_depot_terms')),
    sa.UniqueConstraint('supplier_id', name=op.f('uq_depot_terms_supplier_id'))
    )
    op.create_table('inbound',
    sa.Column('supplier_id', _id(), nullable=False),
    sa.Column('from_id', _id(), nullable=True),
    sa.Column('origin_id', _id(), nullable=True),
    sa.Column('service', sa.Text(), nullable=False),
    sa.Column('reference', sa.Text(), nullable=False),
    sa.Column('state', sa.Text(), nullable=False),
    sa.Column('made_at', UtcTime(), nullable=False),
    sa.Column('ordered_at', UtcTime(), nullable=True),
    sa.Column('left_at', UtcTime(), nullable=True),
    sa.Column('reached_at', UtcTime(), nullable=True),
    sa.Column('counted_at', UtcTime(), nullable=True),
    sa.Column('due', Day(), nullable=True),
    sa.Column('cartons', Json(), nullable=False),
    sa.Column('currency', sa.Text(), nullable=False),
    sa.Column('goods', sa.BigInteger(), nullable=False),
    sa.Column('freight', sa.BigInteger(), nullable=False),
    sa.Column('billed', sa.BigInteger(), nullable=True),
    sa.Column('rate', sa.BigInteger(), nullable=False),
    sa.Column('tracking', sa.Text(), nullable=False),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('their_number', sa.Text(), nullable=False),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("state in ('planned','ordered','on_the_way','at_gate','counted','refused','cancelled')", name=op.f('ck_inbound_state')),
    sa.ForeignKeyConstraint(['from_id'], ['supplier.id'], name=op.f('fk_inbound_from_id_supplier')),
    sa.ForeignKeyConstraint(['origin_id'], ['origin.id'], name=op.f('fk_inbound_origin_id_origin')),
    sa.ForeignKeyConstraint(['supplier_id'], ['supplier.id'], name=op.f('fk_inbound_supplier_id_supplier')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_inbound')),
    sa.UniqueConstraint('reference', name=op.f('uq_inbound_reference'))
    )
    op.create_index('ix_inbound_state', 'inbound', ['state'], unique=False)
    op.create_table('held_goods',
    sa.Column('supplier_id', _id(), nullable=False),
    sa.Column('sku_id', _id(), nullable=False),
    sa.Column('item_id', _id(), nullable=True),
    sa.Column('source_id', _id(), nullable=True),
    sa.Column('source_num', sa.BigInteger(), nullable=False),
    sa.Column('source_den', sa.BigInteger(), nullable=False),
    sa.Column('number', sa.Text(), nullable=False),
    sa.Column('state', sa.Text(), nullable=False),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('answer', sa.Text(), nullable=False),
    sa.Column('asked_at', UtcTime(), nullable=False),
    sa.Column('sides', Json(), nullable=False),
    sa.Column('weight_g', sa.BigInteger(), nullable=False),
    sa.Column('value', sa.BigInteger(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('pictures', Json(), nullable=False),
    sa.Column('inner', sa.BigInteger(), nullable=False),
    sa.Column('carton', sa.BigInteger(), nullable=False),
    sa.Column('least', sa.BigInteger(), nullable=False),
    sa.Column('service', sa.BigInteger(), nullable=True),
    sa.Column('seasons', Json(), nullable=False),
    sa.Column('told', sa.BigInteger(), nullable=True),
    sa.Column('told_at', UtcTime(), nullable=True),
    sa.Column('differs_since', UtcTime(), nullable=True),
    sa.Column('quiet_until', Day(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("state in ('asked','question','agreed','refused','ended')", name=op.f('ck_held_goods_state')),
    sa.CheckConstraint('inner > 0 and source_num > 0 and source_den > 0', name=op.f('ck_held_goods_packs')),
    sa.ForeignKeyConstraint(['item_id'], ['item.id'], name=op.f('fk_held_goods_item_id_item')),
    sa.ForeignKeyConstraint(['sku_id'], ['sku.id'], name=op.f('fk_held_goods_sku_id_sku')),
    sa.ForeignKeyConstraint(['source_id'], ['item.id'], name=op.f('fk_held_goods_source_id_item')),
    sa.ForeignKeyConstraint(['supplier_id'], ['supplier.id'], name=op.f('fk_held_goods_supplier_id_supplier')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_held_goods')),
    sa.UniqueConstraint('supplier_id', 'number', name=op.f('uq_held_goods_supplier_id_number')),
    sa.UniqueConstraint('supplier_id', 'sku_id', name=op.f('uq_held_goods_supplier_id_sku_id'))
    )
    op.create_table('depot_entry',
    sa.Column('held_id', _id(), nullable=False),
    sa.Column('nth', sa.BigInteger(), nullable=False),
    sa.Column('at', UtcTime(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('units', sa.BigInteger(), nullable=False),
    sa.Column('there', sa.BigInteger(), nullable=False),
    sa.Column('worth', sa.BigInteger(), nullable=False),
    sa.Column('value', sa.BigInteger(), nullable=False),
    sa.Column('paid', sa.BigInteger(), nullable=False),
    sa.Column('once', sa.Text(), nullable=False),
    sa.Column('inbound_id', _id(), nullable=True),
    sa.Column('purchase_id', _id(), nullable=True),
    sa.Column('lot', sa.Text(), nullable=False),
    sa.Column('best_before', Day(), nullable=True),
    sa.Column('who', sa.Text(), nullable=False),
    sa.Column('reason', sa.Text(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("kind in ('counted_in','found','returned','counted','sent','damaged','lost','written_off','sent_back')", name=op.f('ck_depot_entry_kind')),
    sa.CheckConstraint('there >= 0 and value >= 0', name=op.f('ck_depot_entry_there')),
    sa.CheckConstraint('units <> 0', name=op.f('ck_depot_entry_units')),
    sa.ForeignKeyConstraint(['held_id'], ['held_goods.id'], name=op.f('fk_depot_entry_held_id_held_goods')),
    sa.ForeignKeyConstraint(['inbound_id'], ['inbound.id'], name=op.f('fk_depot_entry_inbound_id_inbound')),
    sa.ForeignKeyConstraint(['purchase_id'], ['purchase_order.id'], name=op.f('fk_depot_entry_purchase_id_purchase_order')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_depot_entry')),
    sa.UniqueConstraint('held_id', 'nth', name=op.f('uq_depot_entry_held_id_nth'))
    )
    op.create_index('ix_depot_entry_at', 'depot_entry', ['at'], unique=False)
    op.create_index('uq_depot_entry_once', 'depot_entry', ['once'], unique=True, sqlite_where=sa.text("once <> ''"), postgresql_where=sa.text("once <> ''"))
    op.create_table('inbound_line',
    sa.Column('inbound_id', _id(), nullable=False),
    sa.Column('held_id', _id(), nullable=False),
    sa.Column('line_no', sa.BigInteger(), nullable=False),
    sa.Column('packs', sa.BigInteger(), nullable=False),
    sa.Column('units', sa.BigInteger(), nullable=False),
    sa.Column('price', sa.BigInteger(), nullable=False),
    sa.Column('cost', sa.BigInteger(), nullable=False),
    sa.Column('lot', sa.Text(), nullable=False),
    sa.Column('best_before', Day(), nullable=True),
    sa.Column('counted', sa.BigInteger(), nullable=True),
    sa.Column('damaged', sa.BigInteger(), nullable=False),
    sa.Column('picture_id', _id(), nullable=True),
    sa.Column('note', sa.Text(), nullable=False),
    sa.Column('settled', sa.Text(), nullable=False),
    sa.Column('settled_at', UtcTime(), nullable=True),
    sa.Column('claimed', sa.BigInteger(), nullable=False),
    sa.Column('came_back', sa.BigInteger(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint('units > 0', name=op.f('ck_inbound_line_units')),
    sa.ForeignKeyConstraint(['held_id'], ['held_goods.id'], name=op.f('fk_inbound_line_held_id_held_goods')),
    sa.ForeignKeyConstraint(['inbound_id'], ['inbound.id'], name=op.f('fk_inbound_line_inbound_id_inbound')),
    sa.ForeignKeyConstraint(['picture_id'], ['picture.id'], name=op.f('fk_inbound_line_picture_id_picture')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_inbound_line')),
    sa.UniqueConstraint('inbound_id', 'held_id', name=op.f('uq_inbound_line_inbound_id_held_id'))
    )
    op.create_index('ix_inbound_line_held_id', 'inbound_line', ['held_id'], unique=False)
