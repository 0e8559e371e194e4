"""The tables. Times are UTC text as RFC 3339 writes them, so that every database sorts them alike."""

from __future__ import annotations

from sqlalchemy import Column, Integer, LargeBinary, MetaData, String, Table, Text, UniqueConstraint

metadata = MetaData()

profiles = Table(
    "profiles",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String(64), nullable=False, unique=True),
    Column("provider", String(200), nullable=False, default=""),
    Column("country", String(2), nullable=False, default=""),
    Column("city", String(200), nullable=False, default=""),
    Column("protocol", String(40), nullable=False),
    Column("digest", String(64), nullable=False),
    Column("text", Text, nullable=False),
    Column("origin", String(500), nullable=False, default=""),
    Column("imported_at", String(32), nullable=False),
    Column("tags", String(500), nullable=False, server_default=""),
)

credentials = Table(
    "credentials",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("label", String(200), nullable=False),
    Column("kind", String(40), nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    Column("origin", String(500), nullable=False, default=""),
    Column("imported_at", String(32), nullable=False),
    Column("device", String(64), nullable=False, server_default=""),
    Column("profile", String(64), nullable=False, server_default=""),
    UniqueConstraint("label", "device", "profile", "kind", name="one_secret_a_scope"),
)

observations = Table(
    "observations",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("taken_at", String(32), nullable=False),
    Column("role", String(10), nullable=False),
    Column("profile", String(64), nullable=False, default=""),
    Column("verdict", String(10), nullable=False, default=""),
    Column("document", Text, nullable=False),
)
