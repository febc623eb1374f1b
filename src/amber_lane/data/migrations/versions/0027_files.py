"""files: servers on which sheets lie, what is read and put there for whom, and every file that came"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import UtcTime

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None
OWNERS = "owner in ('store','supplier','carrier','mailbox','rates','inbox','webhook','files')"


def _id() -> sa.types.TypeEngine[int]:
    return sa.BigInteger().with_variant(sa.Integer(), "sqlite")


def upgrade() -> None:
    op.create_table('file_server',
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('kind', sa.Text(), nullable=False),
    sa.Column('next_read', UtcTime(), nullable=True),
    sa.Column('paused_at', UtcTime(), nullable=True),
    sa.Column('ended_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_file_server'))
    )
    op.create_table('file_rule',
    sa.Column('server_id', _id(), nullable=True),
    sa.Column('owner', sa.Text(), nullable=False),
    sa.Column('owner_id', sa.BigInteger(), nullable=False),
    sa.Column('what', sa.Text(), nullable=False),
    sa.Column('is_out', sa.Boolean(), nullable=False),
    sa.Column('pattern', sa.Text(), nullable=False),
    sa.Column('newest', sa.Boolean(), nullable=False),
    sa.Column('done_folder', sa.Text(), nullable=False),
    sa.Column('marker', sa.Text(), nullable=False),
    sa.Column('each', sa.Boolean(), nullable=False),
    sa.Column('minutes', sa.BigInteger(), nullable=False),
    sa.Column('is_on', sa.Boolean(), nullable=False),
    sa.Column('leave_old', sa.Boolean(), nullable=False),
    sa.Column('next_at', UtcTime(), nullable=True),
    sa.Column('version', sa.BigInteger(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['server_id'], ['file_server.id'], name=op.f('fk_file_rule_server_id_file_server')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_file_rule'))
    )
    op.create_index('ix_file_rule_owner', 'file_rule', ['owner', 'owner_id'], unique=False)
    op.create_table('file_came',
    sa.Column('rule_id', _id(), nullable=False),
    sa.Column('path', sa.Text(), nullable=False),
    sa.Column('mark', sa.Text(), nullable=False),
    sa.Column('size', sa.BigInteger(), nullable=False),
    sa.Column('changed_at', UtcTime(), nullable=True),
    sa.Column('seen_at', UtcTime(), nullable=False),
    sa.Column('state', sa.Text(), nullable=False),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('kept', sa.Text(), nullable=False),
    sa.Column('bad', sa.BigInteger(), nullable=False),
    sa.Column('needs', sa.Boolean(), nullable=False),
    sa.Column('taken_at', UtcTime(), nullable=True),
    sa.Column('moved', sa.Boolean(), nullable=False),
    sa.Column('id', _id(), nullable=False),
    sa.ForeignKeyConstraint(['rule_id'], ['file_rule.id'], name=op.f('fk_file_came_rule_id_file_rule')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_file_came')),
    sa.UniqueConstraint('rule_id', 'path', 'mark', name=op.f('uq_file_came_rule_id_path_mark'))
    )
    op.create_index('ix_file_came_state', 'file_came', ['state'], unique=False)
    with op.batch_alter_table("sheet_out") as table:
        table.add_column(sa.Column("file_rule_id", _id(), nullable=True))
        table.add_column(sa.Column("path", sa.Text(), server_default="", nullable=False))
        table.add_column(sa.Column("placing_at", UtcTime(), nullable=True))
        table.create_foreign_key(op.f("fk_sheet_out_file_rule_id_file_rule"), "file_rule", ["file_rule_id"], ["id"])
    with op.batch_alter_table("link") as table:
        table.drop_constraint(op.f("ck_link_owner"), type_="check")
        table.create_check_constraint(op.f("ck_link_owner"), OWNERS)
