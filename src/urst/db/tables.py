"""Tables: shots with their history, runs of the queue, and the index of what is baked."""

from datetime import datetime

from sqlalchemy import BigInteger, Boolean, DateTime, ForeignKey, Index, Integer, String, Text, func, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Root of the tables."""


class ShotRow(Base):
    """A shot and which of its revisions is in force."""

    __tablename__ = "shots"
    id: Mapped[str] = mapped_column(String(36), primary_key=True)
    revision: Mapped[int] = mapped_column(Integer)
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())
    changed: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now(), onupdate=func.now())


class RevisionRow(Base):
    """One state of a shot's document; undo and redo move between them."""

    __tablename__ = "revisions"
    shot_id: Mapped[str] = mapped_column(ForeignKey("shots.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(Integer, primary_key=True)
    document: Mapped[dict] = mapped_column(JSONB)
    what: Mapped[str] = mapped_column(Text, server_default="")
    by: Mapped[str] = mapped_column(String(32), server_default="")
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class VersionRow(Base):
    """A state of a shot's document that was kept by name; undo does not touch it."""

    __tablename__ = "versions"
    shot_id: Mapped[str] = mapped_column(ForeignKey("shots.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(Integer, primary_key=True)
    name: Mapped[str] = mapped_column(Text, server_default="")
    document: Mapped[dict] = mapped_column(JSONB)
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class RunRow(Base):
    """One bake or hand-over asked for: queued, running, done, failed or stopped.

    `layers` names the layers to bake, or the formats to hand over; `asked` tells what is asked for, of which a shot
    has one open run.
    """

    __tablename__ = "runs"
    __table_args__ = (
        Index(
            "runs_open_once", "shot_id", "asked", unique=True, postgresql_where=text("state IN ('queued', 'running')")
        ),
    )
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    shot_id: Mapped[str] = mapped_column(ForeignKey("shots.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(String(16), server_default="bake")
    document: Mapped[dict] = mapped_column(JSONB)
    layers: Mapped[list] = mapped_column(JSONB)
    asked: Mapped[str] = mapped_column(String(40), server_default="")
    tries: Mapped[int] = mapped_column(Integer, server_default="0")
    state: Mapped[str] = mapped_column(String(16), server_default="queued", index=True)
    stop_requested: Mapped[bool] = mapped_column(Boolean, server_default="false")
    progress: Mapped[dict] = mapped_column(JSONB, server_default="{}")
    message: Mapped[str] = mapped_column(Text, server_default="")
    worker: Mapped[str] = mapped_column(Text, server_default="")
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())
    started: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
    finished: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))


class BakeRow(Base):
    """What the store holds under a key, so that pages need not walk the disk."""

    __tablename__ = "bakes"
    key: Mapped[str] = mapped_column(String(40), primary_key=True)
    kind: Mapped[str] = mapped_column(String(16))
    frames: Mapped[int] = mapped_column(Integer)
    bytes: Mapped[int] = mapped_column(BigInteger)
    seconds: Mapped[float] = mapped_column()
    changed: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now(), onupdate=func.now())


class HoldingRow(Base):
    """What lies in the store under a key, with its gauges: what pages show without walking the disk."""

    __tablename__ = "holdings"
    key: Mapped[str] = mapped_column(String(40), primary_key=True)
    seen: Mapped[int] = mapped_column(BigInteger)
    still: Mapped[dict | None] = mapped_column(JSONB)
    frames: Mapped[dict] = mapped_column(JSONB)
    bytes: Mapped[int] = mapped_column(BigInteger)


class WorkerRow(Base):
    """A worker and what it has, so that work waits for one that it fits into."""

    __tablename__ = "workers"
    name: Mapped[str] = mapped_column(String(120), primary_key=True)
    memory: Mapped[float] = mapped_column()
    cores: Mapped[int] = mapped_column(Integer)
    seen: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())
