"""Which rows match, and reading them without the database's library: the same as with it."""

from __future__ import annotations

from dataclasses import replace

import pytest
import sqlalchemy as sa

from zesty_burrow.lab import story
from zesty_burrow.store.rows import ProfileRow, matching, read_rows

ROW = ProfileRow(
    "quillwort-lisbon", story.PROVIDER, "PT", "Lisbon", "ikev2", "d", "kit", "2026-01-01T00:00:00Z", "sea Boats"
)
OTHER = replace(ROW, name="quillwort-tromsoe", country="NO", city="TROMSØ", tags="")


@pytest.mark.parametrize(
    ("words", "where", "found"),
    [
        ((), {}, "LT"),
        (("lisb",), {}, "L"),
        (("QUILL", "pt"), {}, "L"),
        (("tromsø",), {}, "T"),
        (("100%",), {}, ""),
        (("_",), {}, ""),
        ((), {"place": "tromsø"}, "T"),
        ((), {"place": "pt"}, "L"),
        ((), {"place": "p"}, ""),
        ((), {"tag": "boats"}, "L"),
        ((), {"tag": "boat"}, ""),
        ((), {"provider": story.PROVIDER.upper()}, "LT"),
        (("lisbon",), {"protocol": "other"}, ""),
    ],
)
def test_matching(words, where, found):
    """Words are parts, whatever the case and the alphabet; options are whole values; nothing is a pattern."""
    assert matching([ROW, OTHER], words, **where) == [{"L": ROW, "T": OTHER}[letter] for letter in found]


def test_a_store_that_cannot_be_read_quickly(tmp_path):
    """None that is not there, of an older shape, or no database at all."""
    assert read_rows(tmp_path / "missing.db") == []
    (tmp_path / "rubbish.db").write_bytes(b"no database" * 100)
    assert read_rows(tmp_path / "rubbish.db") is None
    engine = sa.create_engine(f"sqlite:///{tmp_path}/older.db")
    with engine.begin() as connection:
        connection.execute(sa.text("CREATE TABLE alembic_version (version_num VARCHAR(32))"))
        connection.execute(sa.text("INSERT INTO alembic_version VALUES ('0001')"))
    engine.dispose()
    assert read_rows(tmp_path / "older.db") is None
