"""A profile from scratch: by options, by a file, in a dialogue that is interrupted and goes on."""

from __future__ import annotations

import stat

import pytest

from commands.conftest import Program
from commands.test_editions import talk
from corpus import material as m
from zesty_burrow.errors import InputError
from zesty_burrow.intake.dialogue import open_questions, profile_of, questions, take_given, with_defaults
from zesty_burrow.intake.readers.credentials import read_credentials_untrusted
from zesty_burrow.lab.authority import make_authority
from zesty_burrow.profiles.text import write_profile

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


def test_by_l2tp(zesty):
    """Name and password come by the option; the shared key is still missing, and said so."""
    words = ["--host", "office.example", "--provider", "Tidewrack Survey", "--protocol", "l2tp-ipsec"]
    made = zesty("--json", "create", *words, "--credentials", "-", stdin=m.CREDENTIALS.decode()).json
    profile = made["profile"]
    assert (profile["tunnel"]["protocol"], profile["sign_in"]["gateway"]) == ("l2tp-ipsec", "pre-shared-key")
    assert profile["l2tp-ipsec"]["port"] == 500
    assert made["missing"] == "pre-shared-key"
    assert {one["code"] for one in made["findings"]} == {"ikev1-used"}


def test_over_http(zesty, authority):
    """CONNECT-IP by options: what IKEv2 alone has is not asked for; what is missing for names is pointed out."""
    words = [
        "--host",
        "lisbon.quillwort.example",
        "--provider",
        Q,
        "--authority",
        authority,
        "--protocol",
        "connect-ip",
    ]
    made = zesty("--json", "create", *words, "--path", "/tunnel/{target}/{ipproto}/")
    profile = made.json["profile"]
    assert (profile["tunnel"]["protocol"], profile["sign_in"]["method"]) == ("connect-ip", "basic")
    assert (profile["connect-ip"]["transport"], profile["connect-ip"]["port"]) == ("tcp", 443)
    assert profile["connect-ip"]["path"] == "/tunnel/{target}/{ipproto}/"
    assert "name-servers-missing" in {one["code"] for one in made.json["findings"]}
    servers = ["--name", "other", "--name-servers", "198.51.100.242", "--transport", "any", "--sign-in", "certificate"]
    other = zesty("--json", "create", *words, *servers).json
    assert (other["profile"]["connect-ip"]["transport"], other["profile"]["sign_in"]["method"]) == (
        "any",
        "certificate",
    )
    assert other["findings"] == []


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
        (
            ("--host", "a.example", "--protocol", "connect-ip", "--sign-in", "shared-key"),
            3,
            "has no sign-in by shared-key",
        ),
        (("--host", "a.example", "--protocol", "connect-ip", "--path", "tunnel"), 3, "begin with /"),
        (
            ("--host", "a.example", "--protocol", "l2tp-ipsec", "--sign-in", "certificate"),
            3,
            "the gateway's shared key",
        ),
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


def test_a_dialogue_that_is_interrupted(zesty, authority):
    """Ctrl-C half-way keeps the answers and no secret; --resume asks only what is open; the password is not shown."""
    begun = [
        ("IP address: ", "“lisbon”.quillwort.example\n"),
        ("Not valid", "lisbon.quillwort.example\n"),
        ("l2tp-ipsec or pptp [ikev2]: ", "\n"),
        ("raw-key [password]: ", "?\n"),
        ("Where it comes from", "\x03"),
    ]
    code, seen = talk(zesty, ("create",), begun)
    assert code == 130
    assert "2 answers are kept" in seen
    draft = zesty.home / "draft.toml"
    assert stat.S_IMODE(draft.stat().st_mode) == 0o600
    assert {line.partition(" ")[0] for line in draft.read_text().splitlines()} == {"host", "protocol"}
    rest = [
        ("raw-key [password]: ", "pass\n"),
        ("or system [none]: ", f"{authority}\n"),
        ("valid until", ""),
        ("Name of the profile [lisbon]: ", "<\n"),
        (f"or system [{authority}]: ", "\n"),
        ("Name of the profile [lisbon]: ", "\n"),
        ("The rest as usual? ", "perhaps\n"),
        ("Not valid: y, n", "n\n"),
        ("Provider [none]: ", f"{Q}\n"),
        ("identity [lisbon.quillwort.example]: ", "\n"),
        ("networks [everything]: ", "\n"),
        ("outside [tunnel]: ", "\n"),
        ("Name servers [none]: ", "ns.example\n"),
        ("Not valid", "198.51.100.242\n"),
        ("suffixes [none]: ", "\n"),
        ("exit [PT]: ", "\n"),
        ("exit [Lisbon]: ", "\n"),
        ("any [udp]: ", "\n"),
        ("of the gateway [500]: ", "\n"),
        ("or listed [recommended]: ", "\n"),
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


def test_five_questions(zesty, authority):
    """As many as a phone's form has fields; the rest is as usual, and what that is stands there."""
    five = [
        ("IP address: ", "lisbon.quillwort.example\n"),
        ("[ikev2]: ", "\n"),
        ("raw-key [password]: ", "\n"),
        ("or system [none]: ", f"{authority}\n"),
        ("Name of the profile [lisbon]: ", "\n"),
        ("The rest as usual: identity lisbon.quillwort.example", ""),
        ("asked about each [y]: ", "<\n"),
        ("Name of the profile [lisbon]: ", "harbour\n"),
        ("asked about each [y]: ", "\n"),
        ("Name for", "tidewrack_heron\n"),
        ("not shown", f"{m.PASSWORD}\n"),
    ]
    code, _ = talk(zesty, ("create",), five)
    assert code == 0
    profile = zesty("--json", "show", "harbour").json["profile"]
    assert (profile["tunnel"]["mtu"], profile["traffic"]["networks"]) == (1400, ["0.0.0.0/0", "::/0"])


def test_the_system_s_authorities(zesty, tmp_path):
    """By an explicit word alone; those in date; and what that means is a finding."""
    bundle = tmp_path / "bundle.pem"
    made = [make_authority(f"Authority {number}") for number in range(25)] + [make_authority("Ended", days=0)]
    bundle.write_bytes(b"".join(one.pem() for one in made))
    zesty.extra["SSL_CERT_FILE"] = str(bundle)
    made = zesty("--json", "create", "--host", "vpn.example", "--authority", "system", "--credentials", "none")
    assert made.code == 0
    assert [row["detail"] for row in made.json["findings"] if row["code"] == "profile-authorities-many"] == [
        "25 authorities"
    ]
    assert "certificate-expired" not in made.text
    assert "authorities-many" not in zesty("create", "--host", "two.example").text


def test_a_mistyped_answer_is_no_answer(zesty):
    """To the question whether an interrupted set-up goes on."""
    talk(zesty, ("create",), [("IP address: ", "a.example\n"), ("[ikev2]: ", "\x03")])
    asked = [("y or n [y] ", "maybe\n"), ("Not valid: y or n", "n\n"), ("IP address: ", "\x03")]
    code, _ = talk(zesty, ("create",), asked)
    assert code == 130


def test_every_question_explains_itself():
    """Meaning and source for each; only what applies is asked; defaults fit their own checks."""
    for question in questions().values():
        assert question.meaning.endswith(".")
        assert question.source.endswith(".")
    asked = {one.key for one in open_questions({"sign-in": "shared-key", "traffic": "networks"})}
    assert "authority" not in asked
    assert "networks" in asked
    whole = with_defaults(take_given({"host": "nairobi.quillwort.example"}))
    for key, value in whole.items():
        assert questions()[key].take(value) == value or (questions()[key].optional and not value)
    with pytest.raises(InputError, match="no question"):
        take_given({"colour": "blue"})


@pytest.mark.parametrize(
    ("host", "hosts", "port"),
    [
        ("vpn.example:1500", "vpn.example", "1500"),
        ("[2001:db8::1]:4500", "2001:db8::1", "4500"),
        ("\u201cvpn.example\u201d", "vpn.example", "500"),
        ("'vpn.example', two.example", "vpn.example two.example", "500"),
        ("2001:db8::1", "2001:db8::1", "500"),
        ("küste.example", "küste.example", "500"),
        ("маяк.example", "маяк.example", "500"),
    ],
)
def test_hosts_as_they_are_pasted(host, hosts, port):
    """Ports behind them are answers of their own, quotation marks are left out, names of other languages are taken."""
    whole = with_defaults(take_given({"host": host, "name": "here", "identity": "vpn.example"}))
    assert (whole["host"], whole["port"]) == (hosts, port)
    profile = profile_of({**whole, "authority": ""}, ())
    assert (profile.settings.port, " ".join(profile.gateway.addresses)) == (int(port), hosts)


@pytest.mark.parametrize(
    ("key", "value", "why"),
    [
        ("host", "lisb\u043en.quillwort.example", "cyrillic small letter o"),
        ("host", "\u0441\u043e\u0440\u0430.example", "cyrillic small letter es"),
        ("host", "vpn\u03b1\u03b2.example", "greek small letter alpha"),
        ("host", "v\u05d0pn.example", "several scripts"),
        ("identity", "/home/heron/ca.pem", "file's path"),
        ("identity", "C:\\kits\\ca.crt", "file's path"),
        ("identity", "authority.pem", "file's path"),
        ("identity", "https://vpn.example", "web address"),
        ("identity", "qu\u0456llwort.example", "looks like 'i'"),
        ("port", "70000", "1 to 65535"),
        ("encryption", "ENCR_NOTHING", "ENCR_NOTHING"),
    ],
)
def test_slips_that_are_caught(key, value, why):
    """Each is said with its reason, and nothing is taken."""
    with pytest.raises(InputError) as caught:
        take_given({"host": "vpn.example", "algorithms": "listed", key: value})
    assert why in str(caught.value)


def test_listed_algorithms():
    """What a sheet demands is offered, and nothing else."""
    given = {"host": "vpn.example", "name": "here", "algorithms": "listed", "encryption": "ENCR_AES_CBC 256",
             "integrity": "AUTH_HMAC_SHA2_256_128", "key-exchange": "curve25519"}  # fmt: skip
    profile = profile_of(with_defaults(take_given(given)), ())
    text = write_profile(profile)
    assert '"ENCR_AES_CBC 256"' in text and "ENCR_AES_GCM" not in text


def test_a_name_that_looks_like_another(zesty, tmp_path):
    """A kit's profile with such a host is taken with a serious finding; so is one whose authority names it so."""
    path = tmp_path / "lisbon.toml"
    path.write_text(m.LISBON.decode().replace("lisbon.quillwort.example", "lisb\u043en.quillwort.example"), "utf-8")
    found = zesty("--json", "inspect", path).json["findings"]
    assert [row["severity"] for row in found if row["code"] == "host-look-alike"][:1] == ["serious"]


@pytest.mark.parametrize(
    ("text", "name", "password", "slips"),
    [
        ("Username: heron\nPassword: kelp\n", "heron", "kelp", 2),
        ("Benutzername = heron\nKennwort = kelp\n", "heron", "kelp", 2),
        ("Username: heron\nkelp\n", "heron", "kelp", 1),
        ("heron\nPassword: kelp\n", "heron", "Password: kelp", 0),
        ("heron\nsea: kelp\n", "heron", "sea: kelp", 0),
        ("sea:heron\nkelp\n", "sea:heron", "kelp", 0),
    ],
)
def test_labels_in_two_lines(text, name, password, slips):
    """They are left out and said; a password that begins like one stays as it is where the name has none."""
    value, found = read_credentials_untrusted(text, "c")
    assert (value.name, value.password.text(), len(found)) == (name, password, slips)


def test_one_code_of_several(zesty, kit, tmp_path):
    """The first waits for the other: a script is told which is missing, a terminal is asked for it."""
    zesty("import", kit)
    assert zesty("export", "lisbon", "--to", tmp_path / "code.png").code == 0
    parts = sorted(tmp_path.glob("code-*.png"))
    assert len(parts) > 1
    other = Program(tmp_path / "other")
    alone = other("--json", "import", parts[0])
    assert alone.json["code"] == "code-incomplete" and "number 2 is missing" in alone.json["why"]
    asked = [("number 2 is missing", ""), ("Enter to stop): ", f"{parts[1]}\n"), ("Profiles: 1 new", "")]
    code, _ = talk(other, ("import", str(parts[0]), "--later"), asked)
    assert code == 0 and [row["name"] for row in other("--json", "list").json["profiles"]] == ["quillwort-lisbon"]
