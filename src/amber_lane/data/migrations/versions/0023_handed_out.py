"""work handed out: which person a row of Today or of the mapping queue is given to"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import UtcTime

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.create_table('handed_out',
    sa.Column('key', sa.Text(), nullable=False),
    sa.Column('person_id', _id(), nullable=False),
    sa.Column('at', UtcTime(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['person.id'], name=op.f('fk_handed_out_person_id_person')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_handed_out')),
    sa.UniqueConstraint('key', name=op.f('uq_handed_out_key'))
    )
