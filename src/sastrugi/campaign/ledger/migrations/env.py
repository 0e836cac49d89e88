"""How Alembic runs the migrations: on the connection that the ledger gives, in its transaction."""

from alembic import context

from sastrugi.campaign.ledger.tables import metadata

context.configure(connection=context.config.attributes["connection"], target_metadata=metadata, transactional_ddl=False)
context.run_migrations()
