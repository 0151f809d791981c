"""Tables."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime

from sqlalchemy import ForeignKey, Index, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


def new_id() -> str:
    """An id nobody can guess and that needs no quoting anywhere."""
    return secrets.token_hex(8)


def now() -> float:
    """Seconds since 1970, UTC."""
    return datetime.now(UTC).timestamp()


class Base(DeclarativeBase):
    pass


class SessionRow(Base):
    """One piece of work. `cursor` is the revision in force; `version` counts its moves, undo and redo
    included.
    """

    __tablename__ = "sessions"

    id: Mapped[str] = mapped_column(String(16), primary_key=True, default=new_id)
    name: Mapped[str] = mapped_column(String(200))
    created: Mapped[float] = mapped_column(default=now)
    touched: Mapped[float] = mapped_column(default=now)
    removed: Mapped[float | None] = mapped_column(default=None)
    cursor: Mapped[int | None] = mapped_column(default=None)
    version: Mapped[int] = mapped_column(default=0)
    view: Mapped[str] = mapped_column(Text, default="{}")
    summary: Mapped[str] = mapped_column(Text, default="{}")


# The state of a take whose file did not come along with its archive.
WANTED = "wanted"
# The states of a take until it is listened to.
BEING_READ = ("waiting", "listening")


class TakeRow(Base):
    """One imported or rendered file. Its sound never changes; what was decided about it is in the session's
    history.
    """

    __tablename__ = "takes"

    id: Mapped[str] = mapped_column(String(16), primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(String(300))
    source_sha: Mapped[str] = mapped_column(String(64))
    source_bytes: Mapped[int]
    state: Mapped[str] = mapped_column(
        String(12), default="waiting"
    )  # waiting, listening, ready, failed, wanted
    error: Mapped[str | None] = mapped_column(Text, default=None)
    decoded_sha: Mapped[str | None] = mapped_column(String(64), default=None)
    peaks_sha: Mapped[str | None] = mapped_column(String(64), default=None)
    analysis_sha: Mapped[str | None] = mapped_column(String(64), default=None)
    # Where that was heard together with others: their ids and what was heard in this one alone, as JSON
    # {"with", "sha"}.
    alone: Mapped[str | None] = mapped_column(Text, default=None)
    decoder: Mapped[str | None] = mapped_column(String(80), default=None)
    sample_rate_hz: Mapped[int | None] = mapped_column(default=None)
    channels: Mapped[int | None] = mapped_column(default=None)
    frames: Mapped[int | None] = mapped_column(default=None)
    peak: Mapped[float | None] = mapped_column(default=None)
    notes: Mapped[str] = mapped_column(Text, default="[]")
    created: Mapped[float] = mapped_column(default=now)


class PartRow(Base):
    """A piece of a document, kept once however many revisions hold it."""

    __tablename__ = "parts"

    sha: Mapped[str] = mapped_column(String(64), primary_key=True)
    body: Mapped[str] = mapped_column(Text)


class RevisionRow(Base):
    """One state of a session's document; append-only."""

    __tablename__ = "revisions"

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"), index=True)
    parent_id: Mapped[int | None] = mapped_column(default=None, index=True)
    format: Mapped[int]
    parts: Mapped[str] = mapped_column(Text)
    changed: Mapped[str] = mapped_column(Text, default="[]")
    note: Mapped[str] = mapped_column(Text)
    gesture: Mapped[str | None] = mapped_column(String(120), default=None)
    # Keys of the renders that are there for this step, as a JSON list; None: not known.
    needs: Mapped[str | None] = mapped_column(Text, default=None)
    created: Mapped[float] = mapped_column(default=now)


class JobRow(Base):
    """Long work and what became of it."""

    __tablename__ = "jobs"

    id: Mapped[str] = mapped_column(String(16), primary_key=True, default=new_id)
    # None: it is about the whole folder.
    session_id: Mapped[str | None] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(String(24))
    subject: Mapped[str] = mapped_column(String(80), default="")
    args: Mapped[str] = mapped_column(Text, default="{}")
    state: Mapped[str] = mapped_column(
        String(12), default="queued"
    )  # queued, running, done, failed, cancelled
    phase: Mapped[str] = mapped_column(String(120), default="waiting")
    progress: Mapped[float] = mapped_column(default=0.0)
    cancel: Mapped[bool] = mapped_column(default=False)
    tries: Mapped[int] = mapped_column(default=0)
    heartbeat: Mapped[float] = mapped_column(default=now)
    error: Mapped[str | None] = mapped_column(Text, default=None)
    result: Mapped[str] = mapped_column(Text, default="{}")
    created: Mapped[float] = mapped_column(default=now)
    changed: Mapped[float] = mapped_column(default=now)

    __table_args__ = (Index("jobs_by_state", "state", "created"),)


class HeardRow(Base):
    """What this data folder decoded or heard itself; `key` says in what, and by which versions.

    about, made  hashes of what it was found in and of what was found, as JSON; facts: the rest
    """

    __tablename__ = "heard"

    key: Mapped[str] = mapped_column(String(64), primary_key=True)
    about: Mapped[str] = mapped_column(Text)
    made: Mapped[str] = mapped_column(Text)
    facts: Mapped[str] = mapped_column(Text, default="{}")
    created: Mapped[float] = mapped_column(default=now)


class FileRow(Base):
    """Something made that can be downloaded or read again; `key` says from what, so that it is made once."""

    __tablename__ = "files"

    id: Mapped[str] = mapped_column(String(16), primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(String(24))
    key: Mapped[str] = mapped_column(String(80), index=True)
    name: Mapped[str] = mapped_column(String(200))
    sha: Mapped[str] = mapped_column(String(64))
    bytes: Mapped[int]
    details: Mapped[str] = mapped_column(Text, default="{}")
    created: Mapped[float] = mapped_column(default=now)
