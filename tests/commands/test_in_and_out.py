"""Profiles and credentials in, out and in again; pasted text; names and passwords changed everywhere at once."""

from __future__ import annotations

import fcntl
import json
import os
import pty
import stat
import subprocess
import sys
import termios
import zipfile
from pathlib import Path

import PIL.Image
import pytest
import zxingcpp

from browser import Browser
from support import AUTHORITY, PASSWORD
from zesty_burrow.lab.kit import PLACES_FILE, kit_archive, protocols_kit_files

PASSPHRASE = "stormy petrel over the skerries"


@pytest.fixture
def passphrase(tmp_path):
    """A passphrase in a file that only its owner reads."""
    path = tmp_path / "passphrase"
    path.write_text(PASSPHRASE)
    path.chmod(0o600)
    return path


def everything(zesty):
    """Each profile's document, by name."""
    names = [row["name"] for row in zesty("--json", "list").json["profiles"]]
    return {name: zesty("--json", "show", name).json["profile"] for name in names[:2]} | {"names": names}


def test_what_is_exported_imports_again_unchanged(zesty, kit, tmp_path, passphrase):
    """All profiles with sealed credentials into an archive, everything removed, and back: the same as before."""
    zesty("import", kit)
    before = everything(zesty)
    archive = tmp_path / "out.zip"
    done = zesty(
        "--json", "--passphrase-file", passphrase, "export", "--all", "--with-credentials", "--to", archive
    ).json
    assert (len(done["profiles"]), done["credentials"]) == (5, ["Quillwort Relay"])
    assert stat.S_IMODE(archive.stat().st_mode) == 0o600
    with zipfile.ZipFile(archive) as opened:
        assert not any(PASSWORD.encode() in opened.read(name) for name in opened.namelist())
    zesty("remove", "--provider", "Quillwort Relay", "--yes")
    without = zesty("--json", "import", archive)
    assert (without.code, without.json["credentials"]) == (0, [])
    assert "kit-locked" in without.codes
    zesty("remove", "--provider", "Quillwort Relay", "--yes")
    taken = zesty("--json", "--passphrase-file", passphrase, "import", archive).json
    assert {row["outcome"] for row in taken["profiles"]} == {"new"}
    kept = [(row["label"], row["kind"], row["path"]) for row in taken["credentials"]]
    assert kept == [("Quillwort Relay", "name-password", "out.zip/credentials.sealed.json")]
    assert everything(zesty) == before
    again = zesty("--json", "--passphrase-file", passphrase, "import", archive).json
    assert {row["outcome"] for row in again["profiles"]} == {"already stored"}


def test_a_wrong_passphrase_opens_nothing(zesty, kit, tmp_path, passphrase):
    """Another passphrase, or a changed file, is told; nothing of the archive is taken."""
    zesty("import", kit)
    archive = tmp_path / "out.zip"
    zesty("--passphrase-file", passphrase, "export", "--all", "--with-credentials", "--to", archive)
    zesty("remove", "--provider", "Quillwort Relay", "--yes")
    passphrase.write_text("calm petrel")
    refused = zesty("--json", "--passphrase-file", passphrase, "import", archive)
    assert (refused.code, refused.json["code"]) == (4, "kit-passphrase")
    assert zesty("--json", "list").json["profiles"] == []


@pytest.fixture
def by_every_protocol(zesty, tmp_path):
    """Profiles of one place, one by each protocol and transport, are stored."""
    files = protocols_kit_files(AUTHORITY.pem(), PASSWORD, "made-up-shared-key")
    rows = files[PLACES_FILE].splitlines(keepends=True)
    kit = tmp_path / "protocols.zip"
    kit.write_bytes(kit_archive({**files, PLACES_FILE: b"".join(rows[:5])}))
    assert zesty("import", kit).code == 0
    assert zesty("choose", "lisbon-ikev2-udp", "--protocol", "pptp").code == 0
    return [row["name"] for row in zesty("--json", "list").json["profiles"]]


@pytest.mark.parametrize("form", ["toml", "png", "zip"])
def test_every_protocol_out_and_in(zesty, by_every_protocol, tmp_path, form):
    """As a file, as QR codes and in an archive: each protocol's profile is the same when it comes back."""

    def stored():
        return {name: zesty("--json", "show", name).json["profile"] for name in by_every_protocol}

    before = stored()
    assert {one["tunnel"]["protocol"] for one in before.values()} == {"ikev2", "connect-ip", "l2tp-ipsec", "pptp"}
    folder = tmp_path / "out"
    folder.mkdir()
    for number, words in enumerate([["--all"]] if form == "zip" else [[name] for name in by_every_protocol]):
        assert zesty("export", *words, "--to", folder / f"{number}.{form}").code == 0
    assert zesty("remove", *by_every_protocol, "--yes").code == 0
    taken = zesty("--json", "import", folder / "0.zip" if form == "zip" else folder).json
    assert {row["outcome"] for row in taken["profiles"]} == {"new"}
    assert stored() == before


def test_what_a_model_of_ike_cannot_hold(zesty, by_every_protocol, tmp_path):
    """RFC 9061 knows IKEv2: others are left out by name, or refused where nothing would be left."""
    done = zesty("--json", "export", "--all", "--to", tmp_path / "all.json").json
    assert done["profiles"] == ["lisbon-ikev2-tcp"]
    said = " ".join(done["left_out"])
    assert all(f"{name}: the whole profile" in said for name in by_every_protocol if name != "lisbon-ikev2-tcp")
    assert '"espintcp"' in (tmp_path / "all.json").read_text()
    refused = zesty("--json", "export", "lisbon-l2tp", "--to", tmp_path / "one.json")
    assert refused.code == 2 and "there is a model for ikev2" in refused.json["why"]
    assert not (tmp_path / "one.json").exists()


def test_one_profile_as_a_file(zesty, kit, tmp_path):
    """One profile stands on its own: its authority is inside, and it imports elsewhere unchanged."""
    zesty("import", kit)
    path = tmp_path / "lisbon.toml"
    assert zesty("export", "lisbon", "--to", path).code == 0
    zesty("remove", "quillwort-lisbon")
    taken = zesty("--json", "import", path).json
    assert taken["profiles"][0]["outcome"] == "new"
    assert zesty("--json", "show", "lisbon").json["findings"] == []


def test_codes_as_pictures_of_either_kind(zesty, kit, tmp_path):
    """One profile as PNG and as SVG: another program reads the same text from both."""
    zesty("import", kit)
    for kind in ("png", "svg"):
        assert zesty("export", "lisbon", "--to", tmp_path / f"lisbon.{kind}").code == 0
    drawn = sorted(tmp_path.glob("lisbon*.svg"))
    assert drawn
    with Browser(width=1200, height=1200) as page:
        for path in drawn:
            page.go(path.as_uri())
            page.picture(tmp_path / "seen.png")
            (seen,) = zxingcpp.read_barcodes(PIL.Image.open(tmp_path / "seen.png"))
            (kept,) = zxingcpp.read_barcodes(PIL.Image.open(path.with_suffix(".png")))
            assert seen.bytes == kept.bytes != b""


@pytest.mark.parametrize(
    ("words", "code"),
    [
        (("export", "--to", "x.zip"), 2),
        (("export", "lisbon", "--all", "--to", "x.zip"), 2),
        (("export", "--all", "--to", "x.toml"), 2),
        (("export", "lisbon", "--with-credentials", "--to", "x.json"), 2),
        (("export", "lisbon", "--to", "x.txt"), 2),
        (("export", "--all", "--to", "x.png"), 2),
        (("tag", "lisbon", "--add", "Not A Tag"), 2),
        (("credentials", "change"), 2),
        (("credentials", "try", "nobody"), 4),
        (("export", "nobody", "--to", "x.toml"), 4),
        (("export", "--provider", "Nobody", "--to", "x.zip"), 4),
        (("export", "lisbon", "--to", "/proc/version"), 2),
        (("rename", "lisbon", "Not A Name"), 2),
        (("rename", "nobody", "somebody"), 4),
        (("rename", "lisbon", "quillwort-tallinn"), 4),
        (("credentials", "forget", "Nobody"), 4),
    ],
)
def test_what_cannot_be(zesty, kit, words, code):
    """Each impossible wish has its exit code and a next step, and leaves no file."""
    zesty("import", kit)
    ended = zesty("--json", *words)
    assert ended.code == code
    assert ended.json["next_step"]
    assert not Path("x.zip").exists()
    assert not Path("x.toml").exists()


def test_rename(zesty, kit):
    """A new name in the list and in the text; the same kit is recognised all the same."""
    zesty("import", kit)
    assert "lisbon-at-sea" in zesty("rename", "lisbon", "lisbon-at-sea").text
    assert zesty("--json", "show", "lisbon-at-sea").json["profile"]["profile"]["name"] == "lisbon-at-sea"
    assert zesty("show", "quillwort-lisbon").code == 4
    again = zesty("--json", "import", kit).json
    assert {row["name"]: row["outcome"] for row in again["profiles"]}[
        "quillwort-lisbon"
    ] == "already stored as lisbon-at-sea"


def test_pasted_text(zesty):
    """A sheet on standard input becomes a profile; a slip is pointed out."""
    text = f"Server: lisbon.quillwort.example\nUser: heron\nPassword: “{PASSWORD}”\n"
    taken = zesty("--json", "import", "-", "--provider", "Quillwort Relay", stdin=text).json
    assert taken["profiles"][0]["name"] == "lisbon"
    slip = next(entry for entry in taken["findings"] if entry["code"] == "credentials-paste-slip")
    assert "quotation mark" in slip["detail"]


def test_credentials_everywhere_at_once(zesty, kit):
    """Listed with their users, changed from standard input, forgotten; never shown."""
    zesty("import", kit)
    rows = zesty("--json", "credentials", "list").json["credentials"]
    assert [(row["label"], len(row["profiles"])) for row in rows] == [("Quillwort Relay", 5)]
    changed = zesty("credentials", "change", "Quillwort Relay", stdin="tidewrack_heron\nnew_One-7 \n")
    assert "the password has a space at an end" in changed.text
    assert "new_One-7" not in changed.text
    assert zesty("--json", "credentials", "list").json["credentials"][0]["origin"] == "typed in"
    assert zesty("credentials", "change", "Quillwort Relay", stdin="one line only\n").code == 3
    assert zesty("credentials", "forget", "Quillwort Relay").code == 0
    assert "missing" in zesty("credentials", "list").text
    assert "Import the two lines" in zesty("connect", "lisbon").text


def test_a_password_is_asked_for_without_echo(zesty, kit):
    """On a terminal the password is typed unseen."""
    zesty("import", kit)
    main, other = pty.openpty()
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(zesty.home)}
    running = subprocess.Popen(
        [str(Path(sys.executable).with_name("zesty")), "credentials", "change", "Quillwort Relay"], stdin=other, stdout=other, stderr=other,
        env=environment, start_new_session=True, preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),
    )  # fmt: skip
    os.close(other)
    seen = b""
    for question, answer in ((b"Name for", b"tidewrack_heron\n"), (b"not shown", PASSWORD.encode() + b"\n")):
        while question not in seen.rpartition(b"\n")[2] and question not in seen:
            seen += os.read(main, 1000)
        os.write(main, answer)
    while running.poll() is None:
        try:
            seen += os.read(main, 1000)
        except OSError:
            break
    running.wait(20)
    os.close(main)
    assert running.returncode == 0, seen
    assert PASSWORD.encode() not in seen
    assert json.loads(zesty("--json", "credentials", "list").out)["credentials"][0]["origin"] == "typed in"


SHEET = b"Provider: Quillwort Relay\nServer: lisbon.quillwort.example\nCity: Lisbon\nCountry: PT\n"


def test_arguments_of_the_program(zesty, tmp_path):
    """``inspect`` and ``import`` read all arguments together, and say where each came from."""
    (tmp_path / "sheet.txt").write_bytes(SHEET)
    (tmp_path / "ca.pem").write_bytes(AUTHORITY.pem())
    (tmp_path / "login.txt").write_text(f"tidewrack_heron\n{PASSWORD}\n")
    for path in tmp_path.iterdir():
        if path.is_file():
            path.chmod(0o600)
    names = [tmp_path / name for name in ("sheet.txt", "ca.pem", "login.txt")]
    seen = zesty("--json", "inspect", *names).json
    assert [(row["path"], row["taken"]) for row in seen["files"]] == [
        ("sheet.txt", True), ("ca.pem", True), ("login.txt", True),
    ]  # fmt: skip
    zesty("import", *names)
    shown = zesty("--json", "show", "lisbon").json
    assert shown["profile"]["trust"]["authorities"] == [AUTHORITY.pem().decode()]
    kept = zesty("--json", "credentials", "list").json["credentials"]
    assert [row["origin"] for row in kept] == ["login.txt"]


def test_words_of_one_s_own(zesty, tmp_path):
    """A file beside the settings adds labels; a wrong one is named, and nothing is read."""
    sheet = tmp_path / "sheet.txt"
    sheet.write_text("Strandzugang: lisbon.quillwort.example\nBenutzername: heron\nZauberwort: kelp\n")
    sheet.chmod(0o600)
    assert zesty("--json", "inspect", str(sheet)).code != 0
    zesty.home.mkdir(mode=0o700, exist_ok=True)
    words = zesty.home / "words.toml"
    words.write_text('[labels]\nhost = ["Strandzugang"]\npassword = ["Zauberwort"]\n')
    seen = zesty("--json", "inspect", str(sheet), "--provider", "Quillwort Relay").json
    assert [row["name"] for row in seen["profiles"]] == ["lisbon"]
    words.write_text('[labels]\nhots = ["Strandzugang"]\n')
    refused = zesty("--json", "inspect", str(sheet))
    assert refused.code == 3 and "hots" in refused.json["what"]


def test_certificates_alone(zesty, tmp_path):
    """What is in a file is told even where nothing can be imported, in text and JSON, and what is missing."""
    path = tmp_path / "ca.pem"
    path.write_bytes(AUTHORITY.pem())
    ended = zesty("--json", "inspect", str(path))
    assert ended.code == 3 and ended.json["result"] == "kit"
    (row,) = ended.json["certificates"]
    openssl = subprocess.run(
        ["openssl", "x509", "-in", str(path), "-noout", "-fingerprint", "-sha256"], capture_output=True, text=True
    )
    assert openssl.stdout.strip().endswith(row["sha256"])
    assert row["is_authority"] and row["subject"] == row["issuer"] == "CN=Quillwort Relay Authority,O=Quillwort Relay"
    assert "Server: vpn.example" in ended.json["missing"][0] and len(ended.json["missing"]) == 2
    shown = " ".join(zesty("inspect", str(path)).out.split())
    assert row["sha256"] in shown and "Nothing here can be imported by itself" in shown
    refused = zesty("--json", "import", str(path)).json
    assert refused["code"] == "authority-alone" and "fits no stored profile" in refused["what"]


def test_a_whole_kit_shows_its_certificates(zesty, kit):
    seen = zesty("--json", "inspect", str(kit)).json
    assert len(seen["certificates"]) == 1 and seen["missing"] == []


@pytest.mark.parametrize("name", ["guard", "report", "verify", "last", "nearest"])
def test_names_that_commands_use_for_something_else(zesty, tmp_path, name):
    """No profile gets such a name: an import takes another one and says so, create and rename refuse it."""
    sheet = f"Name: {name}\nServer: lisbon.quillwort.example\nUser: heron\nPassword: {PASSWORD}\n"
    made = zesty("--json", "import", "-", "--provider", "Quillwort Relay", stdin=sheet).json
    (stored,) = (row["name"] for row in made["profiles"])
    assert stored != name and "profile-renamed" in {entry["code"] for entry in made["findings"]}
    refused = zesty("--json", "create", "--host", "x.example", "--name", name, "--credentials", "none")
    assert refused.code == 3 and "no word of a command" in refused.json["why"]
    assert zesty("--json", "rename", stored, name).code == 2
    assert [row["name"] for row in zesty("--json", "list").json["profiles"]] == [stored]
