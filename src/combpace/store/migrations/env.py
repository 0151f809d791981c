"""Alembic's entry: runs on the connection it is given."""

from alembic import context

from combpace.store.models import Base

context.configure(
    connection=context.config.attributes["connection"], target_metadata=Base.metadata, render_as_batch=True
)
with context.begin_transaction():
    context.run_migrations()
