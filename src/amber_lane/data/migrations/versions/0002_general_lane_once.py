"""no two general lanes of a SKU at one place"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

WHERE = sa.text("until is null and store_id is null")


def upgrade() -> None:
    op.create_index("uq_lane_open_general_use", "lane", ["sku_id", "use"], unique=True, sqlite_where=WHERE, postgresql_where=WHERE)


def downgrade() -> None:
    op.drop_index("uq_lane_open_general_use", "lane")
