"""buyers write: which order a mail is about, its pictures, and which mail a claim began with"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    with op.batch_alter_table('letter') as table:
        table.add_column(sa.Column('order_id', _id(), nullable=True))
        table.add_column(sa.Column('is_buyers', sa.Boolean(), server_default=sa.false(), nullable=False))
        table.add_column(sa.Column('pictures', Json(), server_default='[]', nullable=False))
        table.create_foreign_key('fk_letter_order_id_order', 'order', ['order_id'], ['id'])
    op.add_column('picture', sa.Column('is_evidence', sa.Boolean(), server_default=sa.false(), nullable=False))
    with op.batch_alter_table('claim') as table:
        table.add_column(sa.Column('letter_id', _id(), nullable=True))
        table.create_foreign_key('fk_claim_letter_id_letter', 'letter', ['letter_id'], ['id'])
