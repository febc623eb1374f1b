"""price rules: the currency that their amounts are in, as they were meant so far"""

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None

# A store's own rule was in its money; the others in the one that all stores share, else the house's, which is that of the oldest store
# where nobody said another.
_FILL = """
update price_rule set currency = coalesce(
  (select store.currency from store where price_rule.scope = 'store' and store.code = price_rule.scope_key),
  case when (select count(distinct currency) from store) = 1 then (select min(currency) from store) end,
  nullif((select json_extract(value, '$.currency') from setting where name = 'place'), ''),
  (select currency from store order by id limit 1),
  '')
"""


def upgrade() -> None:
    with op.batch_alter_table("price_rule") as table:
        table.add_column(sa.Column("currency", sa.Text(), server_default="", nullable=False))
    op.execute(_FILL)


def downgrade() -> None:
    with op.batch_alter_table("price_rule") as table:
        table.drop_column("currency")
