"""Which renders a step needs; jobs about the whole folder; what a take was heard to be before its bundle."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.add_column("revisions", sa.Column("needs", sa.Text, nullable=True))
    op.add_column("takes", sa.Column("alone", sa.Text, nullable=True))
    with op.batch_alter_table("jobs") as jobs:
        jobs.alter_column("session_id", existing_type=sa.String(16), nullable=True)


def downgrade() -> None:
    op.execute("DELETE FROM jobs WHERE session_id IS NULL")
    with op.batch_alter_table("jobs") as jobs:
        jobs.alter_column("session_id", existing_type=sa.String(16), nullable=False)
    op.drop_column("takes", "alone")
    op.drop_column("revisions", "needs")
