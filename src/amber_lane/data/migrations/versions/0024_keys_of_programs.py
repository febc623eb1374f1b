"""keys of programs of one's own: what each may do, when it was last used, until it is ended"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.create_table('program_key',
    sa.Column('person_id', _id(), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('hash', sa.Text(), nullable=False),
    sa.Column('permissions', Json(), nullable=False),
    sa.Column('made_at', UtcTime(), nullable=False),
    sa.Column('used_at', UtcTime(), nullable=True),
    sa.Column('ended_at', UtcTime(), nullable=True),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['person.id'], name=op.f('fk_program_key_person_id_person')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_program_key')),
    sa.UniqueConstraint('hash', name=op.f('uq_program_key_hash'))
    )
    op.create_index('ix_program_key_person_id_id', 'program_key', ['person_id', 'id'], unique=False)
