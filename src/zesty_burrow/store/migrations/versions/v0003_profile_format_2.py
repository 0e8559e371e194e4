"""Profiles in format 2, with digests to match."""

import sqlalchemy as sa
from alembic import op

from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.profiles.text import content_digest, read_profile, write_profile

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

profiles = sa.table("profiles", sa.column("id"), sa.column("name"), sa.column("text"), sa.column("digest"))


def upgrade() -> None:
    """Each text is read, which takes format 1 too, and written again. What cannot be read stays as it is."""
    connection = op.get_bind()
    for row in connection.execute(sa.select(profiles.c.id, profiles.c.name, profiles.c.text)).all():
        try:
            profile = read_profile(row.text, f"profile {row.name}")
        except ProfileInvalid:
            continue
        text = write_profile(profile)
        changed = {"text": text, "digest": content_digest(profile, text)}
        connection.execute(sa.update(profiles).where(profiles.c.id == row.id).values(changed))


def downgrade() -> None:
    """An older program cannot read format 2: there is no way back."""
