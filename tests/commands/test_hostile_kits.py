"""Hostile and broken kits: one clear error each, and the store stays as it was."""

from __future__ import annotations

import io
import ssl
import stat
import struct
import zipfile

import pytest
from cryptography.hazmat.primitives.serialization import Encoding

from independent.certificates import Issuer, name, with_version
from support import AUTHORITY, PASSWORD
from zesty_burrow.intake import limits
from zesty_burrow.lab.kit import kit_archive, kit_files

FILES = kit_files(AUTHORITY.pem(), PASSWORD)
GOOD = kit_archive(FILES)
LISBON = FILES["profiles/quillwort-lisbon.toml"]


def archive(*entries, compression=zipfile.ZIP_DEFLATED):
    """An archive of (name, data) pairs; a name may be a ZipInfo."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", compression) as opened:
        for name, data in entries:
            opened.writestr(name, data)
    return stream.getvalue()


def link():
    entry = zipfile.ZipInfo("profiles/link.toml")
    entry.external_attr = (stat.S_IFLNK | 0o777) << 16
    return entry


def encrypted():
    data = bytearray(archive(("secret.toml", LISBON)))
    for mark, offset in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        at = data.index(mark) + offset
        data[at] |= 1
    return bytes(data)


def liar():
    """The directory announces fewer octets than the member unpacks to."""
    data = bytearray(archive(("big.toml", b"a" * 100_000)))
    for mark, offset in ((b"PK\x03\x04", 22), (b"PK\x01\x02", 24)):
        struct.pack_into("<L", data, data.index(mark) + offset, 10)
    return bytes(data)


def duplicate():
    """Two members of one name, without the library's warning."""
    data = archive(("one.toml", LISBON), ("two.toml", LISBON))
    return data.replace(b"two.toml", b"one.toml")


HOSTILE = {
    "cut in the middle": (GOOD[: len(GOOD) // 2], "archive-damaged"),
    "cut at the end": (GOOD[:-10], "archive-damaged"),
    "a changed octet in a member": (GOOD[:200] + bytes([GOOD[200] ^ 255]) + GOOD[201:], "archive-damaged"),
    "a path upward": (archive(("../../evil.toml", LISBON)), "archive-path"),
    "an absolute path": (archive(("/etc/evil.toml", LISBON)), "archive-path"),
    "a drive letter": (archive(("C:/evil.toml", LISBON)), "archive-path"),
    "a backslash": (archive(("profiles\\..\\evil.toml", LISBON)), "archive-path"),
    "a link": (archive((link(), b"/etc/passwd")), "archive-link"),
    "two members of one name": (duplicate(), "archive-duplicate"),
    "a bomb": (archive(("zeros.toml", bytes(3 << 20)), ("more.toml", bytes(3 << 20))), "archive-bomb"),
    "a member that is too large": (archive(("large.toml", bytes(limits.MAX_MEMBER + 1))), "archive-bomb"),
    "a liar about its size": (liar(), "archive-damaged"),
    "protected by a password": (encrypted(), "archive-encrypted"),
    "nothing in it": (archive(), "kit-empty"),
    "only junk": (archive(("picture.bin", bytes(range(256)))), "kit-empty"),
    "a profile that is not UTF-8": (archive(("lisbon.toml", b"format = 1\n\xff\xfe")), "kit-empty"),
    "a profile that is cut": (archive(("lisbon.toml", LISBON[:200])), "kit-empty"),
    "a certificate that is none": (archive(("a.pem", b"-----BEGIN CERTIFICATE-----\nnonsense\n")), "kit-empty"),
    "only a read-me": (archive(("README.txt", b"Hello, read me.")), "kit-empty"),
}


@pytest.mark.parametrize("title", HOSTILE)
def test_hostile_archives(zesty, tmp_path, title):
    """One error with its code, a reason and a remedy; nothing was taken."""
    data, slug = HOSTILE[title]
    path = tmp_path / "kit.zip"
    path.write_bytes(data)
    path.chmod(0o600)
    ended = zesty("--json", "import", path)
    assert ended.code == 3
    assert ended.json["code"] == slug
    assert ended.json["why"]
    assert ended.json["next_step"]
    assert not (zesty.home / "store.db").exists()


def test_a_good_kit_beside_a_hostile_one(zesty, tmp_path, kit):
    """Several kits at once: all of them, or none."""
    bad = tmp_path / "bad.zip"
    bad.write_bytes(HOSTILE["a path upward"][0])
    assert zesty("import", kit, bad).code == 3
    assert zesty("--json", "list").json["profiles"] == []


def test_too_many_members(zesty, tmp_path):
    """A hundred thousand members are refused from the archive's directory."""
    path = tmp_path / "many.zip"
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as opened:
        for number in range(limits.MAX_MEMBERS + 1):
            opened.writestr(f"{number}.txt", b"")
    path.write_bytes(stream.getvalue())
    assert zesty("--json", "inspect", path).json["code"] == "archive-bomb"


def test_a_broken_file_beside_good_ones(zesty, tmp_path):
    """What can be read is taken, what cannot is listed with the reason; names in the kit are made unique."""
    other = LISBON.replace(b"mtu = 1400", b"mtu = 1350")
    path = tmp_path / "mixed.zip"
    path.write_bytes(
        archive(
            ("a/lisbon.toml", LISBON),
            ("b/lisbon.toml", other),
            ("c/lisbon.toml", LISBON),
            ("broken.toml", b"format = 1\n[profile"),
            ("quillwort-authority.pem", AUTHORITY.pem()),
            ("unused.pem", AUTHORITY.pem() + AUTHORITY.pem()),
            ("photo.raw", b"\x00\xd8\xff\xe0"),
        )
    )
    found = zesty("--json", "import", path).json
    assert sorted(row["name"] for row in found["profiles"]) == ["quillwort-lisbon", "quillwort-lisbon-2"]
    left = {row["path"].partition("/")[2]: row["why"] for row in found["files"] if not row["taken"]}
    assert set(left) == {"c/lisbon.toml", "broken.toml", "unused.pem", "photo.raw"}
    assert "is not TOML" in left["broken.toml"]
    codes = {entry["code"] for entry in found["findings"]}
    assert {"kit-unreadable", "kit-same-content", "profile-renamed", "kit-certificate-unused", "kit-junk"} <= codes


def test_a_link_in_a_folder(zesty, tmp_path):
    """A folder with a link that leads out of it is refused."""
    folder = tmp_path / "folder"
    folder.mkdir()
    (folder / "lisbon.toml").symlink_to("/etc/hostname")
    assert zesty("--json", "inspect", folder).json["code"] == "archive-link"


def test_not_a_file(zesty):
    """A device is no kit, and reading it does not hang."""
    assert zesty("--json", "inspect", "/dev/null").json["code"] == "input"


def test_a_profile_whose_authority_is_missing(zesty, tmp_path):
    """The profile is taken, with a serious finding; it will not connect without a way to prove the gateway."""
    path = tmp_path / "lisbon.toml"
    path.write_bytes(LISBON)
    found = zesty("--json", "import", path).json
    assert "profile-authority-missing" in {entry["code"] for entry in found["findings"]}


def test_nothing_steers_the_terminal(zesty, tmp_path):
    """Escape sequences in file names, keys and values of a kit never reach the terminal."""
    escape = "\x1b]0;owned\x07"
    profile = LISBON.decode() + '\n["' + "\\u001b[2J" + '"]\nx = 1\n'
    path = tmp_path / "kit.zip"
    path.write_bytes(archive((f"{escape}.toml", profile.encode()), ("b.toml", b'format = 1\n"\\u001b[2J" = [')))
    for words in (("inspect", path), ("import", path), ("show", "lisbon"), ("list",)):
        ended = zesty(*words)
        assert "\x1b" not in ended.out + ended.err
        assert "\x07" not in ended.out + ended.err
    assert "unknown key" in zesty("show", "lisbon").out


@pytest.mark.parametrize("version", [3, 7, 255])
@pytest.mark.parametrize("form", ["pem", "der", "inside the profile"])
def test_a_certificate_of_an_unknown_version(zesty, tmp_path, version, form):
    """It costs itself only: the profiles of the kit are taken."""
    der = with_version(Issuer(name("Somebody")).certificate.public_bytes(Encoding.DER), version)
    pem = ssl.DER_cert_to_PEM_cert(der)
    files = dict(FILES)
    if form == "inside the profile":
        files["profiles/odd.toml"] = LISBON.replace(b'name = "quillwort-lisbon"', b'name = "odd"').replace(
            b'"quillwort-authority.pem"', b"'''" + pem.encode() + b"'''"
        )
    else:
        files["odd.crt"] = pem.encode() if form == "pem" else der
    path = tmp_path / "kit.zip"
    path.write_bytes(kit_archive(files))
    path.chmod(0o600)
    assert zesty("import", path).code == 0
    names = {row["name"] for row in zesty("--json", "list").json["profiles"]}
    assert {"quillwort-lisbon", "quillwort-tallinn"} <= names and len(names) >= 5
    assert zesty("inspect", path).code == 0
    if "odd" in names:
        assert zesty("show", "odd").code == 0
