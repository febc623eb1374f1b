"""descriptions: partners' interfaces described, their versions, and what each link can do"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.create_table('description',
    sa.Column('owner', sa.Text(), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('text', sa.Text(), nullable=False),
    sa.Column('address', sa.Text(), nullable=False),
    sa.Column('sealed_key', sa.Text(), nullable=False),
    sa.Column('certificate', Json(), nullable=True),
    sa.Column('made_at', UtcTime(), nullable=False),
    sa.Column('changed_at', UtcTime(), nullable=False),
    sa.Column('person_id', _id(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['person.id'], name=op.f('fk_description_person_id_person')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_description'))
    )
    op.create_table('description_version',
    sa.Column('description_id', _id(), nullable=False),
    sa.Column('number', sa.BigInteger(), nullable=False),
    sa.Column('text', sa.Text(), nullable=False),
    sa.Column('checksum', sa.Text(), nullable=False),
    sa.Column('certificate', Json(), nullable=True),
    sa.Column('at', UtcTime(), nullable=False),
    sa.Column('person_id', _id(), nullable=True),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['description_id'], ['description.id'], name=op.f('fk_description_version_description_id_description')),
    sa.ForeignKeyConstraint(['person_id'], ['person.id'], name=op.f('fk_description_version_person_id_person')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_description_version')),
    sa.UniqueConstraint('description_id', 'number', name=op.f('uq_description_version_description_id_number'))
    )
    op.create_index(op.f('ix_description_version_description_id'), 'description_version', ['description_id'], unique=False)
    with op.batch_alter_table("link") as table:
        table.add_column(sa.Column("description_version_id", _id(), nullable=True))
        table.add_column(sa.Column("can", Json(), server_default="[]", nullable=False))
        table.create_foreign_key(
            op.f("fk_link_description_version_id_description_version"), "description_version", ["description_version_id"], ["id"]
        )

