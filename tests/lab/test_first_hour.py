"""The first hour on a workstation: what somebody sees who has read nothing."""

from __future__ import annotations

import json
import os
import sys

import pytest

from lab.conftest import PROGRAM
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
USER, NUMBER = "marit", 54321
AS_SUDO = """
set -e
mount --make-rprivate /
for folder in /var/lib /etc /run; do cp -a $folder/. "$1/keep" 2>/dev/null || true; done
mkdir -p /run/zesty-burrow /etc/zesty-burrow
mount -t tmpfs none /var/lib
mount -t tmpfs none /run/zesty-burrow
mount -t tmpfs none /etc/zesty-burrow
cp /etc/passwd "$1/passwd"; echo "marit:x:54321:54321::$1/marit:/bin/sh" >> "$1/passwd"
mount --bind "$1/passwd" /etc/passwd
unset ZESTY_BURROW_HOME
export SUDO_UID=54321 HOME=/root
shift
exec "$@"
"""


def as_sudo(lab, folder, *words, check=0):
    """The program as root, as a user's sudo calls it: with the machine's places, which are empty."""
    return lab.shell("heron", "unshare", "-m", "sh", "-c", AS_SUDO, "sudo", str(folder), PROGRAM, *words, check=check)


@pytest.fixture
def marit(lab, tmp_path):
    """A user of the workstation who has imported the kit into a store of their own."""
    tmp_path.chmod(0o755)
    (tmp_path / "keep").mkdir()
    home = tmp_path / USER
    data = home / ".local" / "share" / "zesty-burrow"
    data.mkdir(parents=True)
    own = {**os.environ, "ZESTY_BURROW_HOME": str(data)}
    lab.shell("heron", "env", f"ZESTY_BURROW_HOME={data}", PROGRAM, "import", str(lab.kit))
    assert own and (data / "store.db").exists()
    for path in (home, *home.rglob("*")):
        os.chown(path, NUMBER, NUMBER)
    for parent in tmp_path.parents:
        if not parent.stat().st_mode & 0o001:
            parent.chmod(0o755)
    return tmp_path


def test_with_sudo_after_an_import_as_a_user(lab, marit):
    """The user's own store is found, read with its owner's rights, and named."""
    seen = json.loads(as_sudo(lab, marit, "--json").out)
    assert seen["store"]["profiles"] == 5 and f"/{USER}/" in seen["store"]["path"]
    assert seen["next"][0]["command"] == "zesty connect quillwort-lisbon --verify"
    listed = json.loads(as_sudo(lab, marit, "list", "--json").out)["profiles"]
    assert {row["for"] for row in listed} == {USER}
    assert json.loads(as_sudo(lab, marit, "--for", "machine", "list", "--json").out)["profiles"] == []
    try:
        ended = as_sudo(lab, marit, "connect", "lisbon", "--detach", "--no-guard")
        assert f"from {USER}'s own store" in ended.err and "up    Lisbon" in ended.out
    finally:
        lab.shell("heron", "pkill", "-INT", "-f", "connect lisbon --detach", check=None)
    # Nothing in the user's folder has become root's.
    assert {path.stat().st_uid for path in (marit / USER).rglob("*")} == {NUMBER}


def test_a_home_that_its_user_cannot_enter(lab, marit):
    """As after a chain of calls: nothing is read for them, and everything else works."""
    home = marit / USER
    os.chown(home, 0, 0)
    home.chmod(0o700)
    seen = json.loads(as_sudo(lab, marit, "list", "--json").out)
    assert seen["profiles"] == []
    assert json.loads(as_sudo(lab, marit, "--json").out)["store"]["profiles"] == 0


def test_what_the_user_could_not_read_is_not_read_for_them(lab, marit):
    """A store that is a link to what only root may read."""
    store = marit / USER / ".local" / "share" / "zesty-burrow" / "store.db"
    secret = marit / "root-only"
    secret.write_bytes(store.read_bytes())
    secret.chmod(0o600)
    os.chown(secret, 0, 0)
    store.unlink()
    store.symlink_to(secret)
    ended = as_sudo(lab, marit, "list", "--json", check=None)
    assert "quillwort" not in ended.out
    assert json.loads(as_sudo(lab, marit, "--json").out)["store"]["profiles"] == 0


def test_connect_then_verify(lab):
    """The usual order, without a word of a look before: `connect` has looked, before it closed the guard."""
    for name in ("observations", "runs"):
        lab.shell("heron", sys.executable, "-c", f"import sqlite3;c=sqlite3.connect({str(lab.folder / 'heron' / 'store.db')!r});"
                  f"c.execute('DELETE FROM {name}');c.commit()")  # fmt: skip
    seen = lab.heron("connect", "lisbon", "--verify", check=0).json
    assert (seen["verdict"], seen["before"]["ipv4"]["country"]) == ("sealed", "SI")
    rows = lab.heron("list", check=0).json["profiles"]
    assert [row["name"] for row in rows if row["tunnel"] == "up"] == ["quillwort-lisbon"]
    alone = json.loads(lab.shell("heron", PROGRAM, "--json").out)
    assert alone["tunnels"] == [{"profile": "quillwort-lisbon", "state": "up", "place": "Lisbon, PT"}]
    assert alone["guard"] == "present" and alone["verified"]["verdict"] == "sealed"
    assert alone["next"][0]["command"] == "zesty verify"
    shown = lab.shell("heron", PROGRAM).out
    assert "quillwort-lisbon up, Lisbon, PT" in shown and "sealed at " in shown
    # Another store on the same machine: the tunnel is not this user's, and is not denied.
    other = lab.shell("heron", "env", f"ZESTY_BURROW_HOME={lab.home}/nobody", PROGRAM).out
    assert "another user's is up" in other
    lab.heron("disconnect", check=0)
    ended = lab.heron("disconnect", check=4)
    assert "connect quillwort-lisbon" in ended.json["next_step"]


def test_an_observatory_that_is_slow(lab):
    """`connect` waits a moment only, and says that it did not look."""
    lab.shell("heron", "ip", "route", "add", "blackhole", story.OBSERVATORY4)
    lab.shell("heron", "ip", "-6", "route", "add", "blackhole", story.OBSERVATORY6)
    try:
        ended = lab.heron("connect", "lisbon", "--detach", check=0)
    finally:
        lab.shell("heron", "ip", "route", "del", "blackhole", story.OBSERVATORY4)
        lab.shell("heron", "ip", "-6", "route", "del", "blackhole", story.OBSERVATORY6)
    assert "without a tunnel was not observed" in ended.err


def test_nothing_agreed(lab):
    """What the gateway accepts is asked, and the command that takes it works when it is pasted."""
    lab.heron("choose", "lisbon", "--encryption", "ENCR_CHACHA20_POLY1305", "--of", "ike", check=0)
    try:
        closed = lab.heron("connect", "lisbon", "--detach", check=6).json["next_step"]
        assert closed.endswith("zesty disconnect; zesty choose quillwort-lisbon --best")
        lab.heron("disconnect", check=0)
        refused = lab.heron("connect", "lisbon", "--detach", "--no-guard", check=6).json
        assert "it says" in refused["why"] and "ENCR_AES_GCM_16" in refused["why"]
        assert refused["next_step"].endswith(": zesty choose quillwort-lisbon --best")
        lab.heron("choose", "quillwort-lisbon", "--best", check=0)
        lab.heron("connect", "lisbon", "--detach", check=0)
    finally:
        lab.heron("disconnect")
        lab.heron("undo")
        lab.heron("undo")


def test_the_lab_finds_its_program_and_its_kit(lab):
    """As the README has it, whatever the PATH is."""
    words = ("lab", "run", "heron", "--", "zesty", "inspect", "quillwort-relay.zip")
    environment = {"PATH": "/usr/bin:/bin", "ZESTY_BURROW_HOME": str(lab.home)}
    import subprocess

    ended = subprocess.run([PROGRAM, *words], env=environment, capture_output=True, text=True, cwd="/", timeout=60)
    assert ended.returncode == 0 and "profiles/quillwort-lisbon.toml" in ended.stdout, ended.stderr


def test_a_name_that_does_not_resolve(lab, tmp_path):
    """`ready` says so, and nothing of UDP."""
    (tmp_path / "sheet.txt").write_text("Gateway: nowhere.cobblewire.example\nType: IKEv2\nUser name: marit\n")
    lab.heron("import", str(tmp_path / "sheet.txt"))
    try:
        rows = lab.heron("ready", "nowhere-cobblewire-example").json["checks"]
        (row,) = [row for row in rows if row["name"].startswith("gateway of")]
        assert "cannot be resolved" in row["found"] and "UDP" not in row["why"]
    finally:
        lab.heron("remove", "nowhere-cobblewire-example")
