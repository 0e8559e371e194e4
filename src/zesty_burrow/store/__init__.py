"""Profiles, sealed secrets and observations: SQLAlchemy Core; SQLite on disk, or a team's PostgreSQL by URL."""
