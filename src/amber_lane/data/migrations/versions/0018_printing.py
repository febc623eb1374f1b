"""printed for each order: blanks of print houses, artwork and where it is placed, what lanes print, what was sent to be printed"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.create_table('art_file',
    sa.Column('sha', sa.Text(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('width', sa.BigInteger(), nullable=False),
    sa.Column('height', sa.BigInteger(), nullable=False),
    sa.Column('data', sa.LargeBinary(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_art_file')),
    sa.UniqueConstraint('sha', name=op.f('uq_art_file_sha'))
    )
    op.create_table('artwork',
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('made_at', UtcTime(), nullable=False),
    sa.Column('removed_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_artwork')),
    sa.UniqueConstraint('name', name=op.f('uq_artwork_name'))
    )
    op.create_table('art_version',
    sa.Column('artwork_id', _id(), nullable=False),
    sa.Column('ground', sa.Text(), nullable=False),
    sa.Column('colour', sa.Text(), nullable=False),
    sa.Column('file_id', _id(), nullable=False),
    sa.Column('sight_id', _id(), nullable=False),
    sa.Column('width', sa.BigInteger(), nullable=False),
    sa.Column('height', sa.BigInteger(), nullable=False),
    sa.Column('vector', sa.Boolean(), nullable=False),
    sa.Column('made_at', UtcTime(), nullable=False),
    sa.Column('replaced_at', UtcTime(), nullable=True),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("ground in ('any','light','dark','colour')", name=op.f('ck_art_version_ground')),
    sa.ForeignKeyConstraint(['artwork_id'], ['artwork.id'], name=op.f('fk_art_version_artwork_id_artwork')),
    sa.ForeignKeyConstraint(['file_id'], ['art_file.id'], name=op.f('fk_art_version_file_id_art_file')),
    sa.ForeignKeyConstraint(['sight_id'], ['art_file.id'], name=op.f('fk_art_version_sight_id_art_file')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_art_version'))
    )
    op.create_index('uq_art_version_now', 'art_version', ['artwork_id', 'ground', 'colour'], unique=True, sqlite_where=sa.text('replaced_at is null'), postgresql_where=sa.text('replaced_at is null'))
    op.create_table('blank',
    sa.Column('supplier_id', _id(), nullable=False),
    sa.Column('code', sa.Text(), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('terms', Json(), nullable=False),
    sa.Column('seen_at', UtcTime(), nullable=False),
    sa.Column('ended_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['supplier_id'], ['supplier.id'], name=op.f('fk_blank_supplier_id_supplier')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_blank')),
    sa.UniqueConstraint('supplier_id', 'code', name=op.f('uq_blank_supplier_id_code'))
    )
    op.create_table('print_design',
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('artwork_id', _id(), nullable=False),
    sa.Column('blank_id', _id(), nullable=False),
    sa.Column('size', sa.Text(), nullable=False),
    sa.Column('keep', sa.Text(), nullable=False),
    sa.Column('left_out', Json(), nullable=False),
    sa.Column('spares', Json(), nullable=False),
    sa.Column('pictures', Json(), nullable=False),
    sa.Column('made_at', UtcTime(), nullable=False),
    sa.Column('removed_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("keep in ('millimetres','proportion')", name=op.f('ck_print_design_keep')),
    sa.ForeignKeyConstraint(['artwork_id'], ['artwork.id'], name=op.f('fk_print_design_artwork_id_artwork')),
    sa.ForeignKeyConstraint(['blank_id'], ['blank.id'], name=op.f('fk_print_design_blank_id_blank')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_print_design'))
    )
    op.create_table('print_place',
    sa.Column('design_id', _id(), nullable=False),
    sa.Column('side', sa.Text(), nullable=False),
    sa.Column('x', sa.BigInteger(), nullable=False),
    sa.Column('y', sa.BigInteger(), nullable=False),
    sa.Column('w', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['design_id'], ['print_design.id'], name=op.f('fk_print_place_design_id_print_design')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_print_place')),
    sa.UniqueConstraint('design_id', 'side', name=op.f('uq_print_place_design_id_side'))
    )
    op.create_table('lane_print',
    sa.Column('lane_id', _id(), nullable=False),
    sa.Column('item_id', _id(), nullable=False),
    sa.Column('sku_id', _id(), nullable=False),
    sa.Column('design_id', _id(), nullable=True),
    sa.Column('artwork_id', _id(), nullable=False),
    sa.Column('blank_id', _id(), nullable=False),
    sa.Column('colour', sa.Text(), nullable=False),
    sa.Column('size', sa.Text(), nullable=False),
    sa.Column('side', sa.Text(), nullable=False),
    sa.Column('x', sa.BigInteger(), nullable=False),
    sa.Column('y', sa.BigInteger(), nullable=False),
    sa.Column('w', sa.BigInteger(), nullable=False),
    sa.Column('h', sa.BigInteger(), nullable=False),
    sa.Column('version_id', _id(), nullable=True),
    sa.Column('dpi', sa.BigInteger(), nullable=False),
    sa.Column('readable', sa.BigInteger(), nullable=False),
    sa.Column('outcome', sa.Text(), nullable=False),
    sa.Column('fault', sa.Text(), nullable=False),
    sa.Column('file_id', _id(), nullable=True),
    sa.Column('preview_id', _id(), nullable=True),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("outcome in ('','ok','soft','refused')", name=op.f('ck_lane_print_outcome')),
    sa.ForeignKeyConstraint(['artwork_id'], ['artwork.id'], name=op.f('fk_lane_print_artwork_id_artwork')),
    sa.ForeignKeyConstraint(['blank_id'], ['blank.id'], name=op.f('fk_lane_print_blank_id_blank')),
    sa.ForeignKeyConstraint(['design_id'], ['print_design.id'], name=op.f('fk_lane_print_design_id_print_design')),
    sa.ForeignKeyConstraint(['file_id'], ['art_file.id'], name=op.f('fk_lane_print_file_id_art_file')),
    sa.ForeignKeyConstraint(['item_id'], ['item.id'], name=op.f('fk_lane_print_item_id_item')),
    sa.ForeignKeyConstraint(['lane_id'], ['lane.id'], name=op.f('fk_lane_print_lane_id_lane')),
    sa.ForeignKeyConstraint(['preview_id'], ['art_file.id'], name=op.f('fk_lane_print_preview_id_art_file')),
    sa.ForeignKeyConstraint(['sku_id'], ['sku.id'], name=op.f('fk_lane_print_sku_id_sku')),
    sa.ForeignKeyConstraint(['version_id'], ['art_version.id'], name=op.f('fk_lane_print_version_id_art_version')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_lane_print')),
    sa.UniqueConstraint('lane_id', 'item_id', 'side', name=op.f('uq_lane_print_lane_id_item_id_side'))
    )
    op.create_index('ix_lane_print_artwork_id', 'lane_print', ['artwork_id'])
    op.create_index('ix_lane_print_refused', 'lane_print', ['lane_id'], sqlite_where=sa.text("outcome = 'refused'"), postgresql_where=sa.text("outcome = 'refused'"))
    op.create_index('ix_lane_print_sku_id', 'lane_print', ['sku_id'])
    op.create_table('purchase_print',
    sa.Column('line_id', _id(), nullable=True),
    sa.Column('sample_id', _id(), nullable=True),
    sa.Column('side', sa.Text(), nullable=False),
    sa.Column('version_id', _id(), nullable=False),
    sa.Column('file_id', _id(), nullable=False),
    sa.Column('preview_id', _id(), nullable=False),
    sa.Column('x', sa.BigInteger(), nullable=False),
    sa.Column('y', sa.BigInteger(), nullable=False),
    sa.Column('w', sa.BigInteger(), nullable=False),
    sa.Column('h', sa.BigInteger(), nullable=False),
    sa.Column('proof_id', _id(), nullable=True),
    sa.Column('differs', sa.BigInteger(), nullable=True),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['file_id'], ['art_file.id'], name=op.f('fk_purchase_print_file_id_art_file')),
    sa.ForeignKeyConstraint(['line_id'], ['purchase_line.id'], name=op.f('fk_purchase_print_line_id_purchase_line')),
    sa.ForeignKeyConstraint(['preview_id'], ['art_file.id'], name=op.f('fk_purchase_print_preview_id_art_file')),
    sa.ForeignKeyConstraint(['proof_id'], ['art_file.id'], name=op.f('fk_purchase_print_proof_id_art_file')),
    sa.ForeignKeyConstraint(['sample_id'], ['sample.id'], name=op.f('fk_purchase_print_sample_id_sample')),
    sa.ForeignKeyConstraint(['version_id'], ['art_version.id'], name=op.f('fk_purchase_print_version_id_art_version')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_purchase_print'))
    )
    op.create_index('ix_purchase_print_line_id', 'purchase_print', ['line_id'])
    op.create_index('ix_purchase_print_sample_id', 'purchase_print', ['sample_id'])
    op.add_column("store", sa.Column("tell_maker", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    op.drop_column("store", "tell_maker")
    for table in ('purchase_print', 'lane_print', 'print_place', 'print_design', 'blank', 'art_version', 'artwork', 'art_file'):
        op.drop_table(table)
