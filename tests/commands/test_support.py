"""What is gathered for a help desk: complete, shown before it is written, and without any secret."""

from __future__ import annotations

import pytest

from commands.test_editions import talk
from support import PASSWORD
from zesty_burrow.core.credentials import NamePassword, PreSharedKey
from zesty_burrow.core.scope import Scope
from zesty_burrow.core.secret import Secret
from zesty_burrow.store.database import SqliteDatabase
from zesty_burrow.store.seal import Seal, key_from_file
from zesty_burrow.store.store import Store

KEY = "razorbills dive at dusk"


@pytest.fixture
def full(zesty, kit):
    zesty("import", kit)
    return zesty


def kept(zesty):
    """The program's store."""
    seal = Seal(key_from_file(zesty.home / "seal.key"))
    return Store(SqliteDatabase(zesty.home / "store.db"), lambda _: seal, lambda: "2026-12-02T00:00:00Z")


def test_all_parts(full):
    shown = full("support", "lisbon", "--no-ask").out
    parts = [line for line in shown.splitlines() if line.startswith("== ")]
    assert [part[3:].partition(",")[0] for part in parts] == [
        "program and machine", "is this machine ready", "tunnel and guard", "profile quillwort-lisbon",
        "what is noticed in it", "latest verifications", "log of the last tunnel",
    ]  # fmt: skip
    assert "zesty-burrow 0." in shown and 'name = "quillwort-lisbon"' in shown and "cryptography " in shown
    assert full("support", "lisbn", "--no-ask").code == 4


def test_no_secret_of_any_kind(full):
    """Every secret of the store, also where it has come into a name or the log by mistake."""
    store = kept(full)
    more = [(Scope("Quillwort Relay"), PreSharedKey(Secret(KEY)), "typed"),
            (Scope("Cobblewire"), NamePassword("marit", Secret("puffins, puffins")), "typed")]  # fmt: skip
    store.take_kit([], more)
    store.close()
    lines = [
        f'{{"time": "2026-12-02T00:00:00Z", "event": "x", "detail": "{one}"}}' for one in (KEY, "puffins, puffins")
    ]
    (full.home / "tunnel.log").write_text("\n".join(lines) + "\n")
    for words in ((), ("lisbon", "--no-ask"), ("--no-ask", "--json")):
        shown = full("support", *words).out
        assert "a secret was left out here" in shown
        for secret in (PASSWORD, KEY, "puffins, puffins"):
            assert secret not in shown


def test_shown_before_it_is_written(full, tmp_path):
    """A no writes nothing; a yes writes what was shown, for its owner alone."""
    to = tmp_path / "support.txt"
    code, seen = talk(full, ("support", "lisbon", "--no-ask", "--to", str(to)), [("y or n [n] ", "n\n")])
    assert code == 0 and not to.exists() and "== program and machine" in seen
    assert full("support", "lisbon", "--no-ask", "--to", to).code == 0
    assert to.stat().st_mode & 0o777 == 0o600 and "== log of the last tunnel" in to.read_text()
    assert full("support", "--to", tmp_path / "nowhere" / "x").code == 3
    kept = to.read_text()
    assert full("support", "--no-ask", "--to", to).code == 4 and to.read_text() == kept
