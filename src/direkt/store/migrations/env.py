"""How Alembic reaches the log's database: over the connection that store/log.py hands it."""

from __future__ import annotations

from alembic import context

from direkt.store.log import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, version_table="direkt_version")
with context.begin_transaction():
    context.run_migrations()
