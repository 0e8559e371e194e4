"""A device that asks to be in the list, is compared by its code, and fetches what waits for it."""

from __future__ import annotations

import http.server
import json
import re
import ssl
import subprocess
import sys
import threading
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from commands.conftest import Program
from commands.test_editions import talk
from fleet.test_link import Served
from support import AUTHORITY, PASSWORD
from zesty_burrow.errors import Malformed, StateError
from zesty_burrow.fleet.enrolment import ask, read_ask, read_taken, say_taken
from zesty_burrow.fleet.https_client import ask_server
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, make_secret, pickup_name, read_key
from zesty_burrow.lab.authority import write_certificate
from zesty_burrow.lab.kit import kit_archive, kit_files

PROGRAM = str(Path(sys.executable).with_name("zesty"))
BOX, STRANGER = OwnKeys(make_secret()), OwnKeys(make_secret())
ASKED = ask(BOX, "shearwater", "box")


def test_messages():
    """Signed by the device's own key; one cannot stand for the other."""
    assert read_ask(ASKED) == (BOX.public(DEVICE), "shearwater", "box")
    assert read_taken(say_taken(BOX, 7)) == (BOX.public(DEVICE), 7)
    forged = {**json.loads(ASKED), "device": STRANGER.public(DEVICE).text}
    for data in (json.dumps(forged).encode(), say_taken(BOX, 7), b"[]", b"x" * 3000, ASKED[:-9]):
        with pytest.raises(Malformed):
            read_ask(data)
    for data in (ASKED, say_taken(BOX, 0), say_taken(BOX, 1 << 63)):
        with pytest.raises(Malformed):
            read_taken(data)


@pytest.mark.parametrize(
    ("name", "kind"), [("<b>", "box"), ("../x", "box"), ("a\x1b[2J", "box"), ("a", "teapot"), ("", "box")]
)
def test_names_that_cannot_be(name, kind):
    with pytest.raises(Malformed):
        read_ask(ask(BOX, name, kind))


@given(st.binary(max_size=100) | st.integers(0, len(ASKED)).map(lambda at: ASKED[:at]))
def test_arbitrary_octets(data):
    for read in (read_ask, read_taken):
        try:
            read(data)
        except Malformed:
            continue
        assert data == ASKED and read is read_ask


def test_the_server_s_part(tmp_path, authority):
    """What waits is fetched by who knows the key, until it says that it has it; a stranger's word changes nothing."""
    served = Served(tmp_path, authority)
    kept = served.store.fleet.enrolments
    name = pickup_name(BOX.public(DEVICE))
    kept.leave(name, "shearwater", 7, b"sealed")
    answers = served.talk(
        ("POST", "/e", ASKED), ("POST", "/e", ASKED), ("POST", "/e", b"{}"), ("POST", "/e", b"x" * 3000),
        ("GET", f"/p/{name}"), ("GET", "/p/" + "0" * 64), ("POST", "/p", say_taken(STRANGER, 7)),
        ("POST", "/p", say_taken(BOX, 6)), ("GET", f"/p/{name}"), ("POST", "/p", say_taken(BOX, 7)),
        ("GET", f"/p/{name}"), ("GET", "/e"), ("POST", f"/p/{name}", b""),
    )  # fmt: skip
    assert [one[0] for one in answers] == [200, 200, 400, 413, 200, 404, 200, 200, 200, 200, 404, 404, 404]
    assert answers[4][2] == answers[8][2] == b"sealed"
    # What is said of an older bundle is no word of the one that waits.
    assert served.heard == ["shearwater"]
    (row,) = kept.waiting()
    assert (row.name, row.kind, row.key) == ("shearwater", "box", BOX.public(DEVICE).text)
    for number in range(600):
        kept.note(row.__class__(f"k{number}", "n", "box", f"2026-11-28T{number:06}"))
    assert len(kept.waiting()) == 500
    served.store.close()


def test_a_store_that_is_away(tmp_path, authority):
    """Nothing is lost: the device and the page are told to ask again, and the administrator why."""
    served = Served(tmp_path, authority)
    kept = served.store.fleet.enrolments
    name = pickup_name(BOX.public(DEVICE))

    class Full(list):
        def append(self, device):
            raise StateError("the disk is full")

    served.heard = Full()
    kept.leave(name, "shearwater", 7, b"sealed")
    ((status, headers, body),) = served.talk(("POST", "/p", say_taken(BOX, 7)))
    assert (status, json.loads(body), served.problems) == (503, {"error": "not at the moment"}, ["the disk is full"])
    assert headers["Content-Security-Policy"]
    served.heard = []
    answers = served.talk(("GET", f"/p/{name}"), ("POST", "/p", say_taken(BOX, 7)), ("GET", f"/p/{name}"))
    assert [one[0] for one in answers] == [200, 200, 404]
    served.store.close()


@pytest.fixture
def served(tmp_path):
    """The administrator's program, which serves; ``url`` and ``ca``: for the box."""
    zesty = Program(tmp_path / "home")
    (tmp_path / "kit.zip").write_bytes(kit_archive(kit_files(AUTHORITY.pem(), PASSWORD)))
    assert zesty("import", tmp_path / "kit.zip").code == 0
    write_certificate((tmp_path / "c.pem", tmp_path / "k.pem"), AUTHORITY, "localhost")
    (tmp_path / "ca.pem").write_bytes(AUTHORITY.pem())
    line = [PROGRAM, "links", "serve", "--address", "127.0.0.1", "--port", "0"]
    line += ["--certificate", tmp_path / "c.pem", "--key", tmp_path / "k.pem"]
    with subprocess.Popen(line, env=zesty.environment, stderr=subprocess.PIPE, text=True) as server:
        port = int(re.search(r"port (\d+)", server.stderr.readline()).group(1))
        zesty.server = (f"https://localhost:{port}", "--authority", tmp_path / "ca.pem")
        yield zesty
        server.terminate()
        assert "Traceback" not in server.communicate(timeout=20)[1]


def test_a_box_without_a_keyboard(served, tmp_path):
    """It asks; one code is compared; what waits for it is fetched once its owner has agreed; the list says so."""
    box = Program(tmp_path / "box")
    shown = box("--json", "enrol", "--name", "shearwater", "--kind", "box", "--to", *served.server).json
    (row,) = served("--json", "devices", "enrolments").json["enrolments"]
    assert (row["name"], row["kind"], row["code"]) == ("shearwater", "box", shown["code"])
    wrong = served("devices", "accept", "AAAA-BBBB-CCCC-DDDD-EEEE")
    assert wrong.code == 4 and served("--json", "devices", "list").json["devices"] == []
    # With --json nobody is asked, also on a terminal: the code has to be given.
    code, seen = talk(served, ("--json", "devices", "accept"), [])
    assert code == 4 and "y or n" not in seen and '"code": "not-found"' in seen, seen
    code, seen = talk(served, ("devices", "accept", "--client", "program", "--owner", "Ada"), [("y or n [n]", "y\n")])
    assert code == 0 and shown["code"] in seen and "Taken into the list: shearwater" in seen
    assert served("--json", "devices", "enrolments").json["enrolments"] == []
    served("devices", "assign", "lisbon")
    assert box("receive", "--from", *served.server).text.split()[-1] == "not-found"
    (made,) = served("--json", "hand-over", "shearwater", "--pickup").json["devices"]
    assert (made["form"], made["state"]) == ("pickup", "handed over")
    assert box("--json", "receive", "--from", *served.server).json["state"] == "waiting"
    (row,) = served("--json", "devices", "list").json["devices"]
    assert (row["state"], row["why"]) == ("not confirmed", "waits to be fetched")
    code, seen = talk(box, ("receive", "--from", *served.server), [("Take them? y or n [n]", "y\n")])
    assert code == 0 and "Imported: quillwort-lisbon" in seen
    (row,) = served("--json", "devices", "list").json["devices"]
    assert row["state"] == "in date" and row["owner"] == "Ada"
    assert box("receive", "--from", *served.server).text.split()[-1] == "not-found"


class Deaf(http.server.BaseHTTPRequestHandler):
    """Hands a bundle out, and takes no word that it has arrived."""

    def do_GET(self):
        self.send_response(200)
        self.end_headers()
        self.wfile.write(self.server.bundle)

    def do_POST(self):
        self.send_error(503)

    def log_message(self, *_):
        pass


def test_a_confirmation_that_is_not_heard(served, tmp_path):
    """What is imported is imported, and said so; the same command again confirms it."""
    box = Program(tmp_path / "box")
    code = box("--json", "enrol", "--name", "shearwater", "--to", *served.server).json["code"]
    served("devices", "accept", code)
    served("devices", "assign", "lisbon")
    served("hand-over", "shearwater", "--pickup")
    key = read_key(box("--json", "enrol").json["key"], DEVICE)
    _, bundle = ask_server("GET", f"{served.server[0]}/p/{pickup_name(key)}", AUTHORITY.pem().decode(), None, 5)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "c.pem", tmp_path / "k.pem")
    with http.server.HTTPServer(("127.0.0.1", 0), Deaf) as deaf:
        deaf.bundle, deaf.socket = bundle, context.wrap_socket(deaf.socket, server_side=True)
        threading.Thread(target=deaf.serve_forever, daemon=True).start()
        words = ("receive", "--from", f"https://localhost:{deaf.server_port}", *served.server[1:], "--agree")
        ended = box(*words)
        deaf.shutdown()
    assert ended.code == 0 and "the server could not be informed: HTTP status 503" in ended.text
    assert [row["name"] for row in box("--json", "list").json["profiles"]] == ["quillwort-lisbon"]
    assert served("--json", "devices", "list").json["devices"][0]["state"] == "not confirmed"
    again = box("--json", "receive", "--from", *served.server)
    assert again.json["state"] == "imported" and "imported before" in again.out
    assert served("--json", "devices", "list").json["devices"][0]["state"] == "in date"


def test_another_device_of_that_name(served, tmp_path):
    """It does not take the place of the one in the list."""
    first, second = Program(tmp_path / "first"), Program(tmp_path / "second")
    for one in (first, second):
        one("enrol", "--name", "shearwater", "--to", *served.server)
    codes = [row["code"] for row in served("--json", "devices", "enrolments").json["enrolments"]]
    assert served("devices", "accept", codes[0].lower().replace("-", " ")).code == 0
    refused = served("devices", "accept", codes[1])
    assert refused.code == 4 and "there is a device shearwater already" in refused.text.lower()
    third = Program(tmp_path / "third")
    third("enrol", "--name", "dunlin", "--to", *served.server)
    code, seen = talk(served, ("devices", "accept"), [("y or n [n]", "y\n"), ("y or n [n]", "y\n")])
    assert "shearwater, workstation, asked" in seen and "dunlin, workstation, asked" in seen
    assert code == 0 and "Not taken: there is a device shearwater already" in " ".join(seen.split())
    assert "Taken into the list: dunlin" in seen


def test_a_server_that_is_none(tmp_path, served):
    """Told; the key is made all the same, and nothing is asked of who does not prove to be the server."""
    box = Program(tmp_path / "box")
    unproven = box("enrol", "--to", served.server[0])
    assert unproven.text.split()[-1] == "server-not-reached" and "does not prove who it is" in unproven.text
    assert "--authority FILE" in unproven.text and "_ssl" not in unproven.text
    assert box("enrol", "--to", "http://localhost").code == 2
    assert served("--json", "devices", "enrolments").json["enrolments"] == []
    assert box("receive", "--from", "https://localhost:1", "--timeout", "2").text.split()[-1] == "server-not-reached"
