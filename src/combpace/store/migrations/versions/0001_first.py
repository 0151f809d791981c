"""The first tables."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "sessions",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("created", sa.Float, nullable=False),
        sa.Column("touched", sa.Float, nullable=False),
        sa.Column("removed", sa.Float),
        sa.Column("cursor", sa.Integer),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("view", sa.Text, nullable=False),
        sa.Column("summary", sa.Text, nullable=False),
    )
    session_id = sa.ForeignKey("sessions.id", ondelete="CASCADE")
    op.create_table(
        "takes",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("session_id", sa.String(16), session_id, nullable=False, index=True),
        sa.Column("name", sa.String(300), nullable=False),
        sa.Column("source_sha", sa.String(64), nullable=False),
        sa.Column("source_bytes", sa.Integer, nullable=False),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("error", sa.Text),
        sa.Column("decoded_sha", sa.String(64)),
        sa.Column("peaks_sha", sa.String(64)),
        sa.Column("analysis_sha", sa.String(64)),
        sa.Column("decoder", sa.String(80)),
        sa.Column("sample_rate_hz", sa.Integer),
        sa.Column("channels", sa.Integer),
        sa.Column("frames", sa.Integer),
        sa.Column("peak", sa.Float),
        sa.Column("notes", sa.Text, nullable=False),
        sa.Column("created", sa.Float, nullable=False),
    )
    op.create_table(
        "parts", sa.Column("sha", sa.String(64), primary_key=True), sa.Column("body", sa.Text, nullable=False)
    )
    op.create_table(
        "revisions",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column(
            "session_id",
            sa.String(16),
            sa.ForeignKey("sessions.id", ondelete="CASCADE"),
            nullable=False,
            index=True,
        ),
        sa.Column("parent_id", sa.Integer, index=True),
        sa.Column("format", sa.Integer, nullable=False),
        sa.Column("parts", sa.Text, nullable=False),
        sa.Column("changed", sa.Text, nullable=False),
        sa.Column("note", sa.Text, nullable=False),
        sa.Column("gesture", sa.String(120)),
        sa.Column("created", sa.Float, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "jobs",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column(
            "session_id",
            sa.String(16),
            sa.ForeignKey("sessions.id", ondelete="CASCADE"),
            nullable=False,
            index=True,
        ),
        sa.Column("kind", sa.String(24), nullable=False),
        sa.Column("subject", sa.String(80), nullable=False),
        sa.Column("args", sa.Text, nullable=False),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("phase", sa.String(120), nullable=False),
        sa.Column("progress", sa.Float, nullable=False),
        sa.Column("cancel", sa.Boolean, nullable=False),
        sa.Column("tries", sa.Integer, nullable=False),
        sa.Column("heartbeat", sa.Float, nullable=False),
        sa.Column("error", sa.Text),
        sa.Column("result", sa.Text, nullable=False),
        sa.Column("created", sa.Float, nullable=False),
        sa.Column("changed", sa.Float, nullable=False),
    )
    op.create_index("jobs_by_state", "jobs", ["state", "created"])
    op.create_table(
        "files",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column(
            "session_id",
            sa.String(16),
            sa.ForeignKey("sessions.id", ondelete="CASCADE"),
            nullable=False,
            index=True,
        ),
        sa.Column("kind", sa.String(24), nullable=False),
        sa.Column("key", sa.String(80), nullable=False, index=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("sha", sa.String(64), nullable=False),
        sa.Column("bytes", sa.Integer, nullable=False),
        sa.Column("details", sa.Text, nullable=False),
        sa.Column("created", sa.Float, nullable=False),
    )
