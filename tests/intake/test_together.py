"""Several arguments at once: joined as in a folder, with what came in one archive kept together; one odd file costs nothing."""

from __future__ import annotations

import io
import zipfile

import pytest

from corpus import material as m
from support import PASSWORD
from zesty_burrow.core.credentials import ClientKey, kind_of
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import InputError
from zesty_burrow.intake.kit import Surroundings
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.read_kit import Argument, read_kit, together
from zesty_burrow.intake.readers import codes
from zesty_burrow.lab.authority import make_authority

SHEET = b"Provider: Quillwort Relay\nServer: lisbon.quillwort.example\nCity: Lisbon\nCountry: PT\n"
OTHERS = make_authority("Heronmere Access")


def read(*arguments, **given):
    whole = together([Argument(name, files) for name, files in arguments])
    return read_kit(whole.origin, whole.files, m.NOW, Surroundings(neighbours=whole.neighbours, **given))


def loose(name, data):
    """One file that was named itself."""
    return name, [KitFile(name, data, 0o600)]


def slugs(found):
    return {entry.code.slug for entry in found.findings}


def test_what_lies_side_by_side_is_joined():
    """A sheet, an authority, a key and its certificate in four files: one profile that is complete."""
    found = read(
        loose("sheet.txt", SHEET),
        loose("authority.pem", m.CA),
        loose("key.pem", m.key()),
        loose("certificate.pem", m.pem(m.CLIENT_CERTIFICATE)),
    )
    (profile,) = (entry.profile for entry in found.profiles)
    assert profile.authorities == (m.CA.decode(),)
    assert profile.sign_in.method == "certificate"
    (secret,) = found.credentials
    assert isinstance(secret.value, ClientKey)
    assert (secret.scope.label, secret.origin) == ("Quillwort Relay", "key.pem")
    assert found.origin == "sheet.txt, authority.pem, key.pem and 1 more"


def test_parts_of_a_code_in_files_of_their_own():
    """A text in several QR codes, one picture an argument, in any order."""
    text = m.LISBON.decode().replace("quillwort-authority.pem", m.CA.decode().replace("\n", "\\n"))
    parts = []
    for number, code in enumerate(codes.make_codes(text)):
        stream = io.BytesIO()
        code.save(stream, kind="png", scale=3)
        parts.append(loose(f"{number}.png", stream.getvalue()))
    assert len(parts) > 1
    found = read(*reversed(parts))
    assert [entry.profile.name for entry in found.profiles] == ["quillwort-lisbon"]
    with pytest.raises(InputError):
        read(*parts[1:])


def archive(**files):
    return m.zipped({name.replace("_", "."): data for name, data in files.items()})


def test_each_archive_keeps_to_itself():
    """Two providers' archives: neither's authority is trusted by the other's profile, and credentials stay apart."""
    ours = archive(sheet_txt=SHEET, ca_pem=m.CA, login_txt=b"tidewrack_heron\n" + PASSWORD.encode() + b"\n")
    theirs = archive(
        sheet_txt=b"Provider: Heronmere Access\nServer: gate.heronmere.example\n",
        ca_pem=OTHERS.pem(),
        login_txt=b"wader\nx_Y\n",
    )
    found = read(loose("ours.zip", ours), loose("theirs.zip", theirs))
    trusted = {entry.profile.provider: entry.profile.authorities for entry in found.profiles}
    assert trusted == {"Quillwort Relay": (m.CA.decode(),), "Heronmere Access": (OTHERS.pem().decode(),)}
    accounts = {entry.scope.label: (entry.value.name, entry.origin) for entry in found.credentials}
    assert accounts == {"Quillwort Relay": ("tidewrack_heron", "ours.zip"), "Heronmere Access": ("wader", "theirs.zip")}


def test_files_of_one_name():
    """Two folders' files of one name are two files; a neighbour is looked for beside the file that needs it only."""
    whole = together(
        [
            Argument("a", [KitFile("x.toml", m.LISBON)], {"quillwort-authority.pem": m.CA}.get),
            Argument("b", [KitFile("x.toml", m.TALLINN)], lambda _: None),
        ]
    )
    assert [file.path for file in whole.files] == ["x.toml", "2/x.toml"]
    found = read_kit(whole.origin, whole.files, m.NOW, Surroundings(neighbours=whole.neighbours))
    first, second = found.profiles
    assert first.profile.authorities == (m.CA.decode(),)
    assert second.profile.authorities == ("quillwort-authority.pem",)


def test_a_folder_s_files_are_told_by_its_name():
    """Among several arguments a folder's files carry its name; alone they do not."""
    folder = Argument("kit", [KitFile("x.toml", m.LISBON)], is_folder=True)
    assert together([folder]).files[0].path == "x.toml"
    assert [one.path for one in together([folder, Argument("y", [KitFile("y", b"")])]).files] == ["kit/x.toml", "y"]


def test_two_editions_of_a_profile():
    """In one folder the second gets another name; in two archives it is left to the comparison with the store."""
    changed = m.LISBON.replace(b"mtu = 1400", b"mtu = 1300")
    side = read(loose("a.toml", m.LISBON), loose("b.toml", changed), provider="Q")
    assert [entry.profile.name for entry in side.profiles] == ["quillwort-lisbon", "quillwort-lisbon-2"]
    apart = read(loose("a.zip", archive(a_toml=m.LISBON)), loose("b.zip", archive(a_toml=changed)), provider="Q")
    assert [entry.profile.name for entry in apart.profiles] == ["quillwort-lisbon"] * 2


def test_many_of_one_city():
    """Each gets the next number that is free, also where a name with that number is on the list already."""
    names = ["Lisbon", "Lisbon 3", *["Lisbon"] * 3, "Tallinn", *["Lisbon 3"] * 2]
    rows = "".join(f"g{number}.quillwort.example,{name}\n" for number, name in enumerate(names))
    found = read(loose("places.csv", b"Server,Name\n" + rows.encode())).profiles
    assert [entry.profile.name for entry in found] == [
        "lisbon", "lisbon-3", "lisbon-2", "lisbon-4", "lisbon-5", "tallinn", "lisbon-3-2", "lisbon-3-3",
    ]  # fmt: skip


def test_a_damaged_archive_inside_another():
    """It is told of by its path, and the rest is read; the same archive named by itself is an error."""
    damaged = m.gzipped(m.TALLINN)[:-20]
    found = read(loose("kit.zip", archive(lisbon_toml=m.LISBON, ca_pem=m.CA, tallinn_toml_gz=damaged)))
    assert [entry.profile.name for entry in found.profiles] == ["quillwort-lisbon"]
    (told,) = (one for one in found.findings if one.code.slug == "kit-unreadable")
    assert told.subject == "kit.zip/tallinn.toml.gz"
    with pytest.raises(InputError):
        read(loose("tallinn.toml.gz", damaged))


@pytest.mark.parametrize("problem", [ZeroDivisionError(), RecursionError(), KeyError("secret words")])
def test_the_last_guard(monkeypatch, problem):
    """A mistake of this program at one file is told by the file's name, without its words; the others are taken."""

    def fail(*_):
        raise problem

    monkeypatch.setattr(codes, "read_picture_untrusted", fail)
    found = read(loose("kit.zip", archive(lisbon_toml=m.LISBON, ca_pem=m.CA, code_png=m.picture(b"x"))))
    assert [entry.profile.name for entry in found.profiles] == ["quillwort-lisbon"]
    (told,) = (one for one in found.findings if one.code.slug == "kit-unreadable")
    assert told.subject == "kit.zip/code.png"
    assert type(problem).__name__ in told.detail
    assert "secret" not in told.detail


def test_what_is_found_is_not_changed_by_assembling():
    """The second step leaves the first one's result alone: assembling twice gives the same."""
    from zesty_burrow.intake.assemble import assemble
    from zesty_burrow.intake.containers.expand import expand
    from zesty_burrow.intake.reader import read_files

    files = [KitFile(name, data, 0o600) for name, data in m.FILES.items()]
    given = Surroundings()
    found = read_files("kit", expand(files), given)
    once, again = assemble(found, "kit", m.NOW, given), assemble(found, "kit", m.NOW, given)
    assert once.profiles == again.profiles
    assert [(one.scope, one.value) for one in once.credentials] == [(one.scope, one.value) for one in again.credentials]
    assert once.record.items == again.record.items
    assert {kind_of(one.value) for one in once.credentials} == {CredentialsKind.NAME_PASSWORD}


def test_an_archive_of_odd_files_is_refused_with_each_reason():
    """Nothing to take at all is an error that names the files."""
    with zipfile.ZipFile(stream := io.BytesIO(), "w") as made:
        made.writestr("odd.bin", bytes(100))
    with pytest.raises(InputError) as caught:
        read(loose("odd.zip", stream.getvalue()))
    assert "odd.bin" in str(caught.value)
