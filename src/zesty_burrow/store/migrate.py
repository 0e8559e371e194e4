"""Brings a store to the newest shape: what is missing of the migrations, in one transaction."""

from __future__ import annotations

from collections.abc import Callable

from zesty_burrow.errors import ProfileInvalid, StateError
from zesty_burrow.store.database import Database, Transaction
from zesty_burrow.store.rows import HEAD, described

FIRST_OF_ITS_OWN = 4
"""From here on the table of the version is ``store_version``."""


def bring_up_to_date(database: Database) -> None:
    """Nothing where the store has the newest shape. :class:`StateError` where it is newer than this program."""
    with database.transaction() as reading:
        if _version(database, reading) == HEAD:
            return
    with database.transaction(write=True) as writing:
        # Somebody else may have been quicker.
        for number in range(_version(database, writing) + 1, HEAD + 1):
            _STEPS[number](database, writing)
            if number >= FIRST_OF_ITS_OWN:
                writing.execute("UPDATE store_version SET version = ?", number)


def _version(database: Database, transaction: Transaction) -> int:
    """The number of the last migration; 0 where the store is fresh."""
    tables = database.tables(transaction)
    found = 0
    if "store_version" in tables:
        found = int(transaction.execute("SELECT version FROM store_version")[0][0])
    elif "alembic_version" in tables:
        rows = transaction.execute("SELECT version_num FROM alembic_version")
        found = int(rows[0][0]) if rows else FIRST_OF_ITS_OWN - 1
    if found > HEAD:
        raise StateError(
            f"the store {database.shown} is newer than this program",
            why=f"its shape is {found}, this program knows {HEAD}",
            next_step="Update zesty-burrow.",
        )
    return found


def _sql(name: str) -> Callable[[Database, Transaction], None]:
    def run(database: Database, transaction: Transaction) -> None:
        from importlib.resources import files

        text = files("zesty_burrow.store.migrations").joinpath(name).read_text("utf-8")
        lines = (line for line in text.splitlines() if not line.startswith("--"))
        for statement in "\n".join(lines).split(";"):
            if statement.strip():
                transaction.execute(statement.replace("{key}", database.key).replace("{octets}", database.octets))

    return run


def _convert_profiles(_: Database, transaction: Transaction) -> None:
    """Profiles in format 2, with digests to match. What cannot be read stays as it is."""
    from zesty_burrow.profiles.text import content_digest, read_profile, write_profile

    for number, name, before in transaction.execute("SELECT id, name, text FROM profiles"):
        try:
            profile = read_profile(before, f"profile {name}")
        except ProfileInvalid:
            continue
        text = write_profile(profile)
        change = "UPDATE profiles SET text = ?, digest = ? WHERE id = ?"
        transaction.execute(change, text, content_digest(profile, text), number)


def _describe_profiles(_: Database, transaction: Transaction) -> None:
    """What lists say of profiles without reading them."""
    from zesty_burrow.profiles.text import read_profile

    transaction.execute("UPDATE profiles SET label = CASE WHEN provider = '' THEN name ELSE provider END")
    for number, name, text in transaction.execute("SELECT id, name, text FROM profiles"):
        try:
            profile = read_profile(text, f"profile {name}")
        except ProfileInvalid:
            continue
        change = "UPDATE profiles SET label = ?, needs = ?, lacks = ? WHERE id = ?"
        transaction.execute(change, *described(profile), number)


_STEPS: dict[int, Callable[[Database, Transaction], None]] = {
    1: _sql("0001_first.sql"),
    2: _sql("0002_scopes_and_tags.sql"),
    3: _convert_profiles,
    4: _sql("0004_shared_seal_and_facts.sql"),
    5: _sql("0005_changes.sql"),
    6: _describe_profiles,
    7: _sql("0007_devices.sql"),
    8: _sql("0008_links.sql"),
    9: _sql("0009_reports.sql"),
    10: _sql("0010_enrolments.sql"),
    11: _sql("0011_handed_credentials.sql"),
    12: _sql("0012_link_openers.sql"),
    13: _sql("0013_runs.sql"),
    14: _sql("0014_who.sql"),
}
