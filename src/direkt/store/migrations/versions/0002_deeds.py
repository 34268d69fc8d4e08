"""Who did it, what belongs together, and a chain of hashes; each rig has an id of its own."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
_NEW = (("rig_id", 40), ("person", 100), ("deed", 40), ("phase", 10), ("hash", 64))


def upgrade() -> None:
    """Adds the columns."""
    for name, length in _NEW:
        op.add_column("direkt_log", sa.Column(name, sa.String(length), nullable=False, server_default=""))
    for name in ("rig_id", "deed"):
        op.create_index(f"ix_direkt_log_{name}", "direkt_log", [name])


def downgrade() -> None:
    """Takes them away."""
    for name in ("rig_id", "deed"):
        op.drop_index(f"ix_direkt_log_{name}", "direkt_log")
    for name, _ in _NEW:
        op.drop_column("direkt_log", name)
