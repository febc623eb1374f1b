"""tables, columns and what is kept as JSON under the trade's and the field's own words"""

import json
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

TABLES = (("act", "audit_entry"), ("act_part", "audit_entry_part"), ("response", "listing_decision"))
# By their new tables.
COLUMNS = {
    "audit_entry": (("told", "message"), ("why", "reason")),
    "audit_entry_part": (("act_id", "audit_entry_id"),),
    "carrier_event": (("told", "message"),),
    "depot_entry": (("why", "reason"),),
    "hold": (("told", "message"),),
    "job": (("told", "message"),),
    "lane": (
        ("use", "priority"),
        ("why", "reason"),
        ("until", "closed_at"),
        ("instead", "is_substitute"),
        ("proof", "match_evidence"),
    ),
    "letter": (("told", "message"),),
    "link": (("told", "message"), ("rest_until", "circuit_open_until")),
    "listing": (("hand_why", "hand_reason"), ("told", "message")),
    "listing_decision": (("act_id", "audit_entry_id"),),
    "order": (("mended", "address_override"), ("came_by", "channel"), ("wants_told", "wants_message"), ("by_hand", "manual_release")),
    "order_line": (("kept", "net_revenue"), ("why", "reason")),
    "purchase_order": (("told", "message"),),
    "snooze": (("trouble", "alert"), ("told", "message")),
    "sweep": (("told", "message"),),
}
LANES = ["priority", "state", "supplier_id", "sku_id", "id"]
# Indexes whose own names say an old word: old name, new name, table, columns, and of which rows.
INDEXES = (
    ("ix_act_at", "ix_audit_entry_at", "audit_entry", ["at"], None),
    ("ix_act_kind_at", "ix_audit_entry_kind_at", "audit_entry", ["kind", "at"], None),
    ("ix_act_person_id_undo", "ix_audit_entry_person_id_undo", "audit_entry", ["person_id", "undo", "id"], None),
    ("ix_act_part_act_id", "ix_audit_entry_part_audit_entry_id", "audit_entry_part", ["audit_entry_id", "id"], None),
    ("ix_response_listing_id_at", "ix_listing_decision_listing_id_at", "listing_decision", ["listing_id", "at"], None),
    ("ix_response_state_at", "ix_listing_decision_state_at", "listing_decision", ["state", "at"], None),
    ("ix_response_sweep_id", "ix_listing_decision_sweep_id", "listing_decision", ["sweep_id"], None),
    ("ix_response_item_id", "ix_listing_decision_item_id", "listing_decision", ["item_id"], None),
    ("ix_response_act_id", "ix_listing_decision_audit_entry_id", "listing_decision", ["audit_entry_id"], None),
    ("ix_response_kind", "ix_listing_decision_kind", "listing_decision", ["kind", "id"], None),
    ("ix_response_at", "ix_listing_decision_at", "listing_decision", ["at"], None),
    ("ix_lane_use", "ix_lane_priority", "lane", LANES, "closed_at is null"),
    ("ix_listing_told", "ix_listing_message", "listing", ["id"], "message <> ''"),
    ("ix_purchase_order_told", "ix_purchase_order_message", "purchase_order", ["state", "id"], "message <> ''"),
)
KEYS = {"told": "message", "why": "reason", "hand_why": "hand_reason"}
# By their new names.
JSON = {
    "audit_entry": ("before", "after"),
    "audit_entry_part": ("before", "after"),
    "job": ("body", "result"),
    "job_part": ("body",),
    "lane": ("match_evidence",),
    "listing_decision": ("terms",),
    "outbox": ("body",),
    "plan": ("lanes", "next_best"),
    "rate_source": ("doubted",),
    "saved_search": ("reports",),
    "setting": ("value",),
    "supplier_request": ("answer",),
    "sweep": ("held",),
}
PORTION = 5000


def _quoted(name: str) -> str:
    return str(op.get_bind().dialect.identifier_preparer.quote(name))


def _renamed(value: Any, keys: dict[str, str]) -> Any:
    if isinstance(value, dict):
        return {keys.get(name, name): _renamed(one, keys) for name, one in value.items()}
    return [_renamed(one, keys) for one in value] if isinstance(value, list) else value


def _changed(table: str, column: str, keys: dict[str, str]) -> Iterator[list[dict[str, Any]]]:
    """In portions, rows whose JSON says one of the keys, with it renamed; what cannot be read stays as it is."""
    is_one = " or ".join(f"{_quoted(column)} like '%\"{key}\"%'" for key in keys)
    rows = sa.text(f"select id, {_quoted(column)} from {_quoted(table)} where id > :after and ({is_one}) order by id limit {PORTION}")
    after = 0
    while found := op.get_bind().execute(rows, {"after": after}).all():
        after, rows_now = found[-1][0], []
        for number, text in found:
            try:
                old = json.loads(text)
            except ValueError:
                continue
            if (new := _renamed(old, keys)) != old:
                rows_now.append({"id": number, "value": json.dumps(new, ensure_ascii=False, separators=(",", ":"))})
        if rows_now:
            yield rows_now


def _rename_keys(keys: dict[str, str]) -> None:
    for table, columns in JSON.items():
        for column in columns:
            for rows in _changed(table, column, keys):
                op.get_bind().execute(sa.text(f"update {_quoted(table)} set {_quoted(column)} = :value where id = :id"), rows)


def upgrade() -> None:
    for old, new in TABLES:
        op.rename_table(old, new)
    for table, columns in COLUMNS.items():
        for old, new in columns:
            op.execute(f"alter table {_quoted(table)} rename column {_quoted(old)} to {_quoted(new)}")
    with op.batch_alter_table("snooze") as batch:
        batch.drop_constraint("uq_snooze_trouble")
        batch.create_unique_constraint("uq_snooze_alert", ["alert"])
    for old, new, table, columns, part in INDEXES:
        op.drop_index(old, table)
        some = None if part is None else sa.text(part)
        op.create_index(new, table, columns, sqlite_where=some, postgresql_where=some)
    _rename_keys(KEYS)


def downgrade() -> None:
    _rename_keys({new: old for old, new in KEYS.items()})
    for _, new, table, _, _ in INDEXES:
        op.drop_index(new, table)
    for table, columns in COLUMNS.items():
        for old, new in columns:
            op.execute(f"alter table {_quoted(table)} rename column {_quoted(new)} to {_quoted(old)}")
    with op.batch_alter_table("snooze") as batch:
        batch.drop_constraint("uq_snooze_alert")
        batch.create_unique_constraint("uq_snooze_trouble", ["trouble"])
    for old, new in reversed(TABLES):
        op.rename_table(new, old)
    was = {new: old for old, new in TABLES}
    for old, _, table, columns, part in INDEXES:
        there = [{"priority": "use", "message": "told", "audit_entry_id": "act_id"}.get(one, one) for one in columns]
        some = None if part is None else sa.text(part.replace("closed_at", "until").replace("message", "told"))
        op.create_index(old, was.get(table, table), there, sqlite_where=some, postgresql_where=some)
