"""partners can be paused and disconnected and are known by their account; outbox rows say why as a code; acts know their person"""

import json

import sqlalchemy as sa
from alembic import op

from amber_lane.data.base import Json, UtcTime

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

PARTNERS = ("store", "supplier", "carrier", "rate_source", "mailbox", "inbox")


def upgrade() -> None:
    for name in PARTNERS:
        with op.batch_alter_table(name) as batch:
            batch.add_column(sa.Column("paused_at", UtcTime(), nullable=True))
            batch.add_column(sa.Column("ended_at", UtcTime(), nullable=True))
            if name == "carrier":
                batch.add_column(sa.Column("also_called", Json(), nullable=False, server_default="[]"))
            if name == "store":
                batch.add_column(sa.Column("carriers", Json(), nullable=False, server_default="[]"))
                batch.add_column(sa.Column("allowance_value", sa.BigInteger(), nullable=True))
                batch.add_column(sa.Column("allowance_by_hand", sa.Boolean(), nullable=False, server_default=sa.false()))
    with op.batch_alter_table("link") as batch:
        batch.add_column(sa.Column("account", sa.Text(), nullable=False, server_default=""))
    with op.batch_alter_table("outbox") as batch:
        batch.add_column(sa.Column("fault", sa.Text(), nullable=False, server_default=""))
    op.execute("update outbox set fault = 'refused' where state = 'dead'")
    with op.batch_alter_table("act") as batch:
        batch.add_column(sa.Column("person_id", sa.BigInteger(), nullable=True))
    op.create_index("ix_act_person_id_undo", "act", ["person_id", "undo", "id"])
    # Acts knew their person by name alone; where two share a name, nobody can say whose they were.
    op.execute(
        "update act set person_id = (select min(id) from person where person.name = act.who) "
        "where (select count(*) from person where person.name = act.who) = 1"
    )
    with op.batch_alter_table("order") as batch:
        batch.add_column(sa.Column("part_lines", Json(), nullable=False, server_default="[]"))
        batch.add_column(sa.Column("packed_with", sa.BigInteger(), nullable=True))
    with op.batch_alter_table("hold") as batch:
        batch.add_column(sa.Column("other_id", sa.BigInteger(), nullable=True))
    with op.batch_alter_table("order_line") as batch:
        batch.add_column(sa.Column("reserve", sa.BigInteger(), nullable=False, server_default="0"))
    with op.batch_alter_table("plan") as batch:
        batch.add_column(sa.Column("reserve", sa.BigInteger(), nullable=False, server_default="0"))
        batch.add_column(sa.Column("billed_more", sa.BigInteger(), nullable=False, server_default="0"))
    with op.batch_alter_table("purchase_order") as batch:
        batch.add_column(sa.Column("rate", sa.BigInteger(), nullable=True))
    with op.batch_alter_table("price_rule") as batch:
        batch.add_column(sa.Column("least_price", sa.BigInteger(), nullable=True))
        batch.add_column(sa.Column("compare_at", sa.BigInteger(), nullable=True))
    connection = op.get_bind()
    for name, value in connection.execute(sa.text("select name, value from setting where name like 'carriers-%'")).all():
        names = json.dumps(json.loads(value).get("names", []))
        connection.execute(
            sa.text("update store set carriers = :names where id = :id"), {"names": names, "id": int(name.removeprefix("carriers-"))}
        )
    op.execute("delete from setting where name like 'carriers-%'")


def downgrade() -> None:
    with op.batch_alter_table("hold") as batch:
        batch.drop_column("other_id")
    with op.batch_alter_table("order") as batch:
        batch.drop_column("packed_with")
        batch.drop_column("part_lines")
    with op.batch_alter_table("purchase_order") as batch:
        batch.drop_column("rate")
    with op.batch_alter_table("plan") as batch:
        batch.drop_column("billed_more")
        batch.drop_column("reserve")
    with op.batch_alter_table("order_line") as batch:
        batch.drop_column("reserve")
    with op.batch_alter_table("price_rule") as batch:
        batch.drop_column("compare_at")
        batch.drop_column("least_price")
    op.drop_index("ix_act_person_id_undo", "act")
    with op.batch_alter_table("act") as batch:
        batch.drop_column("person_id")
    with op.batch_alter_table("outbox") as batch:
        batch.drop_column("fault")
    with op.batch_alter_table("link") as batch:
        batch.drop_column("account")
    for name in PARTNERS:
        with op.batch_alter_table(name) as batch:
            batch.drop_column("ended_at")
            batch.drop_column("paused_at")
            if name == "carrier":
                batch.drop_column("also_called")
            if name == "store":
                batch.drop_column("carriers")
                batch.drop_column("allowance_value")
                batch.drop_column("allowance_by_hand")
