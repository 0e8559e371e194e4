"""A profile from scratch: by options, by a file, in a dialogue that is interrupted and goes on."""

from __future__ import annotations

import stat

import pytest

from commands.test_editions import talk
from corpus import material as m
from zesty_burrow.errors import InputError
from zesty_burrow.intake.dialogue import BY_KEY, QUESTIONS, open_questions, take_given, with_defaults

Q = "Quillwort Relay"


@pytest.fixture
def authority(tmp_path):
    path = tmp_path / "ca.der"
    path.write_bytes(m.CA_DER)
    return path


def test_by_options(zesty, authority):
    """Nothing is asked; what is left out has its default, and the place comes from the host's name."""
    made = zesty(
        "--json", "create", "--host", "lisbon.quillwort.example", "--provider", Q, "--authority", authority,
        "--credentials", "-", stdin=m.CREDENTIALS.decode(),
    )  # fmt: skip
    assert (made.code, made.json["missing"], made.json["findings"]) == (0, "", [])
    profile = made.json["profile"]
    assert (profile["profile"]["name"], profile["profile"]["country"]) == ("lisbon", "PT")
    assert profile["ikev2"]["gateway_identity"]["value"] == "lisbon.quillwort.example"
    assert zesty("--json", "show", "lisbon").json["credentials"][0]["scope"] == Q


def test_by_a_file(zesty, tmp_path, authority):
    """Lists and numbers as TOML has them; options go before the file."""
    path = tmp_path / "answers.toml"
    path.write_text(
        f'host = ["a.office.example", "192.0.2.9"]\nname = "office"\ntraffic = "networks"\nnetworks = ["10.20.0.0/16"]\n'
        f'name-servers = ["10.20.0.53"]\nsuffixes = "office.tidewrack.example"\nmtu = 1300\nauthority = "{authority}"\n'
    )
    made = zesty("--json", "create", "--answers", path, "--mtu", "1350").json["profile"]
    assert made["gateway"]["addresses"] == ["a.office.example", "192.0.2.9"]
    assert (made["tunnel"]["mtu"], made["traffic"]["networks"]) == (1350, ["10.20.0.0/16"])
    assert made["traffic"]["suffixes"] == ["office.tidewrack.example"]


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        ((), 3, "missing: host"),
        (("--host", "https://lisbon.example/"), 3, "a web address"),
        (("--host", "two words?"), 3, "neither a host name"),
        (("--host", "a.example", "--name", "Not A Name"), 3, "not-a-name would do"),
        (("--host", "a.example", "--traffic", "networks"), 3, "networks"),
        (("--host", "a.example", "--networks", "10.0.0.1/8", "--traffic", "networks"), 3, "host bits"),
        (("--host", "a.example", "--sign-in", "telepathy"), 3, "one of password"),
        (("--host", "a.example", "--mtu", "20"), 3, "from 1280"),
        (("--host", "a.example", "--country", "Atlantis"), 3, "ISO 3166"),
        (("--host", "a.example", "--authority", "/nowhere"), 4, "no file"),
        (("--resume",), 2, "no interrupted set-up"),
        (("--resume", "--afresh"), 2, "only one"),
    ],
)
def test_answers_that_do_not_fit(zesty, words, code, said):
    """The key, the reason and where the right answer comes from; nothing is stored."""
    ended = zesty("create", *words)
    assert ended.code == code
    assert said in ended.text
    assert zesty("--json", "list").json["profiles"] == []


def test_no_two_of_one_name(zesty):
    assert zesty("create", "--host", "a.example", "--name", "one").code == 0
    assert zesty("create", "--host", "b.example", "--name", "one").code == 4


ANSWERS = {
    "host name or IP address": "lisbon.quillwort.example",
    "Name of the profile": "",
    "Provider": Q,
    "Gateway's identity": "",
    "Sign-in by": "?",
}


def test_a_dialogue_that_is_interrupted(zesty, authority):
    """Ctrl-C half-way keeps the answers and no secret; --resume asks only what is open; the password is not shown."""
    begun = [
        ("IP address: ", "“lisbon”.quillwort.example\n"),
        ("Not valid", "lisbon.quillwort.example\n"),
        ("[lisbon]: ", "\n"),
        ("Provider [none]: ", f"{Q}\n"),
        ("identity [lisbon.quillwort.example]: ", "\n"),
        ("raw-key [password]: ", "?\n"),
        ("Where it comes from", "\x03"),
    ]
    code, seen = talk(zesty, ("create",), begun)
    assert code == 130
    assert "4 answers are kept" in seen
    draft = zesty.home / "draft.toml"
    assert stat.S_IMODE(draft.stat().st_mode) == 0o600
    assert {line.partition(" ")[0] for line in draft.read_text().splitlines()} == {
        "host",
        "name",
        "provider",
        "identity",
    }
    rest = [
        ("raw-key [password]: ", "pass\n"),
        ("certificate [none]: ", f"{authority}\n"),
        ("valid until", ""),
        ("networks [everything]: ", "<\n"),
        ("certificate [none]: ", f"{authority}\n"),
        ("networks [everything]: ", "\n"),
        ("outside [tunnel]: ", "\n"),
        ("Name servers [none]: ", "ns.example\n"),
        ("Not valid", "198.51.100.242\n"),
        ("suffixes [none]: ", "\n"),
        ("exit [PT]: ", "\n"),
        ("exit [Lisbon]: ", "\n"),
        ("device [1400]: ", "\n"),
        ("Name for", "tidewrack_heron\n"),
        ("not shown", f"{m.PASSWORD}\n"),
    ]
    code, seen = talk(zesty, ("create", "--resume"), rest)
    assert code == 0
    assert m.PASSWORD not in seen
    assert not draft.exists()
    shown = zesty("--json", "show", "lisbon").json
    assert shown["profile"]["traffic"]["name_servers"] == ["198.51.100.242"]
    assert shown["credentials"][0]["scope"] == Q


def test_every_question_explains_itself():
    """Meaning and source for each; only what applies is asked; defaults fit their own checks."""
    for question in QUESTIONS:
        assert question.meaning.endswith(".")
        assert question.source.endswith(".")
    asked = {one.key for one in open_questions({"sign-in": "shared-key", "traffic": "networks"})}
    assert "authority" not in asked
    assert "networks" in asked
    whole = with_defaults(take_given({"host": "nairobi.quillwort.example"}))
    for key, value in whole.items():
        assert BY_KEY[key].take(value) == value
    with pytest.raises(InputError, match="no question"):
        take_given({"colour": "blue"})
