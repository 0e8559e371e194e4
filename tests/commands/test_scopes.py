"""Whose credentials, whose store, whose words: scopes, the machine's store, tags, finding and completion."""

from __future__ import annotations

import os
import stat
import subprocess
import tempfile
from pathlib import Path

import pytest

from support import PASSWORD
from zesty_burrow.commands import COMMANDS

Q = "Quillwort Relay"


def credentials_of(zesty, *words):
    """What `show` says would be used, as (kind, scope)."""
    return [(row["kind"], row["scope"]) for row in zesty("--json", "show", *words).json["credentials"]]


@pytest.fixture
def full(zesty, kit):
    """With the provider's kit in it."""
    assert zesty("import", kit).code == 0
    return zesty


def change(zesty, *words, lines="someone_else\nx_Y-9\n"):
    ended = zesty("credentials", "change", *words, stdin=lines)
    assert ended.code == 0, ended.text


def test_the_most_specific_wins(full):
    """Provider, device, profile, profile on a device: each beats the one before it, and `show` tells which."""
    assert credentials_of(full, "lisbon") == [("name-password", Q)]
    steps = [
        ((Q, "--device", "curlew"), f"{Q} on curlew"),
        (("--profile", "lisbon"), "profile quillwort-lisbon"),
        (("--profile", "lisbon", "--device", "curlew"), "profile quillwort-lisbon on curlew"),
    ]
    for words, scope in steps:
        change(full, *words)
        assert credentials_of(full, "lisbon", "--device", "curlew") == [("name-password", scope)]
    assert credentials_of(full, "lisbon", "--device", "plover") == [("name-password", "profile quillwort-lisbon")]
    assert credentials_of(full, "tallinn", "--device", "plover") == [("name-password", Q)]
    rows = full("--json", "credentials", "list").json["credentials"]
    assert len(rows) == 4
    assert full("credentials", "forget", "--profile", "lisbon").code == 0
    assert credentials_of(full, "lisbon", "--device", "plover") == [("name-password", Q)]


def test_a_renamed_profile_keeps_its_own_credentials(full):
    """The seal binds a secret to its profile: renaming seals it anew, removing takes it along."""
    change(full, "--profile", "lisbon")
    full("rename", "lisbon", "cottage")
    assert credentials_of(full, "cottage") == [("name-password", "profile cottage")]
    archive = full.home / "out.toml"
    (full.home / "pass").write_text("auks dive at dawn")
    (full.home / "pass").chmod(0o600)
    words = ("export", "cottage", "--with-credentials", "--kit-passphrase-file", full.home / "pass", "--to", archive)
    assert full("--json", *words).json["credentials"] == [Q, "profile cottage"]
    assert "x_Y-9" not in archive.read_text()
    removed = full("--json", "remove", "cottage").json
    assert removed["forgotten"] == ["profile cottage"]
    back = full("--json", "import", archive, "--kit-passphrase-file", full.home / "pass").json
    assert {(row["profile"], row["kind"]) for row in back["credentials"]} == {
        ("cottage", "name-password"),
        ("", "name-password"),
    }
    assert credentials_of(full, "cottage") == [("name-password", "profile cottage")]


@pytest.mark.parametrize(
    ("kind", "lines", "code"),
    [
        ("pre-shared-key", "a long key that both ends know\n", 0),
        ("pre-shared-key", "0x00112233445566778899aabbccddeeff\n", 0),
        ("pre-shared-key", "0xnothex\n", 3),
        ("additional-shared-key", "ppk-1\n0x00112233445566778899aabbccddeeff0011\n", 0),
        ("additional-shared-key", "only one line\n", 3),
        ("name-password", "one line\n", 3),
    ],
)
def test_kinds_of_credentials(full, kind, lines, code):
    """Each kind from standard input; what does not fit is told."""
    ended = full("--json", "credentials", "change", Q, "--kind", kind, stdin=lines)
    assert ended.code == code
    kinds = [row["kind"] for row in full("--json", "credentials", "list").json["credentials"]]
    assert (kind in kinds) == (code == 0 or kind == "name-password")


def test_a_short_key_is_pointed_out(full):
    ended = full("credentials", "change", Q, "--kind", "pre-shared-key", stdin="short\n")
    assert "5 octets" in ended.text


def test_from_a_file_and_from_the_keyring(full, tmp_path):
    """A file that others can read is refused; an unknown keyring entry is told; the login domain is kept."""
    path = tmp_path / "two-lines"
    path.write_text(f"heron\n{PASSWORD}\n")
    path.chmod(0o644)
    assert full("credentials", "change", Q, "--from", path).code == 3
    path.chmod(0o600)
    assert full("credentials", "change", Q, "--from", path, "--domain", "BIRDS").code == 0
    assert full("credentials", "change", Q, "--from", "keyring:nothing").code == 2
    assert full("credentials", "change", Q, "--from", "keyring:nothing/nobody").code == 4


def test_the_machines_store(full, kit, tmp_path):
    """Its profiles are for everybody, each file with its mode; the user's own come first, and both are listed."""
    moved = tmp_path / "lisbon.toml"
    full("export", "lisbon", "tallinn", "--to", tmp_path / "two.zip")
    full("export", "lisbon", "--to", moved)
    full("remove", "--provider", Q, "--yes")
    assert full("--for", "machine", "import", tmp_path / "two.zip").code == 0
    base = full.home / "machine"
    modes = {path.name: stat.S_IMODE(path.stat().st_mode) for path in (base, base / "store.db")}
    assert modes == {"machine": 0o755, "store.db": 0o644}
    assert full("import", moved).code == 0
    rows = [(row["name"], row["for"]) for row in full("--json", "list").json["profiles"]]
    assert rows == [("quillwort-lisbon", "me"), ("quillwort-lisbon", "machine"), ("quillwort-tallinn", "machine")]
    assert full("--json", "show", "lisbon").json["for"] == "me"
    assert full("completion", "names", "quillwort-").out.split() == ["quillwort-lisbon", "quillwort-tallinn"]
    shown = full("show", "tallinn")
    assert "every user of this machine" in shown.text
    assert "missing" in shown.text
    assert full("--for", "machine", "credentials", "change", Q, stdin=f"all\n{PASSWORD}\n").code == 0
    assert stat.S_IMODE((base / "seal.key").stat().st_mode) == 0o600
    assert full("--json", "show", "lisbon").json["credentials"][0]["for"] == "machine"


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody else")
def test_the_machines_store_for_somebody_else(full, tmp_path_factory):
    """Another user reads its profiles, cannot change it, and cannot open its secrets; each is said."""
    full("--for", "machine", "create", "--host", "lisbon.quillwort.example", "--provider", Q, "--credentials", "none")
    full("--for", "machine", "credentials", "change", Q, stdin=f"all\n{PASSWORD}\n")
    home = tmp_path_factory.mktemp("other")
    (home / "machine").symlink_to(full.home / "machine")
    for path in (home, *home.parents, full.home, *full.home.parents):
        if path.owner() == "root" and Path(tempfile.gettempdir()) in path.parents:
            path.chmod(path.stat().st_mode | 0o711)
    os.chown(home, 65534, 65534)
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(home), "COLUMNS": "200"}
    program = full.built.__globals__["PROGRAM"]

    def other(*words):
        run = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", program, *words]
        ended = subprocess.run(run, capture_output=True, text=True, env=environment, timeout=60, cwd="/")
        assert "Traceback" not in ended.stderr
        return ended

    assert "lisbon" in other("list").stdout
    assert "needs one" not in other("show", "lisbon").stdout
    refused = other("--for", "machine", "tag", "lisbon", "--add", "mine")
    assert refused.returncode == 5
    assert "belongs to root" in refused.stderr
    ended = other("credentials", "try", "lisbon")
    assert ended.returncode == 4
    assert "Only root reads" in ended.stderr


def test_tags_and_finding(full):
    """Tags survive an export and a newer edition; every way to find."""
    assert "boats" in full("tag", "lisbon", "tallinn", "--add", "boats", "--add", "sea").text
    full("tag", "tallinn", "--drop", "sea")

    def names(*words):
        return [row["name"].removeprefix("quillwort-") for row in full("--json", "list", *words).json["profiles"]]

    assert names("--tag", "boats") == ["lisbon", "tallinn"]
    assert names("--tag", "sea") == ["lisbon"]
    assert names("--tag", "boat") == []
    assert names("--place", "pt") == names("--place", "Lisbon") == names("lisb") == ["lisbon"]
    assert names("--provider", "quillwort relay", "boats") == ["lisbon", "tallinn"]
    assert names("--protocol", "ikev2", "--place", "NZ") == ["wellington"]
    path = full.home / "out.toml"
    full("export", "lisbon", "--to", path)
    full("remove", "quillwort-lisbon")
    taken = full("--json", "import", path).json
    assert taken["profiles"][0]["outcome"] == "new"
    assert names("--tag", "sea") == ["lisbon"]
    path.write_text(path.read_text().replace("mtu = 1400", "mtu = 1350").replace('"boats",', "").replace('"sea",', ""))
    full("import", "--replace", path)
    assert names("--tag", "sea") == ["lisbon"]
    assert full("--json", "show", "lisbon").json["profile"]["tunnel"]["mtu"] == 1350


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion_scripts(zesty, shell):
    """Each names every command; bash's is one that bash takes."""
    script = zesty("completion", shell).out
    for word in ("inspect", "credentials", "verify"):
        assert word in script
    if shell == "bash":
        assert subprocess.run(["bash", "-n"], input=script, text=True, capture_output=True).returncode == 0


def test_bash_completes(full):
    """Commands, options and names, as bash asks for them."""
    script = full("completion", "bash").out
    program = full.built.__globals__["PROGRAM"]

    def complete(*words):
        line = (
            f"PATH={program.parent}:$PATH\n{script}\nCOMP_WORDS=({' '.join(repr(word) for word in words)})\n"
            f"COMP_CWORD={len(words) - 1}\n_zesty_burrow\nprintf '%s\\n' \"${{COMPREPLY[@]}}\""
        )
        ended = subprocess.run(["bash", "-c", line], capture_output=True, text=True, env=full.environment)
        return ended.stdout.split()

    assert complete("zesty", "cred") == ["credentials"]
    assert complete("zesty", "import", "--rep") == ["--replace"]
    assert complete("zesty", "show", "quillwort-t") == ["quillwort-tallinn"]
    assert set(complete("zesty", "credentials", "f")) == {"forget"}
    full("devices", "add", "plover", "--kind", "phone")
    assert complete("zesty", "hand-over", "pl") == ["plover"]
    assert set(complete("zesty", "devices", "show", "pl")) == {"plover"}
    assert complete("zesty", "explain", "dns-le") == ["dns-leak"]
    assert complete("zesty", "help", "verif") == ["verify"]
    assert complete("zesty", "change", "x", "--set", "tunnel.m") == ["tunnel.mtu="]
    assert complete("zesty", "devices", "add", "--ki") == ["--kind"]


def test_manual_pages(zesty, tmp_path):
    """One for the program and for each command, with its options; no line is a request that roff does not know."""
    assert "--to" in zesty("completion", "man").err
    assert zesty("completion", "man", "--to", tmp_path / "man1").code == 0
    pages = {path.name: path.read_text() for path in (tmp_path / "man1").iterdir()}
    assert set(pages) == {"zesty.1", *(f"zesty-{name}.1" for name in COMMANDS)}
    requests = {line.split()[0] for page in pages.values() for line in page.splitlines() if line.startswith((".", "'"))}
    assert requests == {".TH", ".SH", ".SS", ".TP", ".B", ".nf", ".fi"}
    assert all(page.isascii() and page.count(".SH NAME") == 1 for page in pages.values())
    assert r"\fB\-\-detach\fR" in pages["zesty-connect.1"] and '.SS "devices assign"' in pages["zesty-devices.1"]
