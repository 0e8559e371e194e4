"""Archives of every kind, good and hostile, alone and nested: the same files come out, or one documented error."""

from __future__ import annotations

import gzip
import io
import lzma
import tarfile
import zipfile

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.errors import InputError
from zesty_burrow.intake import limits
from zesty_burrow.intake.containers.expand import expand
from zesty_burrow.intake.kit_file import KitFile

FILES = {"a.toml": b"format = 1\n", "deep/er/b.txt": b"two\nlines\n", "empty": b""}


def zipped(files):
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return stream.getvalue()


def tarred(files, form=tarfile.PAX_FORMAT, **changes):
    stream = io.BytesIO()
    with tarfile.open(fileobj=stream, mode="w", format=form) as archive:
        folder = tarfile.TarInfo("deep")
        folder.type = tarfile.DIRTYPE
        archive.addfile(folder)
        for name, data in files.items():
            entry = tarfile.TarInfo(name)
            entry.size = len(data)
            for key, value in changes.items():
                setattr(entry, key, value)
            archive.addfile(entry, io.BytesIO(data))
    return stream.getvalue()


PACKINGS = {
    "kit.zip": zipped(FILES),
    "kit.tar": tarred(FILES),
    "gnu.tar": tarred(FILES, tarfile.GNU_FORMAT),
    "ustar.tar": tarred(FILES, tarfile.USTAR_FORMAT),
    "kit.tar.gz": gzip.compress(tarred(FILES)),
    "kit.tgz": gzip.compress(tarred(FILES)),
    "kit.tar.xz": lzma.compress(tarred(FILES)),
    "kit.zip.gz": gzip.compress(zipped(FILES)),
}


def contents(*members):
    return {member.path: member.data for member in expand(members).files}


@pytest.mark.parametrize("name", PACKINGS)
def test_every_packing_gives_the_same_files(name):
    """The same three files, whatever carries them; a read of the outermost file's mode goes along."""
    found = expand([KitFile(name, PACKINGS[name], 0o600)]).files
    tails = {next(one for one in FILES if member.path.endswith("/" + one)): member.data for member in found}
    assert tails == FILES
    assert {member.mode for member in found} == {0o600}


def test_one_file_under_gzip_or_xz():
    """A single compressed profile is a file like any other."""
    assert contents(KitFile("a.toml.gz", gzip.compress(b"x = 1")), KitFile("b.toml.xz", lzma.compress(b"y = 2"))) == {
        "a.toml.gz/a.toml": b"x = 1",
        "b.toml.xz/b.toml": b"y = 2",
    }


def test_archives_in_archives():
    """Archives nested up to the limit are opened; one more is refused."""
    data, name = zipped({"a.toml": b"x = 1"}), "in.zip"
    for level in range(limits.MAX_DEPTH - 1):
        data, name = (tarred if level % 2 else zipped)({name: data}), f"out{level}"
    assert list(contents(KitFile("kit", data)).values()) == [b"x = 1"]
    with pytest.raises(InputError) as caught:
        expand([KitFile("kit", zipped({"one.zip": data}))])
    assert caught.value.slug == "archive-bomb"
    assert "deep" in str(caught.value)


HOSTILE = {
    "a tar that climbs": (tarred({"../a.toml": b"x"}), "archive-path"),
    "a tar with a root": (tarred({"/a.toml": b"x"}), "archive-path"),
    "a tar with a link": (tarred({"a.toml": b""}, type=tarfile.SYMTYPE, linkname="/etc/passwd"), "archive-link"),
    "a tar with a hard link": (tarred({"a.toml": b""}, type=tarfile.LNKTYPE, linkname="b"), "archive-link"),
    "a tar with a device": (tarred({"a.toml": b""}, type=tarfile.CHRTYPE), "archive-link"),
    "a tar with a pipe": (tarred({"a.toml": b""}, type=tarfile.FIFOTYPE), "archive-link"),
    "a tar that says it twice": (tarred({"a.toml": b"x", "./a.toml": b"y"}), "archive-duplicate"),
    "a tar that is cut": (tarred({"a.toml": b"x" * 4000})[:2600], "archive-damaged"),
    "a gzip bomb": (gzip.compress(bytes(64 << 20)), "archive-bomb"),
    "an xz bomb": (lzma.compress(bytes(64 << 20)), "archive-bomb"),
    "a bomb in a zip": (zipped({"in.gz": gzip.compress(bytes(32 << 20))}), "archive-bomb"),
    "a gzip that is cut": (gzip.compress(b"abc" * 999)[:-12], "archive-damaged"),
    "a gzip that is changed": (gzip.compress(b"abc")[:-5] + b"\0\0\0\0\0", "archive-damaged"),
    "an xz that is cut": (lzma.compress(b"abc" * 999)[:-9], "archive-damaged"),
    "an xz that is nonsense": (b"\xfd7zXZ\x00" + b"nonsense" * 9, "archive-damaged"),
}


@pytest.mark.parametrize("title", HOSTILE)
def test_hostile_archives(title):
    """Each has its code."""
    data, slug = HOSTILE[title]
    with pytest.raises(InputError) as caught:
        expand([KitFile("kit", data)])
    assert caught.value.slug == slug
    assert caught.value.next_step


@given(st.sampled_from(sorted(PACKINGS)), st.integers(0, 3000), st.integers(0, 255), st.integers(0, 3000))
def test_changed_archives(name, position, value, cut):
    """An archive with one octet changed and its end cut off gives files or one documented error."""
    data = bytearray(PACKINGS[name])
    data[position % len(data)] = value
    try:
        expand([KitFile(name, bytes(data[: len(data) - cut % len(data)]))])
    except InputError as problem:
        assert problem.slug.startswith("archive-")


@given(
    st.sampled_from([b"PK\x03\x04", b"\x1f\x8b\x08", b"\xfd7zXZ\x00", b"\0" * 257 + b"ustar"]), st.binary(max_size=400)
)
def test_strangers_octets_behind_every_magic(magic, data):
    """What looks like an archive and is none is refused as damaged or hostile."""
    try:
        expand([KitFile("kit", magic + data)])
    except InputError as problem:
        assert problem.slug.startswith("archive-")
