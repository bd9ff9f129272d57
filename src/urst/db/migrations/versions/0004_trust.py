"""Who made each revision; runs are tried a few times, and the same is not run twice at once."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add the columns and the constraint."""
    op.add_column("revisions", sa.Column("by", sa.String(32), nullable=False, server_default=""))
    op.add_column("runs", sa.Column("tries", sa.Integer, nullable=False, server_default="0"))
    op.add_column("runs", sa.Column("asked", sa.String(40), nullable=False, server_default=""))
    op.execute("UPDATE runs SET asked = id::text")
    open_ = sa.text("state IN ('queued', 'running')")
    op.create_index("runs_open_once", "runs", ["shot_id", "asked"], unique=True, postgresql_where=open_)


def downgrade() -> None:
    """Drop them."""
    op.drop_index("runs_open_once", "runs")
    op.drop_column("runs", "asked")
    op.drop_column("runs", "tries")
    op.drop_column("revisions", "by")
