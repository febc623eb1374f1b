"""suppliers have a mail address, tell their whole catalogue once a day and may sell in several currencies, programs can be asked to read their store anew"""

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("supplier") as batch:
        batch.add_column(sa.Column("mail", sa.Text(), nullable=False, server_default=""))
        batch.add_column(sa.Column("next_catalogue", UtcTime(), nullable=True))
        batch.add_column(sa.Column("also", Json(), nullable=False, server_default="[]"))
    op.execute("update supplier set next_catalogue = next_sweep")
    with op.batch_alter_table("token") as batch:
        batch.add_column(sa.Column("read_anew", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    with op.batch_alter_table("token") as batch:
        batch.drop_column("read_anew")
    with op.batch_alter_table("supplier") as batch:
        batch.drop_column("also")
        batch.drop_column("next_catalogue")
        batch.drop_column("mail")
