"""What each worker has."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """Add the table."""
    op.create_table(
        "workers",
        sa.Column("name", sa.String(120), primary_key=True),
        sa.Column("memory", sa.Float, nullable=False),
        sa.Column("cores", sa.Integer, nullable=False),
        sa.Column("seen", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
    )
    # jobs of runs wait in queues by size from now on
    if sa.inspect(op.get_bind()).has_table("procrastinate_jobs"):
        op.execute(
            "UPDATE procrastinate_jobs SET queue_name = 'bakes-2' WHERE queue_name = 'bakes' AND status = 'todo'"
        )


def downgrade() -> None:
    """Drop it."""
    op.drop_table("workers")
