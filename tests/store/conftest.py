"""Stores on both databases."""

from __future__ import annotations

import itertools
import sqlite3
from contextlib import suppress

import pytest

from zesty_burrow.store.database import PostgresDatabase, SqliteDatabase, open_database
from zesty_burrow.store.seal import Seal
from zesty_burrow.store.store import Store

_numbers = itertools.count()


class Place:
    """Where a store lies; ``open`` opens it again and again. ``path`` is None for a store on a server."""

    def __init__(self, path, url):
        self.path, self.url = path, url
        self.kind = SqliteDatabase if path else PostgresDatabase
        self._opened = []

    @staticmethod
    def now():
        """The time, as the store writes it."""
        return "2026-11-01T09:00:00Z"

    def database(self):
        return SqliteDatabase(self.path) if self.path else open_database(self.url)

    def open(self, key=b"k" * 32):
        made = Store(self.database(), lambda _: Seal(key), lambda: self.now())
        self._opened.append(made)
        return made

    def rows(self, sql, *parameters, change=False):
        """The answer to a query, or a change, beside the store."""
        database = self.database()
        try:
            with database.transaction(write=change) as transaction:
                return transaction.execute(sql, *parameters)
        finally:
            database.close()

    def close(self):
        for one in self._opened:
            with suppress(sqlite3.ProgrammingError):  # another thread's, which has closed it
                one.close()


@pytest.fixture(params=["sqlite", "postgresql"])
def place(request, tmp_path):
    """An empty place for a store, on either database."""
    if request.param == "sqlite":
        made = Place(tmp_path / "store.db", f"sqlite:///{tmp_path}/store.db")
    else:
        made = Place(None, request.getfixturevalue("cluster").url(f"test{next(_numbers)}"))
    yield made
    made.close()
