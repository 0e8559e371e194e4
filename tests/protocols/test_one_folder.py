"""A protocol that is one folder, here in the tests, goes through every command that needs no network, unchanged.

What needs one (rehearse, connect, switch, verify) is in the lab's test of the same protocol.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

FOLDER = Path(__file__).parent
RUN = "import sys; from zesty_burrow.protocols import registry; registry.register('dummy', 'dummy.protocol'); " \
      "from zesty_burrow.cli import main; sys.exit(main(sys.argv[1:]))"  # fmt: skip
SHEET = """Protocol: Dummy
Server: tallinn.dummy.example
Port: 7000
User: tidewrack_heron
Password: kelp-Forest_42
"""


@pytest.fixture
def zesty(tmp_path):
    """The program with one protocol more, in a process of its own."""
    environment = {
        **os.environ,
        "ZESTY_BURROW_HOME": str(tmp_path / "home"),
        "COLUMNS": "200",
        "PYTHONPATH": os.pathsep.join((str(FOLDER), os.environ.get("PYTHONPATH", ""))),
    }

    def run(*words, stdin="", check=0):
        ended = subprocess.run(
            [sys.executable, "-c", RUN, *map(str, words)], input=stdin, capture_output=True, text=True, env=environment
        )
        assert "Traceback" not in ended.stderr and "kelp" not in ended.stdout + ended.stderr
        assert ended.returncode == check, ended.stdout + ended.stderr
        return " ".join((ended.stdout + ended.stderr).split())

    return run


def test_create_choose_and_export(zesty, tmp_path):
    """Its own question, its own option, its own words; and what another protocol has is refused by name."""
    made = zesty("create", "--host", "lisbon.dummy.example", "--protocol", "dummy", "--credentials", "none")
    assert "seals" in made
    assert "its own options are --motto, --port" in zesty("choose", "lisbon", "--encryption", "aes256", check=2)
    assert "dummy; motto seabirds; port 7001" in zesty("choose", "lisbon", "--motto", "seabirds", "--port", 7001)
    assert "The protocol ikev2 has no option --motto" in zesty(
        "choose", "lisbon", "--protocol", "ikev2", "--motto", "seals", check=2
    )
    assert "motto" in zesty("show", "lisbon")
    assert zesty("change", "lisbon", "--set", "dummy.motto=gulls", check=2)  # it has no schema, so no keys to change
    zesty("export", "lisbon", "--to", tmp_path / "out.toml")
    assert 'motto = "seabirds"' in (tmp_path / "out.toml").read_text()
    assert "There is a model for ikev2" in zesty("export", "lisbon", "--to", tmp_path / "out.json", check=2)
    assert "dummy" in zesty("advise", "lisbon", "--no-ask")
    assert "lisbon" in zesty("list", "--protocol", "dummy")


def test_a_sheet(zesty, tmp_path):
    """A sheet names it, and its port is taken."""
    zesty("import", "-", "--provider", "Dummy Works", stdin=SHEET)
    zesty("export", "tallinn", "--to", tmp_path / "out.toml")
    text = (tmp_path / "out.toml").read_text()
    assert 'motto = "from a sheet"' in text and "port = 7000" in text and 'protocol = "dummy"' in text


def test_a_card_and_a_misfit(zesty, tmp_path):
    """A phone that knows it gets a card with its fields; its own misfit is told."""
    zesty("import", "-", "--provider", "Dummy Works", stdin=SHEET)
    zesty("devices", "add", "plover", "--kind", "phone")
    zesty("devices", "assign", "tallinn", "--device", "plover")
    assert "plover" in zesty("hand-over", "plover", "--card", tmp_path / "cards.pdf")
    from pypdf import PdfReader

    text = " ".join(page.extract_text() for page in PdfReader(tmp_path / "cards.pdf").pages)
    assert "Dummy" in text and "Motto" in text and "from a sheet" in text
    zesty(
        "create", "--host", "lisbon.dummy.example", "--protocol", "dummy", "--motto", "x" * 30, "--credentials", "none"
    )
    zesty("devices", "add", "dunlin", "--kind", "phone")
    zesty("devices", "assign", "lisbon", "--device", "dunlin")
    assert "its motto is too long for a phone" in zesty("hand-over", "dunlin", "--dry-run", check=12)
