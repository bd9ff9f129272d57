"""Alembic's entry: the connection is handed in by `urst.db.migrate`."""

from alembic import context

from urst.db.tables import Base

context.configure(connection=context.config.attributes["connection"], target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
