"""Shots, revisions, runs and bakes."""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0001"
down_revision = None


def _moment(name: str, **options: Any) -> sa.Column:
    return sa.Column(name, sa.DateTime(timezone=True), **options)


def upgrade() -> None:
    """Create the tables."""
    now = {"server_default": sa.func.now(), "nullable": False}
    op.create_table(
        "shots",
        sa.Column("id", sa.String(36), primary_key=True),
        sa.Column("revision", sa.Integer, nullable=False),
        _moment("created", **now),
        _moment("changed", **now),
    )
    shot = lambda **options: sa.Column(  # noqa: E731
        "shot_id", sa.String(36), sa.ForeignKey("shots.id", ondelete="CASCADE"), nullable=False, **options
    )
    op.create_table(
        "revisions",
        shot(primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("document", JSONB, nullable=False),
        sa.Column("what", sa.Text, server_default="", nullable=False),
        _moment("created", **now),
    )
    op.create_table(
        "runs",
        sa.Column("id", sa.BigInteger, primary_key=True, autoincrement=True),
        shot(index=True),
        sa.Column("kind", sa.String(16), server_default="bake", nullable=False),
        sa.Column("document", JSONB, nullable=False),
        sa.Column("layers", JSONB, nullable=False),
        sa.Column("state", sa.String(16), server_default="queued", nullable=False, index=True),
        sa.Column("stop_requested", sa.Boolean, server_default="false", nullable=False),
        sa.Column("progress", JSONB, server_default="{}", nullable=False),
        sa.Column("message", sa.Text, server_default="", nullable=False),
        sa.Column("worker", sa.Text, server_default="", nullable=False),
        _moment("created", **now),
        _moment("started"),
        _moment("finished"),
    )
    op.create_table(
        "bakes",
        sa.Column("key", sa.String(40), primary_key=True),
        sa.Column("kind", sa.String(16), nullable=False),
        sa.Column("frames", sa.Integer, nullable=False),
        sa.Column("bytes", sa.BigInteger, nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        _moment("changed", **now),
    )


def downgrade() -> None:
    """Drop the tables."""
    for table in ("bakes", "runs", "revisions", "shots"):
        op.drop_table(table)
