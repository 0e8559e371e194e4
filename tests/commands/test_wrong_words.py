"""Wrong first attempts: each is answered with what is wrong and one command that helps."""

from __future__ import annotations

import shlex

import pytest

from zesty_burrow.commands import COMMANDS
from zesty_burrow.commands.wrong_words import NAMES_ITSELF, OTHER_OPTIONS, OTHER_WORDS
from zesty_burrow.nearest import nearest

ATTEMPTS = {
    "conect lisbon": "zesty connect lisbon",
    "up lisbon": "zesty connect lisbon",
    "down": "zesty disconnect",
    "ls": "zesty list",
    "delete quillwort-lisbon": "zesty remove quillwort-lisbon",
    "connect lisbn": "zesty connect quillwort-lisbon",
    "connect --country PT": "zesty connect PT",
    "connect --server=PT": "zesty connect PT",
    "connect --background lisbon": "zesty connect --detach lisbon",
    "show lisbn": "zesty show quillwort-lisbon",
    "remove lisbn": "zesty remove quillwort-lisbon",
    "rename lisbn home": "zesty rename quillwort-lisbon home",
    "explain dns-lek": "zesty explain dns-leak",
    "devices lsit": "zesty devices list",
    "devices show plovr": "zesty devices show plover",
    "hand-over plovr": "zesty hand-over plover",
    "help conect": "zesty help connect",
    "help devices ad": "zesty help devices add",
    "choose lisbon --protocol ikev": "zesty choose lisbon --protocol ikev2",
    "choose lisbon --encrypton x": "zesty choose lisbon --encryption x",
    "verify --every=15m --notfy": "zesty verify --every=15m --notify",
    "list --verbose": "zesty list --debug",
    "remove --provider 'Quilwort Relay' --yes": "zesty remove --provider 'Quillwort Relay' --yes",
}


@pytest.fixture(scope="module")
def full(tmp_path_factory):
    """A store with the provider's kit and a device."""
    from commands.conftest import Program
    from support import AUTHORITY, PASSWORD
    from zesty_burrow.lab.kit import kit_archive, kit_files

    folder = tmp_path_factory.mktemp("full")
    program = Program(folder / "home")
    (folder / "kit.zip").write_bytes(kit_archive(kit_files(AUTHORITY.pem(), PASSWORD)))
    (folder / "kit.zip").chmod(0o600)
    assert program("import", folder / "kit.zip").code == 0
    assert program("devices", "add", "plover", "--kind", "phone").code == 0
    return program


@pytest.mark.parametrize(("words", "helps"), ATTEMPTS.items())
def test_a_command_that_can_be_pasted(full, words, helps):
    """It is the last of the next step, on a line or after a colon, and nothing follows it."""
    ended = full(*shlex.split(words), "--json")
    assert ended.code in (2, 4), ended.out
    document = ended.json
    assert document["next_step"] == f"Run: {helps} --json", document
    assert full(*shlex.split(words)).text.rpartition(" code ")[0].rstrip().endswith(" ".join(helps.split()))


def test_several_meanings(full):
    """A place that several profiles have: the same answer by code and by name, with the list to choose from."""
    full("change", "quillwort-tallinn", "--set", "profile.country=PT")
    try:
        answers = [full("--json", "connect", word) for word in ("PT", "Portugal", "portugal")]
        assert {ended.code for ended in answers} == {2}
        assert all("quillwort-lisbon" in ended.json["next_step"] for ended in answers)
    finally:
        full("undo")


def test_the_name_alone(zesty, kit):
    """Where things stand and how to begin; a store with profiles, and what is not as usual."""
    empty = zesty.built()
    assert empty.code == 0 and "zesty import KIT" in empty.out and "demo" in empty.out
    assert not zesty.home.exists(), "a look makes nothing"
    zesty("import", kit)
    some = zesty.built()
    assert "5 profiles" in some.out and "connect quillwort-lisbon --verify" in some.out
    assert zesty.built("--json").json["store"]["profiles"] == 5
    (zesty.home / "settings.toml").write_text("colour = 1")
    wrong = zesty.built()
    assert wrong.code == 3 and "colour" in wrong.err and wrong.out == ""
    (zesty.home / "settings.toml").unlink()
    (zesty.home / "store.db").write_bytes(b"no database" * 1000)
    assert zesty.built().code == 0 and "nothing yet" in zesty.built().out


def test_help_is_a_command(zesty):
    """`help`, `help COMMAND` and `help COMMAND ACTION`; a command's own options come first."""
    assert "commands, in the order of the work" in zesty.built("help").out
    assert zesty.built("help", "connect").out == zesty.built("connect", "--help").out
    assert zesty.built("help", "devices", "add").out == zesty.built("devices", "add", "--help").out
    shown = zesty.built("help", "connect").out.partition("options:")[2]
    assert shown.index("--detach") < shown.index("options of every command") < shown.index("--json")


def test_quiet(zesty, kit):
    """The result and errors alone."""
    told, quiet = zesty("verify"), zesty("verify", "--quiet")
    assert quiet.out == told.out and quiet.err == ""
    assert "no profile" in zesty("--quiet", "show", "x").err


def test_tables_of_words_name_what_exists():
    """Each word leads to a command, each option to one of some command."""
    assert {meant for meant in OTHER_WORDS.values() if meant not in COMMANDS} <= {"help", "--version", "support"}
    assert not set(OTHER_WORDS) & set(COMMANDS)
    assert all(one.startswith("-") for one in (*OTHER_OPTIONS, *OTHER_OPTIONS.values(), *NAMES_ITSELF))


@pytest.mark.parametrize(
    ("word", "known", "found"),
    [
        ("conect", ["connect", "disconnect", "inspect"], ("connect",)),
        ("lisbn", ["quillwort-lisbon", "quillwort-nairobi"], ("quillwort-lisbon",)),
        ("xyzzy", ["connect"], ()),
        ("", ["connect"], ()),
        ("x" * 10_000, ["connect"], ()),
    ],
)
def test_what_is_near(word, known, found):
    assert nearest(word, known) == found
