"""Credentials for one profile or one device; the administrator's own tags."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """What is there is for all profiles of its label, on every device."""
    with op.batch_alter_table("credentials") as batch:
        batch.add_column(sa.Column("device", sa.String(64), nullable=False, server_default=""))
        batch.add_column(sa.Column("profile", sa.String(64), nullable=False, server_default=""))
        batch.drop_constraint("one_secret_a_kind", type_="unique")
        batch.create_unique_constraint("one_secret_a_scope", ["label", "device", "profile", "kind"])
    with op.batch_alter_table("profiles") as batch:
        batch.add_column(sa.Column("tags", sa.String(500), nullable=False, server_default=""))


def downgrade() -> None:
    """Only credentials for all profiles of a label stay."""
    op.execute("DELETE FROM credentials WHERE device <> '' OR profile <> ''")
    with op.batch_alter_table("profiles") as batch:
        batch.drop_column("tags")
    with op.batch_alter_table("credentials") as batch:
        batch.drop_constraint("one_secret_a_scope", type_="unique")
        batch.create_unique_constraint("one_secret_a_kind", ["label", "kind"])
        batch.drop_column("profile")
        batch.drop_column("device")
