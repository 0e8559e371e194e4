"""Verifications as a whole, in the lab: proof, memory, moments, pages, reports; what each says of others' lies."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
from pathlib import Path

import pytest

from browser import Browser
from support import until
from zesty_burrow.lab import story

LEAKS = Path(__file__).parent.parent / "leaks"

pytestmark = pytest.mark.lab
KEY_OF_NOBODY = "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"


@pytest.fixture
def up(lab):
    lab.heron("connect", "lisbon", "--detach", check=0)
    return lab


@pytest.fixture
def settings(whole_lab):
    """The workstation's settings file, put back afterwards."""
    path = whole_lab.folder / "heron" / "settings.toml"
    before = path.read_text()
    yield path
    path.write_text(before)


def standings(document):
    return {row["what"]: row["standing"] for row in document["expectations"]}


def test_what_is_expected_and_by_which_evidence(up):
    document = up.heron("verify", check=0).json
    assert set(standings(document).values()) == {"held"}
    assert all(row["evidence"] for row in document["expectations"])
    assert document["headline"].startswith("all traffic leaves by quillwort-lisbon or not at all")
    ways = document["ways_out"]
    assert ways["classes"] > 500 and ways["asked"] > 30 and ways["differing"] == ways["undecided"] == []
    assert document["watch"]["packets"] == 0 and document["watch"]["devices"] == ["lan"]
    assert {server["devices"][0] for server in document["names"]["servers"]} == {
        document["ways_out"]["summaries"][0]["device"]
    } | {"zesty0"}


def test_the_headline_is_true_for_a_split_tunnel(lab, tmp_path):
    kit = tmp_path / "office.zip"
    lab.run("lab", "account", "tidewrack_headline", "--to", str(kit), check=0)
    name = lab.heron("import", str(kit), check=0).json["profiles"][0]["name"]
    lab.heron("connect", name, "--detach", check=0)
    document = lab.heron("verify", check=0).json
    assert document["headline"] == (
        f"{story.OFFICE_NETWORK} leaves by {name} alone; everything else leaves as without it, as the profile says"
    )
    lab.heron("disconnect", check=0)
    lab.heron("remove", name, check=0)


def test_without_an_observatory(up, settings):
    """What this machine shows by itself is judged; what nobody saw is said; the verdict is unclear."""
    settings.write_text("")
    document = up.heron("verify", check=11).json
    known = standings(document)
    assert known["all IPv4 packets leave by it, or not at all"] == "held"
    assert known["no packet leaves that nothing explains"] == "held"
    assert known["the outside sees the exit's addresses alone"] == "no evidence"
    assert "nobody looked from outside" in document["headline"]
    assert document["after"]["reached"] is False
    # A rule beside the tunnel is found all the same.
    up.heron("disconnect", check=0)
    up.heron("connect", "lisbon", "--detach", "--no-guard", check=0)
    up.shell("heron", "ip", "rule", "add", "to", "192.0.2.0/24", "priority", "50", "table", "main")
    try:
        found = up.heron("verify", check=10)
        assert "leaves-beside" in found.codes
    finally:
        up.shell("heron", "ip", "rule", "del", "priority", "50")


def test_an_observatory_that_proves_nothing(up, settings):
    settings.write_text(f'observatory = "http://{story.OBSERVATORY_NAME}"\n')
    ended = up.heron("verify", check=11)
    assert "observatory-unproven" in ended.codes and ended.json["verdict"] == "unclear"


def test_a_certificate_alone(up, settings):
    lines = [line for line in settings.read_text().splitlines() if "observatory_key" not in line]
    settings.write_text("\n".join(lines) + "\n")
    assert up.heron("verify", check=0).json["after"]["proof"] == "certificate"


@pytest.mark.parametrize("lie", ["another key", "another certificate", "another server"])
def test_a_lying_observatory(up, settings, lie):
    """Somebody answers in its name: with another key, another certificate, or as another server."""
    text = settings.read_text()
    if lie == "another key":
        kept = [line for line in text.splitlines() if "observatory_key" not in line]
        settings.write_text("\n".join([*kept, f'observatory_key = "{KEY_OF_NOBODY}"']) + "\n")
    elif lie == "another certificate":
        settings.write_text(text.replace(story.OBSERVATORY_AUTHORITY, story.LINKS_AUTHORITY))
    else:
        up.shell(
            "heron", "sh", "-c", f"cp /etc/hosts /tmp/hosts; echo 198.51.100.242 {story.OBSERVATORY_NAME} >> /etc/hosts"
        )
    try:
        ended = up.heron("verify", check=11)
        assert ended.json["after"]["ipv4"]["address"] == ""
        if lie == "another server":
            # By IPv6, which the file does not name, the real one answers.
            known = standings(ended.json)
            assert known["the outside sees the exit's addresses alone"] == "no evidence"
            assert "hosts-override" in ended.codes
        else:
            assert "observatory-forged" in ended.codes, ended.codes
    finally:
        if lie == "another server":
            up.shell("heron", "sh", "-c", "cat /tmp/hosts > /etc/hosts")


def test_several_observatories(up, settings):
    """The second one is the same under another name: both agree; one that is silent is named."""
    text = settings.read_text()
    more = text.replace(f'"{story.OBSERVATORY_URL}"', f'"{story.OBSERVATORY_URL} http://ipv4.{story.OBSERVATORY_NAME}"')
    settings.write_text(more)
    ended = up.heron("verify")
    # The second knows IPv4 alone: a difference, so that nothing is sealed on one word.
    assert "observatories-differ" in ended.codes and ended.code == 11
    settings.write_text(text.replace(f'"{story.OBSERVATORY_URL}"', f'"{story.OBSERVATORY_URL} http://192.0.2.99"'))
    assert "observatory-missing" in up.heron("verify", check=0).codes


def test_checking_an_observatory(lab):
    checks = {row["name"]: row["state"] for row in lab.heron("observatory", "check", check=0).json["checks"]}
    assert set(checks.values()) == {"ready"} and "its zone is delegated" in checks
    ended = lab.heron("observatory", "check", story.OBSERVATORY_URL, "--signed-by", KEY_OF_NOBODY)
    assert ended.code != 0 and [row["state"] for row in ended.json["checks"]] == ["missing"]
    unproven = lab.heron("observatory", "check", f"http://{story.OBSERVATORY_NAME}", check=0).json["checks"]
    assert {row["name"]: row["state"] for row in unproven}["proves itself"] == "attention"


def test_runs_are_remembered(lab, tmp_path):
    """Each run is kept; what changes between two is told; a changed record is found; a report holds it all."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    count = lab.heron("history", "--limit", "1", check=0).json["count"]
    lab.heron("verify", check=0)
    lab.heron("verify", check=0)
    kept = lab.heron("history", check=0).json
    assert kept["count"] == count + 2 and kept["runs"][0]["verdict"] == "sealed"
    assert kept["runs"][0]["round_trip"] > 0 and kept["runs"][0]["place"].startswith("Cobblewire")
    lab.heron("disconnect", check=0)
    lab.heron("connect", "lisbon", "--detach", "--no-guard", check=0)
    lab.shell("heron", "ip", "rule", "add", "to", "192.0.2.0/24", "priority", "50", "table", "main")
    try:
        ended = lab.heron("verify", check=10).json
        assert {"what": "verdict", "before": "sealed", "after": "leaking"} in ended["changes"]
    finally:
        lab.shell("heron", "ip", "rule", "del", "priority", "50")
    changes = lab.heron("history", "--changes", "--profile", "quillwort-lisbon", check=0).json["changes"]
    assert changes[0]["changes"][0]["what"] == "verdict"
    assert lab.heron("history", "--check", check=0).json["problems"] == []
    report = tmp_path / "report.zip"
    made = lab.heron("audit", "--to", str(report), check=0).json
    assert made["runs"] >= count + 3 and made["exceptions"] >= 1
    checked = lab.heron("audit", "--check", str(report), "--key", made["key"], check=0).json
    assert checked["problems"] == [] and checked["runs"] == made["runs"]
    assert lab.heron("audit", "--check", str(report), "--key", KEY_OF_NOBODY, check=10).json["problems"]
    rows = read_csv(report)
    assert len(rows) == made["runs"] and rows[-1]["verdict"] == "leaking"
    # Somebody changes what the list says of a run.
    database = lab.folder / "heron" / "store.db"
    forge(database, "UPDATE runs SET verdict = 'sealed' WHERE verdict = 'leaking'")
    assert lab.heron("history", "--check", check=10).json["problems"]
    forge(database, "DELETE FROM runs")


def read_csv(report):
    import io
    import zipfile

    with zipfile.ZipFile(report) as archive:
        return list(csv.DictReader(io.StringIO(archive.read("runs.csv").decode())))


def forge(database, statement):
    import sqlite3

    with sqlite3.connect(database) as connection:
        connection.execute(statement)
    connection.close()


def test_moments(up):
    """A rekey, a loss and its end, a switch: what a sender notices, and that nothing leaves beside the tunnel."""
    ended = up.heron("transitions", "--loss", "1", "--switch-to", "quillwort-tallinn", "--end", check=0).json
    moments = {row["name"]: row for row in ended["moments"]}
    assert list(moments) == ["rekey", "loss", "return", "switch", "end"]
    assert not any(row["not_done"] for row in ended["moments"]), ended["moments"]
    assert all(row["beside"] == 0 for row in ended["moments"]) and ended["watch"]["packets"] == 0
    assert moments["rekey"]["answered"] > 10 and moments["rekey"]["silence"] < 1
    assert moments["loss"]["silence"] > 0.8 and moments["return"]["answered"] > 5
    assert len(moments["switch"]["exits"]) == 2 and "192.0.2.77" not in moments["switch"]["exits"]
    assert moments["end"]["exits"][-1] == "192.0.2.77"
    until(lambda: up.heron("status").json["condition"] == "down")


def test_without_a_tunnel_there_are_no_moments(lab):
    assert lab.heron("transitions").json["code"] == "no-tunnel-up"


def test_the_page_of_a_verification(up, tmp_path):
    """In a real browser, without script and requests: what it says is what the document says; on a phone and on paper too."""
    path = tmp_path / "page.html"
    document = up.heron("verify", "--page", str(path), check=0).json
    text = path.read_text()
    assert "<script" not in text and "http" not in text.split("</style>")[1].replace("http-equiv", "")
    with Browser(width=390) as browser:
        browser.go(path.as_uri())
        shown = browser.text()
        assert f"SEALED: {document['headline']}." in shown
        for row in document["expectations"]:
            assert row["what"] in shown and row["evidence"] in shown
        assert f"{document['ways_out']['classes']} classes of packets" in shown
        assert browser.run("document.querySelectorAll('svg').length") == 2
        assert browser.run("document.querySelector('.verdict').classList.contains('sealed')")
        assert browser.run("document.documentElement.scrollWidth") <= 390
        assert [url for url in browser.requests if not url.startswith(("file:", "about:"))] == []


def test_packets_to_a_file(lab, tmp_path):
    """Only those that nothing explains are in it; an independent reader counts as many."""
    lab.heron("connect", "lisbon", "--detach", "--no-guard", check=0)
    lab.shell("heron", "ip", "rule", "add", "to", "192.0.2.53", "priority", "50", "table", "main")
    path = tmp_path / "seen.pcap"
    sender = lab.start("heron", "ping", "-c", "40", "-i", "0.05", "192.0.2.53")
    try:
        document = lab.heron("verify", "--watch", "1", "--capture", str(path), check=10).json
    finally:
        lab.end(sender)
        lab.shell("heron", "ip", "rule", "del", "priority", "50")
    (row,) = [row for row in document["watch"]["unexplained"] if row["protocol"] == "ICMP"]
    assert row["process"].startswith("ping") and row["destination"] == "192.0.2.53"
    shown = subprocess.run(["tshark", "-r", str(path), "-Y", "icmp.type==8"], capture_output=True, text=True).stdout
    assert len(shown.splitlines()) == row["packets"]
    assert document["watch"]["packets"] == sum(one["packets"] for one in document["watch"]["unexplained"])


def test_the_program_says_it_to_people(up):
    shown = up.shell("heron", sys.executable, "-m", "zesty_burrow", "verify").out
    assert "held" in shown and "SEALED: all traffic leaves by quillwort-lisbon" in shown
    assert json.loads(up.heron("history", "--limit", "1").out)["runs"]


def test_what_is_to_be_reached(lab):
    """With the tunnel and without it; a host that is not reached is no leak, but nothing is sealed then."""
    target = f"{story.OBSERVATORY_NAME}:80"
    lab.heron("verify", "--before", "--reach", target, "--reach", "192.0.2.99:81", check=0)
    lab.heron("connect", "lisbon", "--detach", check=0)
    document = lab.heron("verify", "--reach", target, check=0).json
    (row,) = [row for row in document["expectations"] if row["what"] == f"{target} is reached"]
    assert row["standing"] == "held" and "reached without the tunnel" in row["evidence"]
    document = lab.heron("verify", "--reach", "192.0.2.99:81", check=11).json
    (row,) = [row for row in document["expectations"] if row["what"] == "192.0.2.99:81 is reached"]
    assert row["standing"] == "broken" and "not reached without the tunnel" in row["evidence"]
    assert document["headline"] == "it does not hold that 192.0.2.99:81 is reached"
    assert lab.heron("verify", "--reach", "host:port").code == 2


def test_what_a_profile_expects_to_reach(lab):
    """Named in the profile: tried before the tunnel and with it; the words of a wrong one name it."""
    target = f"{story.OBSERVATORY_NAME}:80"
    lab.heron("choose", "lisbon", "--reach", f"{target},192.0.2.99:81", check=0)
    try:
        assert lab.heron("show", "lisbon", check=0).json["profile"]["traffic"]["reach"] == [target, "192.0.2.99:81"]
        refused = lab.heron("choose", "lisbon", "--reach", "files.example:x", check=2)
        assert "'files.example:x'" in refused.text
        lab.heron("verify", "--before", check=0)
        lab.heron("connect", "lisbon", "--detach", check=0)
        rows = {row["what"]: row for row in lab.heron("verify", check=11).json["expectations"]}
        assert rows[f"{target} is reached"]["standing"] == "held"
        assert "reached without the tunnel" in rows[f"{target} is reached"]["evidence"]
        assert rows["192.0.2.99:81 is reached"]["standing"] == "broken"
    finally:
        lab.heron("choose", "lisbon", "--reach", "none", check=0)
    assert "reach" not in lab.heron("show", "lisbon", check=0).json["profile"]["traffic"]


def test_tables_for_other_programs(up, tmp_path):
    """Runs, changes, findings, profiles and devices as CSV; the same as JSON has."""
    up.heron("verify", check=0)
    up.heron("devices", "add", "plover", "--kind", "phone", "--tag", "boats", check=0)
    tables = {}
    try:
        for name, words in {
            "runs": ("history",), "changes": ("history", "--changes"), "profiles": ("list", "--attention"),
            "devices": ("devices", "list", "--attention"), "findings": ("monitor",),
        }.items():  # fmt: skip
            tables[name] = up.heron(*words, "--csv", str(tmp_path / f"{name}.csv")).json[name]
    finally:
        up.heron("devices", "remove", "plover", check=0)
    read = {name: list(csv.DictReader((tmp_path / f"{name}.csv").read_text().splitlines())) for name in tables}
    assert [row["verdict"] for row in read["runs"]] == [row["verdict"] for row in tables["runs"]]
    assert read["runs"][0]["operators"] == " ".join(tables["runs"][0]["facts"]["operators"])
    assert len(read["changes"]) == sum(len(row["changes"]) for row in tables["changes"])
    assert [row["name"] for row in read["profiles"]] == [row["name"] for row in tables["profiles"]]
    (device,) = read["devices"]
    assert (device["name"], device["tags"], device["enrolled"], device["verdict"]) == ("plover", "boats", "false", "")
    assert sorted(row["code"] for row in read["findings"]) == sorted(row["code"] for row in tables["findings"])
    assert up.heron("list", "--csv", str(tmp_path / "nowhere" / "x.csv"), check=3).json["code"] == "input"


def test_who_changes_http_on_the_way(lab):
    """A proxy that takes every request over IPv4 without being asked: named, with what it changes."""
    lab.heron("verify", "--before", check=0)
    lab.heron("connect", "lisbon", "--detach", check=0)
    proxy = lab.start("heron", sys.executable, str(LEAKS / "changing_proxy.py"), "8089", "7")
    rules = "table ip planted { chain out { type nat hook output priority -100; meta mark 7 return; "
    rules += "tcp dport 80 redirect to :8089; }; }"
    try:
        assert proxy.stdout.readline().startswith("ready")
        lab.shell("heron", "nft", rules)
        document = lab.heron("verify").json
        assert document["after"]["plain_http"]["6"]["changes"] == []
    finally:
        lab.shell("heron", "nft", "delete table ip planted", check=None)
        lab.end(proxy)
    (row,) = [row for row in document["findings"] if row["code"] == "http-changed"]
    assert (row["subject"], row["severity"]) == ("IPv4", "warning")
    assert row["detail"] == "the request arrives with Via: 1.1 hillside; the answer has X-Seen-By"


def test_what_needs_somebody(lab):
    """For people, in one line, and as OpenMetrics that an independent reader takes."""
    forge(lab.folder / "heron" / "store.db", "DELETE FROM runs")
    # What other tests have rehearsed.
    forge(lab.folder / "heron" / "store.db", "DELETE FROM observations WHERE role != 'before'")
    lab.heron("connect", "lisbon", "--detach", check=0)
    lab.heron("verify", check=0)
    seen = lab.heron("monitor").json
    assert (seen["worst"], {row["code"] for row in seen["findings"] if row["severity"] != "note"}) == ("note", set())
    shown = lab.shell("heron", sys.executable, "-m", "zesty_burrow", "monitor", "--metrics").out
    assert shown.endswith("# EOF\n") and 'zesty_sealed{profile="quillwort-lisbon",device="heron"} 1' in shown
    line = lab.shell("heron", sys.executable, "-m", "zesty_burrow", "monitor", "--one-line").out
    assert line.startswith("OK: ") and line.count("\n") == 1
    forge(lab.folder / "heron" / "store.db", "UPDATE runs SET verdict = 'leaking'")
    ended = lab.heron("monitor", check=11)
    assert "last-not-sealed" in ended.codes
    forge(lab.folder / "heron" / "store.db", "DELETE FROM runs")


def test_the_watch_of_a_whole_connection(lab):
    """What left while nobody verified is known to the tunnel's process, with the sender."""
    lab.heron("connect", "lisbon", "--detach", "--no-guard", check=0)
    until(lambda: lab.heron("status", check=0).json["tunnel"]["watch"].get("since"))
    assert lab.heron("status", check=0).json["tunnel"]["watch"]["packets"] == 0
    lab.shell("heron", "ip", "rule", "add", "to", "192.0.2.55", "priority", "50", "table", "main")
    # Nobody answers there, so that the sender is still waiting when its packets are looked at.
    sender = lab.start("heron", "ping", "-c", "3", "-i", "0.2", "-W", "60", "192.0.2.55")
    try:
        until(lambda: lab.heron("status", check=0).json["tunnel"]["watch"]["packets"] == 3)
    finally:
        lab.end(sender)
        lab.shell("heron", "ip", "rule", "del", "priority", "50")
    ended = lab.heron("status", check=0)
    assert ended.json["tunnel"]["watch"]["unwatched"] < 5
    assert "ping" in ended.json["tunnel"]["watch"]["seen"][0] and "left-beside" in ended.codes
    # A verification says so, and judges what is now.
    seen = lab.heron("verify", check=0)
    assert seen.json["verdict"] == "sealed" and "left-beside" in seen.codes
