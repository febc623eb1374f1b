"""Alembic's entry: the application hands its connection in; nothing is read from a file."""

from alembic import context

from amber_lane.data.tables import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
