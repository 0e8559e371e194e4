"""Reports of devices: signed, told apart by their numbers, and none lost when the server dies."""

from __future__ import annotations

import base64
import concurrent.futures
import json
import re
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from commands.conftest import Program
from fleet.test_link import Served
from zesty_burrow.errors import BurrowError, InputError, Malformed
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, make_secret
from zesty_burrow.fleet.report import LABEL, read_report, sign_report
from zesty_burrow.fleet.report_client import Refused, Unsent, send_report
from zesty_burrow.fleet.standing import DeviceState, standings
from zesty_burrow.lab.authority import write_certificate
from zesty_burrow.store.devices import Device, Report, Rule

PROGRAM = str(Path(sys.executable).with_name("zesty"))
CURLEW, STRANGER = OwnKeys(make_secret()), OwnKeys(make_secret())
NAMES = {CURLEW.public(DEVICE).text: "curlew"}
REPORT = Report(
    "curlew",
    3,
    "2026-11-28T12:00:00Z",
    "sealed",
    "quillwort-lisbon",
    "d",
    ("198.51.100.19 (Lisbon, PT)",),
    ("ipv6-block",),
)
SIGNED = sign_report(REPORT, CURLEW)


def test_there_and_back():
    """The name is the list's, not the device's own."""
    assert read_report(SIGNED, NAMES.get) == REPORT
    assert read_report(sign_report(replace(REPORT, device="<b>x</b>"), CURLEW), NAMES.get) == REPORT


def test_a_stranger_s_report():
    with pytest.raises(InputError) as told:
        read_report(sign_report(REPORT, STRANGER), NAMES.get)
    assert told.value.slug == "report-unknown"
    forged = {**json.loads(SIGNED), "signature": json.loads(sign_report(REPORT, STRANGER))["signature"]}
    with pytest.raises(Malformed, match="signature is wrong"):
        read_report(json.dumps(forged).encode(), NAMES.get)


def signed(**changes):
    """Well signed, with other content."""
    content = {
        "number": 3,
        "taken_at": "2026-11-28T12:00:00Z",
        "verdict": "sealed",
        "profile": "p",
        "digest": "d",
        "exits": [],
        "codes": [],
    }
    text = json.dumps({**content, **changes}).encode()
    parts = {
        "content": base64.b64encode(text).decode(),
        "signature": base64.b64encode(CURLEW.sign(LABEL + text)).decode(),
    }
    return json.dumps({**json.loads(SIGNED), **parts}).encode()


@pytest.mark.parametrize(
    "changes",
    [
        {"number": 0},
        {"number": True},
        {"number": "3"},
        {"number": 1 << 60},
        {"taken_at": "tomorrow"},
        {"taken_at": "2026-11-28T12:00:00+01:00"},
        {"verdict": "splendid"},
        {"verdict": None},
        {"exits": "abc" * 20},
        {"exits": 7},
        {"codes": [1]},
        {"codes": ["x"] * 33},
        {"profile": "x" * 201},
    ],
)
def test_well_signed_nonsense(changes):
    assert read_report(signed(), NAMES.get).number == 3
    with pytest.raises(Malformed):
        read_report(signed(**changes), NAMES.get)


@given(st.binary(max_size=200) | st.integers(0, len(SIGNED)).map(lambda at: SIGNED[:at]))
def test_arbitrary_octets(data):
    try:
        read_report(data, NAMES.get)
    except BurrowError:
        return
    assert data == SIGNED


def test_the_newest_counts(tmp_path, authority):
    """What comes again, or late, is answered like the first and changes nothing; nothing else is kept."""
    served = Served(tmp_path, authority)
    served.known = NAMES
    old, new = (
        sign_report(replace(REPORT, number=number, verdict=verdict), CURLEW)
        for number, verdict in ((4, "unclear"), (5, "leaking"))
    )
    answers = served.talk(*(("POST", "/r", one) for one in (SIGNED, new, old, SIGNED, new)))
    assert [one[0] for one in answers] == [200] * 5
    kept = served.store.fleet.reports()
    assert (kept["curlew"].number, kept["curlew"].verdict) == (5, "leaking") and len(kept) == 1
    bad = (sign_report(REPORT, STRANGER), b"{}", b"x" * 20_000)
    assert [one[0] for one in served.talk(*(("POST", "/r", one) for one in bad))] == [403, 400, 413]
    assert served.store.fleet.reports() == kept
    (row,) = standings([Device("curlew", "laptop")], [Rule(1, "lisbon")], {"lisbon": "1"}, {}, served_now(), kept)
    assert row.state is DeviceState.LEAKING and row.why == "ipv6-block" and row.is_left
    served.store.close()


def test_a_device_that_was_set_up_again(tmp_path, authority):
    """With another key it counts from one again; with the same it does not."""
    served = Served(tmp_path, authority)
    fleet = served.store.fleet
    one = Device("curlew", "laptop", key=CURLEW.public(DEVICE).text)
    fleet.put_devices([one])
    assert fleet.note_report(REPORT) and not fleet.note_report(replace(REPORT, number=1))
    fleet.put_devices([], [replace(one, owner="Marit Aune")])
    assert not fleet.note_report(replace(REPORT, number=1))
    fleet.put_devices([], [replace(one, key=STRANGER.public(DEVICE).text)])
    assert fleet.reports() == {} and fleet.note_report(replace(REPORT, number=1))
    served.store.close()


def served_now():
    from datetime import UTC, datetime

    return datetime(2026, 11, 28, 12, tzinfo=UTC)


def test_the_server_dies_in_the_middle(tmp_path, authority):
    """Many at once; the server is killed and started again: what was answered is kept, the rest comes again."""
    zesty = Program(tmp_path / "home")
    devices = {f"d{number:02}": OwnKeys(make_secret()) for number in range(24)}
    (tmp_path / "d.csv").write_text("name,kind\n" + "".join(f"{name},laptop\n" for name in devices))
    assert zesty("devices", "import", tmp_path / "d.csv").code == 0
    for name, own in devices.items():
        (tmp_path / "key").write_text(own.public(DEVICE).text + "\n")
        assert zesty("devices", "change", name, "--key", tmp_path / "key").code == 0
    write_certificate((tmp_path / "c.pem", tmp_path / "k.pem"), authority, "localhost")

    def serve(port):
        line = [PROGRAM, "links", "serve", "--address", "127.0.0.1", "--port", str(port)]
        line += ["--certificate", tmp_path / "c.pem", "--key", tmp_path / "k.pem"]
        running = subprocess.Popen(line, env=zesty.environment, stderr=subprocess.PIPE, text=True)
        return running, int(re.search(r"port (\d+)", running.stderr.readline()).group(1))

    server, port = serve(0)
    url, pem = f"https://localhost:{port}/", authority.pem().decode()

    def report(name):
        data, again = sign_report(replace(REPORT, number=1), devices[name]), 0
        while True:
            try:
                send_report(url, pem, data, 5)
                return again
            except Unsent:
                again += 1
                time.sleep(0.1)

    with concurrent.futures.ThreadPoolExecutor(16) as crowd:
        begun = [crowd.submit(report, name) for name in devices]
        while not any(one.done() for one in begun):
            time.sleep(0.005)
        server.kill()
        server.communicate(timeout=20)
        server, _ = serve(port)
        again = [one.result(60) for one in begun]
    try:
        assert sum(again) > 0
        rows = zesty("--json", "devices", "list").json["devices"]
        assert {row["name"] for row in rows if row["report"]} == set(devices)
        # A device whose clock is fast: the time of the server stands in the list.
        send_report(
            url, pem, sign_report(replace(REPORT, number=2, taken_at="2099-01-01T00:00:00Z"), devices["d00"]), 5
        )
        row = zesty("--json", "devices", "list", "d00").json["devices"][0]
        assert row["report"]["taken_at"] < "2099"
        with pytest.raises(Refused):
            send_report(url, pem, sign_report(REPORT, STRANGER), 5)
        with pytest.raises(Unsent, match="unable to get local issuer certificate"):
            send_report(url, "", SIGNED, 5)
    finally:
        server.terminate()
        assert "Traceback" not in server.communicate(timeout=20)[1]


def test_nobody_wants_reports(tmp_path):
    ended = Program(tmp_path / "home")("report")
    assert ended.code == 4 and "hand-over … --report URL" in ended.text
