"""The first shape: profiles, sealed credentials, observations."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Create the tables."""
    op.create_table(
        "profiles",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(64), nullable=False, unique=True),
        sa.Column("provider", sa.String(200), nullable=False),
        sa.Column("country", sa.String(2), nullable=False),
        sa.Column("city", sa.String(200), nullable=False),
        sa.Column("protocol", sa.String(40), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("origin", sa.String(500), nullable=False),
        sa.Column("imported_at", sa.String(32), nullable=False),
    )
    op.create_table(
        "credentials",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("label", sa.String(200), nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("sealed", sa.LargeBinary, nullable=False),
        sa.Column("origin", sa.String(500), nullable=False),
        sa.Column("imported_at", sa.String(32), nullable=False),
        sa.UniqueConstraint("label", "kind", name="one_secret_a_kind"),
    )
    op.create_table(
        "observations",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("taken_at", sa.String(32), nullable=False),
        sa.Column("role", sa.String(10), nullable=False),
        sa.Column("profile", sa.String(64), nullable=False),
        sa.Column("verdict", sa.String(10), nullable=False),
        sa.Column("document", sa.Text, nullable=False),
    )


def downgrade() -> None:
    """Drop the tables."""
    for name in ("observations", "credentials", "profiles"):
        op.drop_table(name)
