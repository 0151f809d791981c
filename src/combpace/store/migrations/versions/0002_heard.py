"""What was heard, by content."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "heard",
        sa.Column("key", sa.String(64), primary_key=True),
        sa.Column("about", sa.Text, nullable=False),
        sa.Column("made", sa.Text, nullable=False),
        sa.Column("facts", sa.Text, nullable=False),
        sa.Column("created", sa.Float, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("heard")
