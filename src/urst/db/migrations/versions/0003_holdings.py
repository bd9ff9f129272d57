"""What lies in the store under each key."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Create the table."""
    op.create_table(
        "holdings",
        sa.Column("key", sa.String(40), primary_key=True),
        sa.Column("seen", sa.BigInteger, nullable=False),
        sa.Column("still", JSONB),
        sa.Column("frames", JSONB, nullable=False),
        sa.Column("bytes", sa.BigInteger, nullable=False),
    )


def downgrade() -> None:
    """Drop the table."""
    op.drop_table("holdings")
