"""people: roles of the house's own, what each spent in a day, acts that wait for somebody who may, links of invitations"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Day, Json, UtcTime

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.add_column('password_link', sa.Column('invites', sa.Boolean(), server_default=sa.false(), nullable=False))
    op.create_table('role',
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('permissions', Json(), nullable=False),
    sa.Column('spend', sa.BigInteger(), nullable=True),
    sa.Column('refund', sa.BigInteger(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_role')),
    sa.UniqueConstraint('name', name=op.f('uq_role_name'))
    )
    op.create_table('person_spending',
    sa.Column('person_id', _id(), nullable=False),
    sa.Column('day', Day(), nullable=False),
    sa.Column('limit', sa.Text(), nullable=False),
    sa.Column('amount', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("\"limit\" in ('spend','refund')", name=op.f('ck_person_spending_limit')),
    sa.ForeignKeyConstraint(['person_id'], ['person.id'], name=op.f('fk_person_spending_person_id_person')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_person_spending')),
    sa.UniqueConstraint('person_id', 'day', 'limit', name=op.f('uq_person_spending_person_id_day_limit'))
    )
    op.create_table('approval',
    sa.Column('at', UtcTime(), nullable=False),
    sa.Column('person_id', _id(), nullable=False),
    sa.Column('who', sa.Text(), nullable=False),
    sa.Column('limit', sa.Text(), nullable=False),
    sa.Column('amount', sa.BigInteger(), nullable=True),
    sa.Column('currency', sa.Text(), nullable=False),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('reason', sa.Text(), nullable=False),
    sa.Column('method', sa.Text(), nullable=False),
    sa.Column('path', sa.Text(), nullable=False),
    sa.Column('body', Json(), nullable=False),
    sa.Column('mark', sa.Text(), nullable=False),
    sa.Column('parts', Json(), nullable=False),
    sa.Column('parts_in', sa.Text(), nullable=False),
    sa.Column('state', sa.Text(), nullable=False),
    sa.Column('decided_at', UtcTime(), nullable=True),
    sa.Column('decided_by', _id(), nullable=True),
    sa.Column('decided_who', sa.Text(), nullable=False),
    sa.Column('decision', sa.Text(), nullable=False),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.CheckConstraint("\"limit\" in ('spend','refund')", name=op.f('ck_approval_limit')),
    sa.CheckConstraint("state in ('waiting','approved','refused')", name=op.f('ck_approval_state')),
    sa.ForeignKeyConstraint(['decided_by'], ['person.id'], name=op.f('fk_approval_decided_by_person')),
    sa.ForeignKeyConstraint(['person_id'], ['person.id'], name=op.f('fk_approval_person_id_person')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_approval'))
    )
    op.create_index('ix_approval_waiting', 'approval', ['id'], unique=False, sqlite_where=sa.text("state = 'waiting'"), postgresql_where=sa.text("state = 'waiting'"))
    op.create_index('uq_approval_waiting', 'approval', ['person_id', 'mark'], unique=True, sqlite_where=sa.text("state = 'waiting'"), postgresql_where=sa.text("state = 'waiting'"))
