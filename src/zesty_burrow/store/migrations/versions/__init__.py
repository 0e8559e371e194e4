"""Alembic migrations: the store's shape, step by step."""
