"""The list of devices, handing over by files, and what a device makes of them: the program on files in a folder."""

from __future__ import annotations

import json
import os
import time

import PIL.Image
import pytest
import pyzipper
import zxingcpp

from commands.conftest import Program
from commands.test_editions import talk
from support import PASSWORD
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.scope import Scope
from zesty_burrow.core.secret import Secret
from zesty_burrow.fleet.bundle import Bundle, seal_bundle
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, make_secret, read_key
from zesty_burrow.store.database import SqliteDatabase
from zesty_burrow.store.devices import Report
from zesty_burrow.store.seal import Seal
from zesty_burrow.store.store import Store

TABLE = """name,kind,owner,place,tags
curlew,laptop,Marit Aune,Koper,boats field
plover,phone,Marit Aune,,boats
dunlin,phone,Jon Berg,,
shearwater,box,,Tromsø,
"""


@pytest.fixture
def fleet(zesty, kit, tmp_path):
    """The administrator's store, with the provider's kit and the story's devices."""
    (tmp_path / "devices.csv").write_text(TABLE)
    assert zesty("import", kit).code == 0
    assert "4 new" in zesty("devices", "import", tmp_path / "devices.csv").text
    return zesty


@pytest.fixture
def curlew(tmp_path):
    """The program on another machine."""
    return Program(tmp_path / "curlew")


def slug(ended):
    """An error's code, as it is shown last."""
    return ended.text.split()[-1]


def states(zesty, *words):
    rows = zesty("--json", "devices", "list", *words).json["devices"]
    return {row["name"]: row["state"] for row in rows}


def hand_over(zesty, *words, code=0):
    ended = zesty("--json", "hand-over", *words)
    assert ended.code == code, ended.text
    return {row["device"]: row for row in ended.json["devices"]}


def test_a_list(fleet, tmp_path):
    """Added, found, changed, imported again, removed; what is wrong is told and changes nothing."""
    assert list(states(fleet)) == ["curlew", "dunlin", "plover", "shearwater"]
    assert list(states(fleet, "marit", "boat")) == ["curlew", "plover"]
    assert list(states(fleet, "--kind", "phone", "--owner", "jon berg")) == ["dunlin"]
    assert list(states(fleet, "--place", "tromsø")) == ["shearwater"]
    assert slug(fleet("devices", "add", "plover", "--kind", "phone")) == "clash"
    assert fleet("devices", "add", "../x", "--kind", "phone").code == 2
    assert "changed" in fleet("devices", "change", "dunlin", "--tag", "boats", "--owner", "Ada").text
    assert list(states(fleet, "--tag", "boats")) == ["curlew", "dunlin", "plover"]
    assert "0 new, 1 changed, 3 unchanged" in fleet("devices", "import", tmp_path / "devices.csv").text
    (tmp_path / "bad.csv").write_text("name,kind\nfulmar,phone\ngannet,teapot\n")
    wrong = fleet("devices", "import", tmp_path / "bad.csv")
    assert wrong.code == 3 and "line 3" in wrong.text and "fulmar" not in states(fleet)
    assert fleet("devices", "remove", "dunlin").code == 0 and "dunlin" not in states(fleet)
    near = fleet("devices", "show", "plov")
    assert near.code == 4 and "Run: zesty devices show plover" in near.text


def test_which_profile(fleet):
    """Rules, from the general to the special; why is told; what its client cannot use is told with the nearest."""
    assert set(states(fleet).values()) == {"no profile"}
    assert "4 at present" in fleet("devices", "assign", "lisbon").text
    fleet("devices", "assign", "tallinn", "--tag", "boats")
    fleet("devices", "assign", "nairobi", "--device", "plover")
    shown = fleet("--json", "devices", "show", "plover").json
    assert shown["device"]["profile"] == "quillwort-nairobi" and shown["rule"]["name"] == "plover"
    rules = fleet("--json", "devices", "rules").json["rules"]
    assert [(row["profile"], row["devices"]) for row in rules] == [
        ("quillwort-nairobi", 1), ("quillwort-tallinn", 1), ("quillwort-lisbon", 2),
    ]  # fmt: skip
    fleet("devices", "unassign", rules[0]["number"])
    fleet("devices", "assign", "lisbon", "--tag", "boats")
    assert len(fleet("--json", "devices", "rules").json["rules"]) == 2
    assert set(states(fleet).values()) == {"never set up"}
    fleet("rename", "lisbon", "cottage")
    assert fleet("--json", "devices", "show", "dunlin").json["device"]["profile"] == "cottage"
    fleet("choose", "tallinn", "--protocol", "connect-ip", "--name-servers", "198.51.100.242")
    fleet("devices", "assign", "tallinn", "--device", "plover")
    shown = fleet("--json", "devices", "show", "plover").json
    assert shown["misfits"] == ["goes over connect-ip, which a phone does not know"]
    assert shown["nearest"] in ("cottage", "quillwort-nairobi", "quillwort-montevideo", "quillwort-wellington")
    row = hand_over(fleet, "plover", "--dry-run", code=12)["plover"]
    assert row["cause"] == "device-does-not-fit" and shown["nearest"] in row["remedy"]
    fleet("remove", "quillwort-tallinn")
    assert states(fleet)["plover"] == "profile gone"
    for words in (("--dry-run",), ("--again", "--dry-run")):
        assert hand_over(fleet, "--all", *words, code=12)["plover"]["cause"] == "device-profile-gone"


def enrol(fleet, device, name="curlew"):
    """The device's key in the administrator's list."""
    (device.home.parent / f"{name}.key").write_text(device("enrol").out)
    assert fleet("devices", "change", name, "--key", device.home.parent / f"{name}.key").code == 0


def test_by_file(fleet, curlew, tmp_path):
    """Encrypted to the device; its owner is asked, agrees, and has the profile with its credentials; once."""
    fleet("devices", "assign", "lisbon", "--kind", "laptop")
    out = tmp_path / "out"
    out.mkdir()
    assert hand_over(fleet, "curlew", "--to", out, code=12)["curlew"]["cause"] == "device-not-enrolled"
    enrol(fleet, curlew)
    assert hand_over(fleet, "curlew", "--to", out, "--dry-run")["curlew"]["state"] == "ready"
    assert not list(out.iterdir()) and states(fleet)["curlew"] == "never set up"
    assert hand_over(fleet, "curlew", "--to", out)["curlew"]["state"] == "handed over"
    made = out / "curlew.bundle"
    assert made.stat().st_mode & 0o777 == 0o600 and PASSWORD.encode() not in made.read_bytes()
    assert states(fleet)["curlew"] == "not confirmed"
    assert hand_over(fleet, "curlew", "--to", out) == {}
    assert hand_over(fleet, "curlew", "--to", out, "--again", code=12)["curlew"]["cause"] == "clash"
    waiting = curlew("--json", "receive", made)
    assert waiting.json["state"] == "waiting" and curlew("--json", "list").json["profiles"] == []
    code, seen = talk(curlew, ("receive",), [("Take them? y or n [n]", "n\n")])
    assert code == 0 and "to be trusted: CN=" in seen and "Declined" in seen
    assert fleet("--json", "devices", "key").json["code"] in seen
    code, seen = talk(curlew, ("receive",), [("Take them? y or n [n]", "y\n")])
    assert code == 0 and "Imported: quillwort-lisbon" in seen
    shown = curlew("--json", "show", "lisbon").json
    assert [row["kind"] for row in shown["credentials"]] == ["name-password"]
    assert slug(curlew("receive")) == "not-found"
    repeated = curlew("receive", made, "--agree")
    assert slug(repeated) == "bundle-repeated" and " was imported" in repeated.text
    assert slug(Program(tmp_path / "other")("receive", made, "--agree")) == "bundle-for-another"
    assert "undone" in curlew("undo").text.lower() or curlew("--json", "list").json["profiles"] == []


def test_a_newer_edition_and_back(fleet, curlew, kit, tmp_path):
    """What has changed is out of date; one command takes it there; what is assigned instead replaces it."""
    enrol(fleet, curlew)
    fleet("devices", "assign", "lisbon", "--kind", "laptop")
    code = fleet("--json", "devices", "key", "--to", tmp_path / "admin.key").json["code"]
    assert curlew("enrol", "--accept", tmp_path / "admin.key").code == 2
    wrong = curlew("enrol", "--accept", tmp_path / "admin.key", "--code", "AAAA-BBBB-CCCC-DDDD-EEEE")
    assert wrong.code == 2 and curlew("--json", "enrol").json["accepted"] == []
    typed = code.replace("-", " ").lower()
    assert curlew("--json", "enrol", "--accept", tmp_path / "admin.key", "--code", typed).json["accepted"] == [code]

    def take(number):
        folder = tmp_path / str(number)
        folder.mkdir()
        hand_over(fleet, "--kind", "laptop", "--to", folder)
        return curlew("--json", "receive", folder / "curlew.bundle").json["state"]

    def mtu():
        return curlew("--json", "show", "lisbon").json["profile"]["tunnel"]["mtu"]

    assert take(1) == "imported" and mtu() == 1400
    assert "changes" not in fleet("hand-over", "curlew", "--again", "--to", tmp_path, "--dry-run").text
    fleet("choose", "lisbon", "--mtu", "1300")
    row = hand_over(fleet, "curlew", "--to", tmp_path, "--dry-run")["curlew"]
    assert row["changes"] == ["tunnel.mtu: 1400 becomes 1300"]
    shown = fleet("hand-over", "curlew", "--to", tmp_path, "--dry-run").out
    assert "What changes in quillwort-lisbon on 1 device: curlew" in shown and row["changes"][0] in shown
    assert states(fleet)["curlew"] == "out of date"
    watched = fleet("--json", "monitor").json["findings"]
    assert [row["subject"] for row in watched if row["code"] == "device-out-of-date"] == ["curlew"]
    assert take(2) == "imported" and mtu() == 1300
    assert "device-out-of-date" not in fleet("monitor").text
    fleet("undo")
    (back,) = hand_over(fleet, "curlew", "--to", tmp_path, "--dry-run")["curlew"]["changes"]
    assert back == "tunnel.mtu: 1300 becomes 1400"
    assert states(fleet)["curlew"] == "out of date" and take(3) == "imported" and mtu() == 1400
    fleet("import", kit)
    assert states(fleet)["curlew"] == "not confirmed"
    changed = fleet(
        "credentials", "change", "Quillwort Relay", "--from", "-", stdin="tidewrack_heron\nanother secret\n"
    )
    assert changed.code == 0 and states(fleet)["curlew"] == "out of date"
    assert "has other credentials" in fleet("devices", "list").out
    (what,) = hand_over(fleet, "curlew", "--to", tmp_path, "--dry-run")["curlew"]["changes"]
    assert what == "credentials: changed since"
    assert take(4) == "imported" and states(fleet)["curlew"] == "not confirmed"
    fleet("devices", "assign", "tallinn", "--device", "curlew")
    assert take(5) == "imported"
    assert [row["name"] for row in curlew("--json", "list").json["profiles"]] == ["quillwort-tallinn"]
    # What the owner has made is not replaced.
    fleet("devices", "assign", "nairobi", "--device", "curlew")
    curlew("rename", "tallinn", "quillwort-nairobi")
    folder = tmp_path / "6"
    folder.mkdir()
    hand_over(fleet, "curlew", "--to", folder)
    refused = curlew("receive", folder / "curlew.bundle")
    assert slug(refused) == "profile-name-taken"
    assert [row["name"] for row in curlew("--json", "list").json["profiles"]] == ["quillwort-nairobi"]
    assert curlew("enrol", "--withdraw", code).code == 0 and curlew("--json", "enrol").json["accepted"] == []
    assert slug(curlew("enrol", "--withdraw", code)) == "not-found"


def test_a_device_that_was_removed_meanwhile(fleet, curlew, tmp_path):
    """Bundles go on counting: what comes after it was added again is not taken for one that came before."""
    fleet("devices", "assign", "lisbon")
    for number in range(3):
        if number:
            fleet("devices", "remove", "curlew")
            fleet("devices", "add", "curlew", "--kind", "laptop")
        enrol(fleet, curlew)
        (tmp_path / str(number)).mkdir()
        hand_over(fleet, "curlew", "--to", tmp_path / str(number))
        assert curlew("receive", tmp_path / str(number) / "curlew.bundle", "--agree").code == 0


def test_a_stranger_s_bundle(curlew, tmp_path):
    """Whoever has the device's key can make one: it is asked about, and its words do not steer the terminal."""
    key = read_key(curlew("--json", "enrol").json["key"], DEVICE)
    value = NamePassword("x", Secret("y"))
    bundle = Bundle(
        7, "curlew", "\x1b[2Jnow", {}, ((Scope("\x1b]0;label\x07", "", ""), value),), None, "https://\x1b[31m"
    )
    (tmp_path / "s.bundle").write_bytes(seal_bundle(bundle, key, OwnKeys(make_secret())))
    code, seen = talk(curlew, ("receive", tmp_path / "s.bundle"), [("Take them? y or n [n]", "n\n")])
    assert code == 0 and "\x1b[2J" not in seen and "\x1b]0" not in seen and "\x1b[31m" not in seen
    assert "label" in seen and curlew("--json", "credentials", "list").json["credentials"] == []


def test_keys_on_a_terminal(fleet, curlew, tmp_path):
    """The code is shown, and compared by people."""
    fleet("devices", "key", "--to", tmp_path / "admin.key")
    code, seen = talk(curlew, ("enrol", "--accept", tmp_path / "admin.key"), [("y or n [n]", "y\n")])
    assert code == 0 and fleet("--json", "devices", "key").json["code"] in seen
    assert slug(fleet("devices", "key", "--to", tmp_path / "admin.key")) == "clash"
    (tmp_path / "no.key").write_text("hello\n")
    assert slug(curlew("enrol", "--accept", tmp_path / "no.key")) == "malformed"
    assert slug(fleet("devices", "change", "curlew", "--key", tmp_path / "no.key")) == "malformed"


def test_what_a_broken_connection_has_left(curlew):
    """It goes after a while; what was put there just now stays."""
    folder = curlew.home / "incoming"
    assert curlew("--json", "enrol").json["folder"] == str(folder) and folder.stat().st_mode & 0o777 == 0o700
    for name, age in (("old", 4000), ("new", 10)):
        path = folder / f"{name}.bundle"
        path.write_text("{}")
        os.utime(path, (time.time() - age, time.time() - age))
    curlew("enrol")
    assert [one.name for one in folder.iterdir()] == ["new.bundle"]


def test_keys_stay_sealed(fleet, curlew, tmp_path):
    """Under the store's seal, also after it was changed: a bundle for the same key still opens."""
    enrol(fleet, curlew)
    (tmp_path / "pass").write_text("auks dive at dawn\n")
    (tmp_path / "pass").chmod(0o600)
    sealed = curlew("seal", "--method", "passphrase", "--passphrase-file", tmp_path / "pass")
    assert sealed.code == 0, sealed.text
    fleet("devices", "assign", "lisbon")
    hand_over(fleet, "curlew", "--to", tmp_path)
    words = ("--passphrase-file", tmp_path / "pass", "--json", "receive", tmp_path / "curlew.bundle", "--agree")
    assert curlew(*words).json["state"] == "imported"


def test_credentials_of_its_own(fleet, curlew, tmp_path):
    """Those for the device go there, not those for all; where there are none that is told before."""
    enrol(fleet, curlew)
    fleet("devices", "assign", "lisbon")
    changed = fleet("credentials", "change", "Quillwort Relay", "--device", "curlew", stdin="curlew_only\nx_Y-9\n")
    assert changed.code == 0
    hand_over(fleet, "curlew", "--to", tmp_path)
    assert curlew("receive", tmp_path / "curlew.bundle", "--agree").code == 0
    (row,) = curlew("--json", "credentials", "list").json["credentials"]
    assert row["device"] == "" and row["label"] == "Quillwort Relay"
    fleet("credentials", "forget", "Quillwort Relay", "--device", "curlew")
    fleet("credentials", "forget", "Quillwort Relay")
    row = hand_over(fleet, "curlew", "--again", "--to", tmp_path, code=12)["curlew"]
    assert row["cause"] == "device-no-credentials" and "name-password" in row["detail"]


def test_archives(fleet, tmp_path):
    """For a device with neither this program nor a browser: files in a ZIP, encrypted under a passphrase."""
    fleet("devices", "assign", "lisbon")
    (tmp_path / "out").mkdir()
    secret = tmp_path / "pass"
    secret.write_text("auks dive at dawn\n")
    secret.chmod(0o600)
    assert fleet("hand-over", "plover", "--to", tmp_path / "out").code == 4
    rows = hand_over(fleet, "--kind", "phone", "--to", tmp_path / "out", "--kit-passphrase-file", secret)
    assert {row["form"] for row in rows.values()} == {"archive"} and states(fleet)["plover"] == "not confirmed"
    made = tmp_path / "out" / "plover.zip"
    assert made.stat().st_mode & 0o777 == 0o600 and PASSWORD.encode() not in made.read_bytes()
    with pyzipper.AESZipFile(made) as opened:
        name = "quillwort-lisbon-credentials.txt"
        assert opened.namelist() == ["quillwort-lisbon-authorities.pem", "quillwort-lisbon.toml", name]
        with pytest.raises(RuntimeError):
            opened.read(name)
        opened.setpassword(b"auks dive at dawn")
        assert opened.read(name).decode().split()[1] == PASSWORD
    again = hand_over(fleet, "plover", "--again", "--to", tmp_path / "out", "--kit-passphrase-file", secret, code=12)
    assert again["plover"]["cause"] == "clash"


def test_cards(fleet, tmp_path):
    """One file for all who get one, readable by its owner alone; devices with this program get none."""
    fleet("devices", "assign", "lisbon")
    paper = tmp_path / "cards.pdf"
    rows = hand_over(fleet, "--tag", "boats", "--card", paper, "--language", "de", code=12)
    assert rows["plover"]["state"] == "handed over" and rows["curlew"]["cause"] == "device-no-way"
    assert rows["plover"]["detail"] == "printed on a card, without its certificate"
    assert paper.read_bytes().startswith(b"%PDF-") and paper.stat().st_mode & 0o777 == 0o600
    assert states(fleet)["plover"] == "not confirmed"
    for path, cause in ((paper, "clash"), (tmp_path / "nowhere" / "cards.pdf", "device-write")):
        row = hand_over(fleet, "plover", "--again", "--card", path, code=12)["plover"]
        assert (row["state"], row["cause"]) == ("failed", cause) and row["remedy"]
    assert states(fleet)["plover"] == "failed"
    hand_over(fleet, "plover", "--again", "--card", tmp_path / "cards.html")
    assert PASSWORD in (tmp_path / "cards.html").read_text()
    assert fleet("hand-over", "plover", "--card", tmp_path / "cards.docx").code == 2
    both = fleet("hand-over", "plover", "--card", tmp_path / "c.pdf", "--link", "https://x.example")
    assert both.code == 2 and not (tmp_path / "c.pdf").exists()


def test_a_link_in_files(fleet, tmp_path):
    """As text and as a code of both kinds, each with its final mode; all of them, or none beside an older one."""
    fleet("devices", "assign", "lisbon")
    words = ("plover", "--link", "https://links.tidewrack.example", "--to", tmp_path)
    (tmp_path / "plover.link.svg").write_text("older")
    assert hand_over(fleet, *words, code=12)["plover"]["cause"] == "clash"
    assert [path.name for path in tmp_path.glob("plover.link.*")] == ["plover.link.svg"]
    (tmp_path / "plover.link.svg").unlink()
    # The last of the three cannot be written: a link to nowhere stands there.
    (tmp_path / "plover.link.svg").symlink_to(tmp_path / "nowhere")
    failed = hand_over(fleet, *words, code=12)["plover"]
    assert (failed["cause"], failed["to"]) == ("device-write", str(tmp_path / "plover.link.txt"))
    assert "█" not in fleet("hand-over", *words).out
    assert [path.name for path in tmp_path.glob("plover.link.*")] == ["plover.link.svg"]
    (tmp_path / "plover.link.svg").unlink()
    assert fleet("--json", "links", "list").json["links"] == []
    hand_over(fleet, *words)
    (url,) = (tmp_path / "plover.link.txt").read_text().split()
    (seen,) = zxingcpp.read_barcodes(PIL.Image.open(tmp_path / "plover.link.png"))
    assert seen.text == url and url.startswith("https://links.tidewrack.example/")
    assert "<svg" in (tmp_path / "plover.link.svg").read_text()
    assert {path.stat().st_mode & 0o777 for path in tmp_path.glob("plover.link.*")} == {0o600}


def test_words_that_do_not_fit(fleet, tmp_path):
    for words, code in (
        (("hand-over",), 2),
        (("hand-over", "--all", "--at-once", "0"), 2),
        (("hand-over", "--all", "--timeout", "-1"), 2),
        (("hand-over", "--all", "--hours", "0"), 2),
        (("hand-over", "--all", "--link", "http://x.example"), 2),
        (("hand-over", "--all", "--report", "https://x.example", "--report-authority", tmp_path / "devices.csv"), 3),
        (("hand-over", "--all", "--to", tmp_path / "nowhere"), 4),
        (("hand-over", "nobody"), 4),
        (("devices", "assign", "atlantis"), 4),
        (("devices", "assign", "lisbon", "--device", "curlew", "--kind", "box"), 2),
        (("devices", "unassign", "99"), 4),
        (("devices", "change", "curlew", "--folder", "tmp"), 2),
        (("receive", tmp_path / "nothing"), 4),
    ):
        assert fleet(*words).code == code, words


def test_a_thousand_devices(fleet, tmp_path):
    """A large table is one transaction, and one table on the screen, the worst first."""
    rows = "\n".join(f"d{number:04},laptop" for number in range(1000))
    (tmp_path / "many.csv").write_text(f"name,kind\n{rows}\n")
    assert "1000 new" in fleet("devices", "import", tmp_path / "many.csv").text
    fleet("devices", "assign", "lisbon", "--device", "d0500")
    shown = fleet("devices", "list")
    lines = shown.out.splitlines()
    assert lines[1].split()[0] == "d0500" and len(lines) == 1004 + 4
    assert json.loads(fleet("--json", "devices", "list", "d09").out)["devices"][0]["name"] == "d0900"


@pytest.mark.parametrize(
    ("exits", "shown"),
    [
        (
            ("198.51.100.19 (Quillwort Relay, Lisbon, PT)", "2001:db8:1001::3 (Quillwort Relay, Lisbon, PT)"),
            "Lisbon, PT",
        ),
        (("198.51.100.19 (Quillwort Relay, Lisbon, PT)", "2001:db8:b8::98 (Cobblewire, SI)"), "Lisbon, PT / SI"),
        (("203.0.113.200 (Farwatch)", "2001:db8::7"), "203.0.113.200 / 2001:db8::7"),
        (("203.0.113.200 (\x1b[2J, \x1b[0m)",), "\ufffd[0m"),
        ((), ""),
    ],
)
def test_which_exit(fleet, exits, shown):
    """The table says where each device's traffic leaves, as the device has reported it."""
    made = Store(SqliteDatabase(fleet.home / "store.db"), lambda _: Seal(bytes(32)), lambda: "")
    made.fleet.note_report(Report("plover", 1, "2026-11-28T12:00:00Z", "sealed", "quillwort-lisbon", "d", exits))
    made.close()
    said = fleet("devices", "list", "plover").out
    head, row = said.splitlines()[:2]
    assert row[head.index("exit") : head.index("verified")].strip() == shown and "\x1b" not in said
