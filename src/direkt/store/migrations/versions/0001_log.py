"""The log's first table."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Makes it."""
    op.create_table(
        "direkt_log",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, index=True),
        sa.Column("rig", sa.String(200), nullable=False, index=True),
        sa.Column("machine", sa.String(100), nullable=False),
        sa.Column("what", sa.String(20), nullable=False),
        sa.Column("outcome", sa.String(20), nullable=False),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("event", sa.String(100), nullable=False, index=True),
        sa.Column("mark", sa.String(20), nullable=False),
        sa.Column("feed", sa.String(100), nullable=False, index=True),
        sa.Column("device", sa.String(100), nullable=False),
        sa.Column("destination", sa.String(100), nullable=False),
        sa.Column("seconds", sa.Float, nullable=True),
        sa.Column("detail", sa.JSON, nullable=False),
    )


def downgrade() -> None:
    """Takes it away."""
    op.drop_table("direkt_log")
