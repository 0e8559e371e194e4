"""Every kit of the corpus, read from disk as the program reads it: taken, left out and found as its row says."""

from __future__ import annotations

import os

import pytest

from corpus import material as m
from corpus.table import CORPUS
from zesty_burrow.core.credentials import kind_of
from zesty_burrow.errors import BurrowError
from zesty_burrow.host.files import read_kit_files
from zesty_burrow.intake.containers.budget import Passphrases
from zesty_burrow.intake.kit import Surroundings
from zesty_burrow.intake.read_kit import read_kit
from zesty_burrow.profiles.text import content_digest, read_profile, write_profile


@pytest.fixture
def read(tmp_path):
    """Lay a row's files out and read them."""

    def reader(row):
        for name, data in row.files().items():
            path = tmp_path / "kit" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
            path.chmod(row.mode)
        members, beside = read_kit_files(tmp_path / "kit" / row.path)
        known = Passphrases([row.passphrase] if row.passphrase else [])
        return read_kit(
            row.path or "kit",
            members,
            m.NOW,
            Surroundings(provider=row.provider, neighbours={one.path: beside for one in members}, passphrases=known),
        )

    return reader


def test_the_corpus_is_large_enough():
    """Sixty kits at least, good and bad, and each code that it names is one that exists."""
    assert len(CORPUS) >= 60
    assert sum(bool(row.error) for row in CORPUS.values()) >= 6


@pytest.mark.parametrize("title", CORPUS)
def test_a_kit(read, title):
    """What is taken, for whom, what is left out, and every finding by its code; no secret is shown."""
    row = CORPUS[title]
    try:
        kit = read(row)
    except BurrowError as problem:
        assert problem.slug == row.error, problem
        assert problem.why
        assert problem.next_step
        return
    assert not row.error
    assert sorted(entry.profile.name for entry in kit.profiles) == sorted(row.profiles)
    got = sorted(f"{kind_of(entry.value)} {entry.scope}" for entry in kit.credentials)
    assert got == sorted(row.credentials)
    assert {entry.code.slug for entry in kit.findings} == row.codes
    left = [item for item in kit.items if not item.taken]
    assert len(left) == row.left_out, left
    assert all(item.why for item in left)
    assert not any(secret in repr(kit) for secret in m.SECRETS)
    for entry in kit.profiles:
        # What is taken stands on its own and survives a round trip with everything in it.
        assert write_profile(read_profile(entry.text)) == entry.text
        assert content_digest(entry.profile, entry.text) == entry.digest


def test_the_corpus_covers_every_finding_about_kits():
    """Codes about kits, profiles, keys and certificates that no row brings out are brought out elsewhere."""
    from zesty_burrow.core.finding import CODES

    brought = frozenset().union(*(row.codes | {row.error} for row in CORPUS.values()))
    about = {
        slug
        for slug in CODES
        if slug.partition("-")[0]
        in ("kit", "key", "archive", "protocol", "sheet", "algorithm", "revocation", "place", "name", "encoding")
    }
    # tests/commands/test_hostile_kits.py and tests/kits
    elsewhere = {"archive-link", "archive-duplicate", "archive-unknown", "kit-litter"}
    assert about - brought == elsewhere


if __name__ == "__main__":
    # Writes the whole corpus out, to look at: python -m corpus.test_corpus FOLDER
    import sys
    from pathlib import Path

    for number, (title, row) in enumerate(CORPUS.items()):
        for name, data in row.files().items():
            path = Path(sys.argv[1], f"{number:02} {title}".replace("/", "-"), name)
            os.makedirs(path.parent, exist_ok=True)
            path.write_bytes(data)
