"""Profiles, sealed secrets and observations: SQLite on disk, or a team's PostgreSQL by URL."""
