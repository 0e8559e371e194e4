"""What is left to the user at an import: doubts, bad certificates, what is missing, stale passwords, authorities alone."""

from __future__ import annotations

import pytest
from cryptography.hazmat.primitives.serialization import Encoding

from commands.test_editions import talk
from corpus import material as m
from zesty_burrow.lab.authority import make_authority

DOUBTFUL = "Einwahlserver: lisbon.quillwort.example\nKennung: heron\nKennwort: kelp-5\nSchlüssel: none\n"
SHEET = "Server: lisbon.quillwort.example\nProvider: Quillwort Relay\nCountry: Portugal\n"
Q = "Quillwort Relay"


def write(folder, name, data):
    path = folder / name
    path.write_bytes(data if isinstance(data, bytes) else data.encode())
    path.chmod(0o600)
    return path


def names(zesty):
    return [row["name"] for row in zesty("--json", "list").json["profiles"]]


@pytest.mark.parametrize(
    ("words", "answer", "taken"),
    [
        ((), "n\n", False),
        ((), "y\n", True),
        ((), "\n", True),
        (("--doubtful", "leave", "--later"), None, False),
        (("--later",), None, True),
    ],
)
def test_doubts(zesty, tmp_path, words, answer, taken):
    """What a label may mean is shown, and taken or left out by the user's word or an option."""
    path = write(tmp_path, "blatt.txt", DOUBTFUL)
    asked = [("Take it so?", answer)] if answer else []
    later = [("nothing proves the gateway", ""), ("leave it for later", "\n")] if answer and taken else []
    _, seen = talk(zesty, ("import", path, *words), asked + later)
    assert bool(names(zesty)) is taken, seen
    assert ("taken for account" in seen) or words
    if not taken:
        assert "kelp-5" not in seen
        assert "left out, as you have said" in " ".join(seen.split())


def test_a_script_is_told_of_doubts(zesty, tmp_path):
    path = write(tmp_path, "blatt.txt", DOUBTFUL)
    assert "sheet-guessed" in zesty("--json", "inspect", path).codes
    assert zesty("--json", "import", path, "--doubtful", "leave").json["profiles"] == []


@pytest.mark.parametrize(
    ("words", "answer", "taken"),
    [((), "y\n", True), ((), "\n", False), (("--later", "--bad-certificates", "leave"), None, False)],
)
def test_bad_certificates(zesty, tmp_path, words, answer, taken):
    """An expired authority: the profiles that trust it are taken by the user's word alone."""
    old = make_authority("Quillwort Relay", days=0)
    (tmp_path / "kit").mkdir()
    write(tmp_path / "kit", "sheet.txt", SHEET)
    write(tmp_path / "kit", "ca.pem", old.certificate.public_bytes(Encoding.PEM))
    asked = [("The certificate has expired", ""), ("Take them all the same?", answer)] if answer else []
    more = [("no name-password is kept", "n\n")] if answer == "y\n" else []
    talk(zesty, ("import", tmp_path / "kit", *words), asked + more)
    assert bool(names(zesty)) is taken


def test_what_is_missing_is_asked_for(zesty, tmp_path):
    """An authority by its file (after a wrong one), credentials without echo; the profile lacks nothing then."""
    sheet, authority, wrong = (
        write(tmp_path, "sheet.txt", SHEET),
        write(tmp_path, "ca.pem", m.CA),
        write(tmp_path, "x.pem", "nonsense"),
    )
    answers = [
        ("nothing proves the gateway", ""), ("leave it for later", f"{wrong}\n"), ("leave it for later", f"{authority}\n"),
        ("Enter it now?", "y\n"), ("Name for Quillwort Relay", "heron\n"), ("not shown", "kelp-Forest_42\n"),
    ]  # fmt: skip
    code, seen = talk(zesty, ("import", sheet), answers)
    assert code == 0, seen
    assert "kelp-Forest_42" not in seen
    after = seen.rpartition("not shown")[2]
    assert "profile-authority-missing" not in after and "kit-no-credentials" not in after, "it is there now"
    (row,) = zesty("--json", "list").json["profiles"]
    assert row["lacks"] == ""
    assert zesty("--json", "credentials", "list").json["credentials"][0]["label"] == Q


def test_what_is_missing_is_left_for_later(zesty, tmp_path):
    """The list says what the profile cannot work without."""
    assert zesty("import", write(tmp_path, "sheet.txt", SHEET)).code == 0
    (row,) = zesty("--json", "list").json["profiles"]
    assert row["lacks"] == "authority, name-password"
    assert "cannot work without" in zesty("list").out


@pytest.fixture
def stored(zesty, tmp_path):
    """A profile without an authority."""
    zesty("import", write(tmp_path, "sheet.txt", SHEET))


@pytest.mark.parametrize("words", [("--profile", "lisbon"), ("--provider", Q)])
def test_an_authority_by_itself(zesty, tmp_path, stored, words):
    """It goes where the options say; and can be taken back."""
    path = write(tmp_path, "ca.pem", m.CA)
    refused = zesty("--json", "import", path)
    assert (refused.code, refused.json["code"]) == (3, "authority-alone") and "it fits lisbon" in refused.json["why"]
    done = zesty("--json", "import", path, *words).json
    assert [row["name"] for row in done["profiles"]] == ["lisbon"]
    assert done["profiles"][0]["differences"][0]["key"] == "trust.authorities"
    assert zesty("--json", "list").json["profiles"][0]["lacks"] == "name-password"
    assert zesty("--json", "import", path, *words).json["unchanged"] == 1
    assert zesty("undo").code == 0
    assert "authority" in zesty("--json", "list").json["profiles"][0]["lacks"]


@pytest.mark.parametrize(("answer", "taken"), [("y\n", True), ("n\n", False)])
def test_an_authority_by_itself_on_a_terminal(zesty, tmp_path, stored, answer, taken):
    """The profiles that it fits are shown with the reason, and it is asked about."""
    _, seen = talk(
        zesty, ("import", write(tmp_path, "ca.pem", m.CA)), [("Put the authority into these profiles?", answer)]
    )
    assert "lisbon: its provider is called so" in seen
    assert ("authority" not in zesty("--json", "list").json["profiles"][0]["lacks"]) is taken


def test_an_authority_that_has_expired(zesty, tmp_path, stored):
    """Taken only by the user's word."""
    old = make_authority("Quillwort Relay", days=0)
    path = write(tmp_path, "ca.pem", old.certificate.public_bytes(Encoding.PEM))
    assert zesty("--json", "import", path, "--provider", Q).json["code"] == "certificate-expired"
    assert zesty("import", path, "--provider", Q, "--bad-certificates", "take").code == 0


def test_removing_a_provider_is_asked_about(zesty, kit):
    """With how many profiles; a no changes nothing, a script says what it means."""
    zesty("import", kit)
    code, seen = talk(zesty, ("remove", "--provider", Q), [("Remove 5 profiles of Quillwort Relay", "n\n")])
    assert code == 2 and len(names(zesty)) == 5 and f"forget the credentials for {Q}" in " ".join(seen.split())
    assert zesty("remove", "--provider", Q, "--yes").code == 0 and names(zesty) == []
    assert "remove Quillwort Relay" in zesty("undo", "--list").out
    assert zesty("undo").code == 0 and len(names(zesty)) == 5
    assert zesty("remove", "--provider", Q, "--yes", "--for-good").code == 0
    assert zesty("undo", "99").code == 4
    assert zesty("--json", "undo", "--list").json["changes"] == []


def test_credentials_that_are_forgotten_come_back(zesty, kit):
    zesty("import", kit)
    assert "taken back for 30 days" in zesty("credentials", "forget", Q).text
    assert zesty("--json", "list").json["profiles"][0]["lacks"] == "name-password"
    assert zesty("undo").code == 0 and zesty("--json", "list").json["profiles"][0]["lacks"] == ""
    assert zesty("undo", "--forget-all").code == 0 and zesty("undo").code == 4


def test_a_label_that_nobody_uses(zesty, kit):
    """It is stored, with the nearest that may have been meant."""
    zesty("import", kit)
    text = zesty("credentials", "change", "Quilwort relay", stdin="heron\nkelp\n").text
    assert "no profile uses them yet" in text and Q in text
