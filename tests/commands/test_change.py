"""Changing keys of profiles: which, to what, what is shown, what is refused; and an editor."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from commands.test_editions import talk
from corpus import material as m
from zesty_burrow.errors import ProfileInvalid, UsageError
from zesty_burrow.profiles.edit import keys, with_changes
from zesty_burrow.profiles.text import read_profile, write_profile

LISBON = "quillwort-lisbon"


@pytest.fixture
def stored(zesty, kit):
    """The program with the kit's profiles."""
    assert zesty("import", str(kit)).code == 0
    return zesty


def change(stored, *words, check=0):
    ended = stored("--json", "change", *words)
    assert ended.code == check, ended.text
    return ended.json


@pytest.mark.parametrize(
    ("key", "value", "shown"),
    [
        ("gateway.addresses", "one.quillwort.example, 198.51.100.18", "one.quillwort.example, 198.51.100.18"),
        ("gateway.order", "random", "random"),
        ("profile.city", "Porto", "Porto"),
        ("profile.country", "PT", None),
        ("profile.edition", "2026", "2026"),
        ("traffic.networks", "10.20.0.0/16,10.30.0.0/16", "10.20.0.0/16, 10.30.0.0/16"),
        ("traffic.ipv6", "block", "block"),
        ("traffic.name_servers", "198.51.100.242", "198.51.100.242"),
        ("traffic.suffixes", "office.tidewrack.example", "office.tidewrack.example"),
        ("tunnel.mtu", "1300", "1300"),
        ("tunnel.mtu", "route", "route"),
        ("tunnel.clamp_tcp_mss", "true", "True"),
        ("ikev2.port", "4500", "4500"),
        ("ikev2.child_seconds", "7200", "7200"),
        ("sign_in.credentials", "Tidewrack Survey", "Tidewrack Survey"),
    ],
)
def test_each_key(stored, key, value, shown):
    """It is changed, shown, and kept; what is so already is no change; taking it away gives the default."""
    told = change(stored, LISBON, "--set", f"{key}={value}")
    if shown is None:
        assert (told["profiles"], told["unchanged"]) == ([], 1)
        return
    ((row,),) = (told["profiles"],)
    assert {one["key"]: one["after"] for one in row["differences"]}[key] == shown
    assert change(stored, LISBON, "--set", f"{key}={value}")["unchanged"] == 1


def test_the_gateway_s_identity(stored):
    told = change(stored, LISBON, "--set", "ikev2.gateway_identity=198.51.100.18")
    rows = {one["key"]: one["after"] for one in told["profiles"][0]["differences"]}
    assert rows == {"ikev2.gateway_identity.type": "ID_IPV4_ADDR", "ikev2.gateway_identity.value": "198.51.100.18"}


def test_many_at_once(stored):
    """By the words of `list`; more than one needs a word more; a dry run changes nothing."""
    wanted = ["--set", "traffic.ipv6=block"]
    refused = change(stored, "quillwort", *wanted, check=2)
    assert "5 profiles match" in refused["what"] and "--all" in refused["next_step"]
    dry = change(stored, "--provider", "Quillwort Relay", "--all", *wanted, "--dry-run")
    assert len(dry["profiles"]) == 5 and dry["dry_run"]
    assert change(stored, "--all", *wanted, "--dry-run") == dry
    done = change(stored, "--all", *wanted)
    assert len(done["profiles"]) == 5
    assert change(stored, "--all", *wanted)["unchanged"] == 5
    assert len(change(stored, "--all", "--unset", "traffic.ipv6")["profiles"]) == 5


def test_one_that_is_wrong_changes_none(stored):
    """All or none: a value that one profile cannot have leaves the others as they are."""
    before = stored("--json", "export", LISBON, "--to", "-").out
    for words in (
        ["--set", "traffic.networks=10.20.0.1/16"],
        ["--set", "tunnel.mtu=9"],
        ["--set", "profile.country=XYZ"],
    ):
        assert change(stored, "--all", "--set", "profile.city=X", *words, check=3)["code"] == "profile-invalid"
    assert stored("--json", "export", LISBON, "--to", "-").out == before


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["--set", "profile.name=x"], 2, "zesty rename"),
        (["--set", "gateway.adresses=x"], 2, "gateway.addresses"),
        (["--set", "nothing"], 2, "KEY=VALUE"),
        ([], 2, "--set"),
        (["--set", "a.b=c", "--edit"], 2, "--edit"),
        (["--edit"], 2, "terminal"),
    ],
)
def test_what_is_refused(stored, words, code, said):
    refused = change(stored, LISBON, *words, check=code)
    assert said in f"{refused['what']} {refused['why']} {refused['next_step']}"


def test_nobody_matches(stored):
    assert change(stored, "atlantis", "--set", "profile.city=X", check=4)["code"] == "not-found"


def test_on_a_terminal(stored):
    shown = stored("change", LISBON, "--set", "profile.city=Porto", "--dry-run").out
    assert "would be changed" in shown and "Porto" in shown and "profile.city" in shown


EDITOR = """#!/bin/sh
case "$(cat {folder}/step 2>/dev/null)" in
"") echo 1 > {folder}/step; sed -i 's/^mtu.*//; s/Lisbon/Porto/; s/^country.*/country = "PTX"/' "$1" ;;
*) sed -i 's/^country.*/country = "PT"/' "$1" ;;
esac
"""


def test_an_editor(stored, tmp_path):
    """What is wrong is said, and can be edited again; then it is taken."""
    editor = tmp_path / "editor"
    editor.write_text(EDITOR.format(folder=tmp_path))
    editor.chmod(0o755)
    stored.extra["EDITOR"] = str(editor)
    code, seen = talk(stored, ("change", LISBON, "--edit"), [("again? [Y/n]", "y\n")])
    assert code == 0 and "country" in seen and "Porto" in seen, seen
    assert change(stored, LISBON, "--set", "profile.city=Porto")["unchanged"] == 1


# Without a store.


@pytest.mark.parametrize("key", sorted(keys()))
@given(value=st.text(max_size=40))
def test_any_value_of_any_key(key, value):
    """A profile that can be written and read again, or an error in words."""
    profile = read_profile(m.LISBON.decode(), name=LISBON)
    try:
        made = with_changes(profile, {key: value})
    except (ProfileInvalid, UsageError) as problem:
        assert str(problem)
        return
    assert read_profile(write_profile(made)) == made
