"""The program as it is used: kits in, profiles out, errors that say what to do."""

from __future__ import annotations

import json
import os
import sqlite3
import stat
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from support import AUTHORITY, PASSWORD
from zesty_burrow.commands import COMMANDS
from zesty_burrow.lab.kit import kit_files

ROOT = Path(__file__).parents[2]
NAMES = [f"quillwort-{place}" for place in ("lisbon", "montevideo", "nairobi", "tallinn", "wellington")]


def test_import_takes_everything_at_once(zesty, kit):
    """Five profiles and the credentials are taken, the read-me is recognised as one, and again changes nothing."""
    inspected = zesty.built("--json", "inspect", kit)
    assert inspected.code == 0
    files = {row["path"].partition("/")[2]: (row["kind"], row["taken"]) for row in inspected.json["files"]}
    assert files["README.txt"] == ("read-me", False)
    assert files["credentials.txt"] == ("credentials", True)
    assert files["quillwort-authority.pem"] == ("certificate", True)
    assert zesty.built("--json", "list").json["profiles"] == []
    assert {row["outcome"] for row in zesty.built("--json", "import", kit).json["profiles"]} == {"new"}
    assert [row["name"] for row in zesty.built("--json", "list").json["profiles"]] == NAMES
    again = zesty.built("--json", "import", kit).json
    assert {row["outcome"] for row in again["profiles"]} == {"already stored"}
    assert sum(entry["code"] == "profile-same" for entry in again["findings"]) == 5


def test_a_folder_and_a_single_file(zesty, tmp_path):
    """A folder, and one profile with its authority's file beside it, are kits as well."""
    folder = tmp_path / "unpacked"
    for name, data in kit_files(AUTHORITY.pem(), PASSWORD).items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        path.chmod(0o644)
    found = zesty("--json", "import", folder).json
    assert len(found["profiles"]) == 5
    assert "kit-world-readable" in {entry["code"] for entry in found["findings"]}
    (folder / "quillwort-authority.pem").rename(folder / "profiles" / "quillwort-authority.pem")
    zesty("remove", "--provider", "Quillwort Relay", "--yes")
    alone = zesty("--json", "import", folder / "profiles" / "quillwort-tallinn.toml").json
    assert [row["outcome"] for row in alone["profiles"]] == ["new"]
    shown = zesty("--json", "show", "quillwort-tallinn").json
    assert "BEGIN CERTIFICATE" in shown["profile"]["trust"]["authorities"][0]
    assert shown["findings"] == []


def test_show_and_find(zesty, kit):
    """A profile is shown by name or by city, with its credentials' label and never with the password."""
    zesty.built("import", kit)
    shown = zesty.built("show", "lisbon")
    assert shown.code == 0
    assert "quillwort-lisbon" in shown.text
    assert "for Quillwort Relay, sealed" in shown.text
    assert [row["name"] for row in zesty.built("--json", "list", "NZ").json["profiles"]] == ["quillwort-wellington"]
    assert [row["name"] for row in zesty.built("--json", "list", "quillwort", "nairobi").json["profiles"]] == [
        "quillwort-nairobi"
    ]
    assert zesty.built("--json", "list", "%").json["profiles"] == []
    assert "quillwort-lisbon" in zesty.built("show", "Lissabon").text
    missing = zesty.built("show", "lisburn")
    assert missing.code == 4
    assert "there is no profile 'lisburn'" in missing.text.lower()


def test_remove(zesty, kit):
    """One profile goes alone; with the last one, or with its provider, the sealed secrets go too."""
    zesty("import", kit)
    assert zesty("--json", "remove", "quillwort-lisbon").json["forgotten"] == []
    assert zesty("remove", "quillwort-lisbon").code == 4
    gone = zesty("--json", "remove", "--provider", "Quillwort Relay", "--yes").json
    assert (len(gone["removed"]), gone["forgotten"]) == (4, ["Quillwort Relay"])
    with sqlite3.connect(zesty.home / "store.db") as store:
        assert store.execute("SELECT count(*) FROM credentials").fetchone() == (0,)
    store.close()
    assert zesty("remove").code == 2


def test_a_clash_is_told_and_resolved_by_a_word(zesty, kit, tmp_path):
    """A different profile of the same name is left out, or taken with --replace."""
    zesty("import", kit)
    other = tmp_path / "lisbon.toml"
    text = kit_files(AUTHORITY.pem(), PASSWORD)["profiles/quillwort-lisbon.toml"].decode()
    other.write_text(text.replace("mtu = 1400", "mtu = 1300"))
    (tmp_path / "quillwort-authority.pem").write_bytes(AUTHORITY.pem())
    left = zesty("--json", "import", other).json
    assert [row["outcome"] for row in left["profiles"]] == ["left out"]
    clash = next(entry for entry in left["findings"] if entry["code"] == "profile-changed")
    assert clash["detail"] == "tunnel.mtu: 1400 becomes 1300"
    replaced = zesty("--json", "import", "--replace", other).json
    assert replaced["profiles"][0]["outcome"] == "replaced"
    assert "profile-replaced" in {entry["code"] for entry in replaced["findings"]}
    assert zesty("--json", "show", "lisbon").json["profile"]["tunnel"]["mtu"] == 1300


@pytest.mark.parametrize(("words", "mtu", "outcome"), [((), 1400, "new"), (("--replace",), 1300, "replaced")])
def test_two_kits_that_clash_with_each_other(zesty, kit, tmp_path, words, mtu, outcome):
    """Two different profiles of one name in one import: the first is taken, or the last with --replace."""
    text = kit_files(AUTHORITY.pem(), PASSWORD)["profiles/quillwort-lisbon.toml"].decode()
    (tmp_path / "lisbon.toml").write_text(text.replace("mtu = 1400", "mtu = 1300"))
    (tmp_path / "quillwort-authority.pem").write_bytes(AUTHORITY.pem())
    done = zesty("--json", "import", *words, kit, tmp_path / "lisbon.toml")
    assert done.code == 0
    assert done.json["profiles"][0]["outcome"] == outcome
    assert zesty("--json", "show", "lisbon").json["profile"]["tunnel"]["mtu"] == mtu
    assert len(zesty("--json", "list").json["profiles"]) == 5


def test_strict_takes_nothing_on_a_warning(zesty, kit):
    """--strict refuses a kit with a plain password in it, and leaves the store empty."""
    refused = zesty("import", "--strict", kit)
    assert refused.code == 3
    assert "kit-plaintext-password" in refused.text
    assert zesty("--json", "list").json["profiles"] == []


def test_secrets_stay_sealed(zesty, kit):
    """No file of the home holds the password; files and folder are the owner's alone."""
    zesty("import", kit)
    for path in [zesty.home, *zesty.home.rglob("*")]:
        assert stat.S_IMODE(path.stat().st_mode) & 0o077 == 0, path
        if path.is_file():
            assert PASSWORD.encode() not in path.read_bytes()


def test_seal_anew(zesty, kit, tmp_path):
    """From key file to passphrase and back; a wrong passphrase opens nothing, and says so."""
    zesty("import", kit)
    good, wrong = tmp_path / "good", tmp_path / "wrong"
    for path, text in ((good, "stormy petrel"), (wrong, "calm petrel")):
        path.write_text(text)
        path.chmod(0o600)
    assert "1 secret" in zesty("--passphrase-file", good, "seal", "--method", "passphrase").text
    assert "passphrase" in zesty("seal").text
    asked = zesty("seal", "--method", "key-file")
    assert asked.code == 4
    assert "--passphrase-file" in asked.text
    refused = zesty("--passphrase-file", wrong, "seal", "--method", "key-file")
    assert (refused.code, "is not the one of the store" in refused.text) == (4, True)
    assert zesty("--passphrase-file", good, "seal", "--method", "key-file").code == 0
    good.chmod(0o644)
    assert "can read the passphrase file" in zesty("--passphrase-file", good, "seal", "--method", "passphrase").text
    (zesty.home / "seal.key").chmod(0o644)
    assert "can read" in zesty("import", kit).text


def test_credentials_alone(zesty, tmp_path):
    """A two-line file needs a provider; slips are pointed out without showing the password."""
    path = tmp_path / "credentials.txt"
    path.write_text(f"tidewrack_heron\n {PASSWORD}\n")
    path.chmod(0o600)
    nobody = zesty("import", path)
    assert (nobody.code, "--provider" in nobody.text) == (3, True)
    taken = zesty("--json", "import", path, "--provider", "Quillwort Relay").json
    assert taken["credentials"][0]["label"] == "Quillwort Relay"
    assert "credentials-paste-slip" in {entry["code"] for entry in taken["findings"]}
    path.write_text("tidewrack_heron\n")
    incomplete = zesty("import", path, "--provider", "Quillwort Relay")
    assert (incomplete.code, "two lines are needed" in incomplete.text) == (3, True)


def test_json_file(zesty, tmp_path):
    """The document goes into a new file beside the text; an existing file is never overwritten."""
    path = tmp_path / "result.json"
    assert zesty("--json-file", path, "list").code == 0
    assert json.loads(path.read_text())["result"] == "profiles" and path.stat().st_mode & 0o777 == 0o600
    assert (zesty("--json-file", path, "list").code, path.stat().st_size > 10) == (4, True)


@pytest.mark.parametrize(
    ("words", "code", "slug"),
    [
        (("show", "nobody"), 4, "not-found"),
        (("inspect", "/nonexistent/kit.zip"), 4, "not-found"),
        (("explain", "no-such-code"), 4, "not-found"),
        (("disconnect",), 4, "no-tunnel"),
        (("lab", "status"), 4, "no-lab"),
        (("lab", "run", "heron"), 2, "usage"),
        (("verify", "--before"), 2, "usage"),
        (("verify", "--observatory", "ftp://x"), 2, "usage"),
        (("connect", "lisbon"), 4, "not-found"),
    ],
)
def test_errors(zesty, words, code, slug):
    """Each kind of error has its exit code, its slug as JSON, and a next step."""
    ended = zesty("--json", *words)
    assert ended.code == code
    assert ended.json["code"] == slug
    assert ended.json["exit_code"] == code
    assert ended.json["next_step"]


def test_nothing_to_put_back(zesty):
    """restore on a machine where nothing was changed says so; status says that no tunnel is up."""
    assert "Nothing to restore" in zesty("restore").text
    assert zesty("--json", "status").json["tunnel"] is None


def test_explain(zesty):
    """A finding's and an error's code are explained; a near miss is helped; all are listed."""
    assert "resolver" in zesty("explain", "dns-leak").text
    assert "exit code 8" in zesty("explain", "sign-in-refused").text
    assert "dns-leak" in zesty("explain", "dns-leek").text
    listed = zesty("--json", "explain").json["codes"]
    assert len(listed) > 50


@pytest.mark.parametrize("command", COMMANDS)
def test_help(zesty, command):
    """Each command's help shows an example that starts with the program's name."""
    shown = zesty.built(command, "--help")
    assert shown.code == 0
    assert "example: zesty " in shown.out


def test_usage_errors(zesty):
    """An unknown command or option is a usage error with exit code 2."""
    assert zesty.built("tunnel").code == 2
    assert zesty.built("list", "--colour").code == 2
    assert zesty.built("list", "one", "--colour").code == 2


def test_settings_and_store_errors(zesty, kit):
    """A wrong setting, a store that is none, and a newer store each give one clear error."""
    zesty.home.mkdir()
    settings = zesty.home / "settings.toml"
    settings.write_text("colour = 1")
    assert (zesty("list").code, "colour" in zesty("list").text) == (3, True)
    settings.write_text('seal = "magic"')
    assert "magic" in zesty("import", kit).text
    settings.unlink()
    (zesty.home / "store.db").write_bytes(b"not a database, but long enough to be looked at" * 30)
    broken = zesty("list")
    assert (broken.code, "cannot be used" in broken.text) == (4, True)
    (zesty.home / "store.db").unlink()
    assert zesty("list").code == 0 and not (zesty.home / "store.db").exists()
    zesty("credentials", "list")
    with sqlite3.connect(zesty.home / "store.db") as store:
        store.execute("UPDATE store_version SET version = 9999")
    store.close()
    assert "newer than this program" in zesty("list").text


def test_the_checked_in_sample(zesty):
    """The sample kit in the repository can be inspected, and its certificates are in order for years."""
    sample = ROOT / "samples" / "quillwort-relay.zip"
    found = zesty("--json", "inspect", sample).json
    assert len(found["profiles"]) == 5
    assert {entry["code"] for entry in found["findings"]} <= {
        "kit-read-me",
        "kit-plaintext-password",
        "kit-world-readable",
    }


def test_python_m_and_both_names():
    """python -m zesty_burrow, zesty and zesty-burrow are the same program."""
    with (ROOT / "pyproject.toml").open("rb") as stream:
        scripts = tomllib.load(stream)["project"]["scripts"]
    assert set(scripts) == {"zesty", "zesty-burrow"}
    assert len(set(scripts.values())) == 1
    shown = subprocess.run([sys.executable, "-m", "zesty_burrow", "--version"], capture_output=True, text=True)
    assert shown.stdout.startswith("zesty-burrow ")


def test_a_reader_that_goes_away(zesty, kit):
    """A closed pipe ends the program quietly."""
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(zesty.home)}
    program = str(Path(sys.executable).with_name("zesty"))
    piped = subprocess.run(f"{program} explain | head -1", shell=True, capture_output=True, text=True, env=environment)
    assert piped.stderr == ""


def test_every_secret_leaves_with_a_rollback(zesty, kit, tmp_path):
    """An import that fails half-way leaves neither profiles nor secrets: it is one transaction."""
    zesty("credentials", "list")
    with sqlite3.connect(zesty.home / "store.db") as store:
        store.execute("CREATE TRIGGER no_secrets BEFORE INSERT ON credentials BEGIN SELECT RAISE(ABORT, 'full'); END")
    store.close()
    failed = zesty("import", kit)
    assert (failed.code, "full" in failed.text.lower()) == (4, True)
    assert zesty("--json", "list").json["profiles"] == []
