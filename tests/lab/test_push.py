"""Profiles handed over by SSH, in the lab: a real server, a real device with this program, and what goes wrong."""

from __future__ import annotations

import json

import pytest

from lab.links_server import PROGRAM, serving
from support import until
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
NAME = "quillwort-tallinn"


@pytest.fixture(scope="module")
def pushed(whole_lab):
    """The laptop in the workstation's list; how to hand over to it, and how to run the program on it."""

    class Pushed:
        lab = whole_lab

        def push(self, *words, code=0):
            settings = str(whole_lab.folder / "heron" / "ssh" / "config")
            ended = whole_lab.heron("hand-over", "curlew", "--ssh-config", settings, "--timeout", "5", *words)
            assert ended.code == code, ended.text
            (row,) = ended.json["devices"] or [{}]
            return row

        def curlew(self, *words, check=0):
            return whole_lab.shell("curlew", PROGRAM, *words, check=check)

        def accept(self):
            """The owner takes what comes from the administrator."""
            key = whole_lab.heron("devices", "key").json
            accepted = whole_lab.folder / "curlew" / "administrator.key"
            accepted.write_text(f"{key['key']}\n")
            self.curlew("enrol", "--accept", str(accepted), "--code", key["code"])

        def state(self):
            (row,) = whole_lab.heron("devices", "list", "curlew").json["devices"]
            return row["state"]

    assert whole_lab.gateway("curlew")["ssh"], whole_lab.gateway("curlew")["note"]
    whole_lab.heron("devices", "add", "curlew", "--kind", "laptop", "--reach", "curlew", check=0)
    whole_lab.heron("devices", "assign", NAME, "--device", "curlew", check=0)
    yield Pushed()
    whole_lab.heron("devices", "remove", "curlew", check=0)


def test_the_owner_has_to_agree(pushed):
    """Nothing is imported before that; then the next push is taken at once, and the tunnel from there is verified."""
    assert pushed.push("--dry-run")["state"] == "ready" and pushed.state() == "never set up"
    assert pushed.push()["state"] == "waiting" and pushed.state() == "waiting"
    assert json.loads(pushed.curlew("list", "--json").out)["profiles"] == []
    # To this one alone: what is the same needs no second word, what is not does.
    pushed.curlew("receive", "--agree")
    assert pushed.push()["state"] == "confirmed" and pushed.state() == "in date"
    pushed.lab.heron("choose", NAME, "--mtu", "1300", check=0)
    assert pushed.push()["state"] == "waiting"
    pushed.lab.heron("choose", NAME, "--mtu", "1400", check=0)
    pushed.accept()
    assert pushed.push()["state"] == "confirmed" and pushed.state() == "in date"
    assert pushed.push() == {}
    assert not list((pushed.lab.folder / "curlew" / "incoming").iterdir())
    pushed.curlew("verify", "--before")
    pushed.curlew("connect", "tallinn", "--detach")
    try:
        seen = json.loads(pushed.curlew("verify", "--json").out)
        assert (seen["verdict"], seen["after"]["ipv4"]["country"]) == ("sealed", "EE")
    finally:
        pushed.curlew("disconnect")


@pytest.mark.parametrize(
    ("fault", "cause"),
    [
        ("offline", "device-unreachable"),
        ("wrong-host-key", "device-host-key"),
        ("refuses", "device-sign-in"),
        ("full-disk", "device-write"),
    ],
)
def test_what_goes_wrong(pushed, fault, cause):
    """Told by its cause, with what to do; nothing is left behind; the next run does what is left."""
    pushed.accept()
    before = pushed.curlew("list", "--json").out
    pushed.lab.fault("curlew", fault)
    row = pushed.push("--again", "--timeout", "2" if fault == "offline" else "5", code=12)
    assert (row["state"], row["cause"]) == ("failed", cause) and row["remedy"], row
    assert pushed.state() == "failed"
    pushed.lab.fault("curlew")
    ping = ("lab", "run", "heron", "--", "ping", "-c", "1", "-W", "1", story.LAPTOP4)
    until(lambda: pushed.lab.run(*ping).code == 0, 10)
    assert pushed.curlew("list", "--json").out == before
    assert pushed.push()["state"] == "confirmed" and pushed.state() == "in date"
    assert not list((pushed.lab.folder / "curlew" / "incoming").iterdir())


def test_a_laptop_whose_clock_is_off(pushed):
    """It takes what comes, as numbers and not times tell old from new; it does not connect before the clock is right."""
    pushed.lab.fault("curlew", "clock-off")
    assert pushed.push("--again")["state"] == "confirmed" and pushed.state() == "in date"
    refused = pushed.curlew("connect", "tallinn", "--detach", check=None)
    assert refused.code and "before this program was made" in refused.text
    pushed.lab.fault("curlew")
    assert pushed.push("--again")["state"] == "confirmed"


def test_a_device_that_was_set_up_anew(pushed):
    """Another key than before is not taken unasked: somebody may have put another machine in its place."""
    (row,) = pushed.lab.heron("devices", "list", "curlew").json["devices"]
    assert row["enrolled"]
    other = pushed.lab.folder / "other.key"
    other.write_text(pushed.lab.run("enrol", check=0).out)
    pushed.lab.heron("devices", "change", "curlew", "--key", str(other), check=0)
    failed = pushed.push("--again", code=12)
    assert failed["cause"] == "device-key-changed" and "zesty devices change" in failed["remedy"]
    own = pushed.lab.folder / "own.key"
    own.write_text(pushed.curlew("enrol").out)
    pushed.lab.heron("devices", "change", "curlew", "--key", str(own), check=0)
    assert pushed.push()["state"] == "confirmed"


def test_without_the_program(pushed, tmp_path):
    """Said, with what else can be done; then files in a folder, certificates first, secrets for their owner alone."""
    missing = pushed.push("--again", "--program", "no-such-program", code=12)
    assert missing["cause"] == "device-no-program" and "--folder" in missing["remedy"]
    pushed.lab.heron("devices", "change", "curlew", "--folder", str(tmp_path), check=0)
    try:
        row = pushed.push("--again")
        assert (row["form"], row["state"]) == ("files", "handed over")
        assert pushed.state() == "not confirmed"
        names = {path.name: path.stat() for path in tmp_path.iterdir()}
        assert set(names) == {f"{NAME}{end}" for end in ("-authorities.pem", ".toml", "-credentials.txt")}
        assert all(one.st_mode & 0o777 == 0o600 for one in names.values())
        account, password = (tmp_path / f"{NAME}-credentials.txt").read_text().split()
        assert (account, password) == (story.ACCOUNT, pushed.lab.password)
        assert pushed.push("--again")["state"] == "handed over"
        pushed.lab.heron("devices", "change", "curlew", "--folder", str(tmp_path / "nowhere"), check=0)
        assert pushed.push("--again", code=12)["cause"] == "device-write"
    finally:
        pushed.lab.heron("devices", "change", "curlew", "--folder", "", check=0)


def test_by_a_jump_host(pushed, tmp_path):
    """As the SSH settings have it: the second connection reaches the laptop from the jump host, which is itself here."""
    own = (pushed.lab.folder / "heron" / "ssh" / "config").read_text()
    behind = own.replace(f"Host {story.LAPTOP}", "Host behind\n  ProxyJump curlew", 1)
    (tmp_path / "config").write_text(f"{own}{behind}")
    log = pushed.lab.folder / "curlew" / "ssh" / "log"
    before = log.read_text().count(f"from {story.LAPTOP4} port")
    pushed.lab.heron("devices", "change", "curlew", "--reach", "behind", check=0)
    try:
        ended = pushed.lab.heron("hand-over", "curlew", "--again", "--ssh-config", str(tmp_path / "config"))
    finally:
        pushed.lab.heron("devices", "change", "curlew", "--reach", "curlew", check=0)
    assert [row["state"] for row in ended.json["devices"]] == ["confirmed"], ended.text
    assert log.read_text().count(f"from {story.LAPTOP4} port") > before


ANSWERS = {
    "nonsense": ("echo hello", "device-no-answer"),
    "too much": ("yes", "device-no-answer"),
    "escapes": (
        """echo '{"result": "error", "code": "x y", "what": "\\u001b[2Jgone", "why": "\\u001b]0;x\\u0007"}'""",
        "device-push",
    ),
    "no key": ("echo '{\"key\": 7}'", "device-no-key"),
    "somebody's folder": (
        """echo '{{"key": "device-key 1 {}", "folder": "relative"}}'""".format("A" * 85 + "w=="),
        "device-no-folder",
    ),
}


@pytest.mark.parametrize("kind", ANSWERS)
def test_a_device_that_answers_badly(pushed, kind):
    """A stranger's words: told as what they are, in bounded memory, and without steering the terminal."""
    line, cause = ANSWERS[kind]
    fake = pushed.lab.folder / "fake"
    fake.write_text(f"#!/bin/sh\n{line}\n")
    fake.chmod(0o755)
    pushed.lab.heron("devices", "add", "fulmar", "--kind", "laptop", "--reach", "curlew")
    pushed.lab.heron("devices", "assign", NAME, "--device", "fulmar", check=0)
    settings = str(pushed.lab.folder / "heron" / "ssh" / "config")
    try:
        ended = pushed.lab.heron("hand-over", "fulmar", "--ssh-config", settings, "--program", str(fake))
        assert ended.code == 12 and "\x1b" not in ended.out + ended.err
        (row,) = ended.json["devices"]
        assert row["cause"] == cause, row
    finally:
        pushed.lab.heron("devices", "remove", "fulmar", check=0)


def test_reports(pushed):
    """The laptop verifies, and its verdict stands in the list; what cannot be sent waits; a leak comes first."""
    lab, folder = pushed.lab, pushed.lab.folder
    authority, url = folder / story.LINKS_AUTHORITY, story.LINKS_URL
    pushed.accept()
    assert pushed.push("--again", "--report", url, "--report-authority", str(authority))["state"] == "confirmed"
    pushed.curlew("verify", "--before")
    pushed.curlew("connect", "tallinn", "--detach")

    def shown_row():
        (row,) = lab.heron("devices", "list", "curlew").json["devices"]
        return row

    try:
        waits = json.loads(pushed.curlew("report", "--json", "--timeout", "3").out)
        assert (waits["verdict"], waits["sent"], waits["waiting"]) == ("sealed", 0, 1) and waits["why"]
        assert shown_row()["report"] is None
        with serving(lab):
            done = json.loads(pushed.curlew("report", "--json").out)
            assert (done["verdict"], done["sent"], done["waiting"]) == ("sealed", 2, 0)
            row = shown_row()
            assert (row["state"], row["report"]["verdict"], row["report"]["profile"]) == ("in date", "sealed", NAME)
            assert any("Tallinn, EE" in one for one in row["report"]["exits"])
            pushed.curlew("disconnect")
            lab.fault("tallinn", "leaking-resolver")
            pushed.curlew("connect", "tallinn", "--detach")
            assert json.loads(pushed.curlew("report", "--json").out)["verdict"] == "leaking"
            row = shown_row()
            assert (row["state"], row["why"]) == ("leaking", "dns-leak")
        # Each report is a run in the history, with what the device has signed; what differs is told.
        runs = lab.heron("history", "--device", "curlew", check=0).json["runs"]
        assert [run["verdict"] for run in runs] == ["leaking", "sealed", "sealed"]
        assert {run["profile"] for run in runs} == {NAME} and runs[0]["headline"] == "reported by the device"
        changed = lab.heron("history", "--device", "curlew", "--changes", check=0).json["changes"]
        assert [one["what"] for one in changed[0]["changes"]] == ["verdict"]
        assert lab.heron("history", "--check", check=0).json["problems"] == []
        # The auditor's report has them too, and stays what was signed.
        report = folder / "report.zip"
        key = lab.heron("audit", "--to", str(report), check=0).json["key"]
        assert lab.heron("audit", "--check", str(report), "--key", key, check=0).json["problems"] == []
        assert lab.heron("history", "--page", str(folder / "history.html"), check=0).json["runs"]
    finally:
        pushed.curlew("disconnect")
