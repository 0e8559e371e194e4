"""The observatory as an administrator would run it herself, asked by programs that are not ours."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import threading
import urllib.error
import urllib.request
from pathlib import Path

import dns.message
import dns.query
import pytest

from zesty_burrow.core import stun

PROGRAM = str(Path(sys.executable).with_name("zesty"))


def free_port():
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


@pytest.fixture(scope="module")
def observatory(tmp_path_factory):
    """An observatory on loopback, with a geofeed of its own."""
    folder = tmp_path_factory.mktemp("observatory")
    (folder / "geofeed.csv").write_text("127.0.0.0/8,NO,NO-55,Tromsø,\n::1/128,NO,NO-55,Tromsø,\n")
    (folder / "operators.csv").write_text("127.0.0.0/8,Tidewrack Survey\n")
    ports = {name: free_port() for name in ("http", "dns", "stun")}
    words = [
        PROGRAM,
        "observatory",
        "serve",
        "--zone",
        "observatory.example",
        "--address",
        "127.0.0.1",
        "--address",
        "::1",
    ]
    words += ["--geofeed", str(folder / "geofeed.csv"), "--operators", str(folder / "operators.csv")]
    for name, port in ports.items():
        words += [f"--{name}-port", str(port)]
    running = subprocess.Popen(words, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert "Listening on 127.0.0.1, ::1" in running.stderr.readline()
    yield ports
    running.terminate()
    running.communicate(timeout=20)
    assert running.returncode == 0


def get(port, path, host="127.0.0.1", **headers):
    request = urllib.request.Request(f"http://{host}:{port}{path}", headers=headers)
    with urllib.request.urlopen(request, timeout=5) as answer:
        return answer.read().decode(), answer.headers


def test_the_callers_address(observatory):
    """As JSON and as CSV, over IPv4 and IPv6, with operator, country and city."""
    document = json.loads(get(observatory["http"], "/v1/address")[0])
    assert document == {
        "format": 1, "address": "127.0.0.1", "operator": "Tidewrack Survey", "country": "NO", "region": "NO-55",
        "city": "Tromsø",
    }  # fmt: skip
    assert json.loads(get(observatory["http"], "/v1/address", "[::1]")[0])["address"] == "::1"
    for path, headers in (("/v1/address?format=csv", {}), ("/v1/address", {"Accept": "text/csv"})):
        text, answered = get(observatory["http"], path, **headers)
        assert text.splitlines() == [
            "address,operator,country,region,city",
            "127.0.0.1,Tidewrack Survey,NO,NO-55,Tromsø",
        ]
        assert answered["Content-Type"].startswith("text/csv")
        assert answered["Cache-Control"] == "no-store"


def test_one_time_names(observatory):
    """Over UDP and TCP, IPv4 and IPv6: who asked for which name of a run is remembered, and of that run only."""
    name = "n1-x.r4nd0m.probe.observatory.example"
    query = dns.message.make_query(name, "A")
    for where in ("127.0.0.1", "::1"):
        for ask in (dns.query.udp, dns.query.tcp):
            response = ask(query, where, timeout=5, port=observatory["dns"])
            assert [str(row) for row in response.answer[0]] == ["127.0.0.1"]
    rows = json.loads(get(observatory["http"], "/v1/names/r4nd0m")[0])["questions"]
    assert {(row["resolver"], row["transport"]) for row in rows} == {
        ("127.0.0.1", "UDP"), ("127.0.0.1", "TCP"), ("::1", "UDP"), ("::1", "TCP")
    }  # fmt: skip
    assert {row["name"] for row in rows} == {name}
    assert rows[0]["operator"] == "Tidewrack Survey"
    assert json.loads(get(observatory["http"], "/v1/names/another")[0])["questions"] == []


def test_stun(observatory):
    """RFC 8489: a Binding request of an independent library is answered with the socket's own address."""
    from scapy.contrib.stun import STUN

    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
        channel.settimeout(5)
        channel.connect(("127.0.0.1", observatory["stun"]))
        channel.send(bytes(STUN(stun_message_type=1, transaction_id=77)))
        answer = STUN(channel.recv(2048))
        assert answer.stun_message_type == 0x0101
        assert answer.transaction_id == 77
        mapped = answer.attributes[0]
        assert (mapped.xip, mapped.xport) == channel.getsockname()
        ours, transaction = stun.binding_request(lambda size: bytes(size))
        channel.send(ours)
        assert stun.read_response_untrusted(channel.recv(2048), transaction) == channel.getsockname()


def test_other_paths_and_bad_callers(observatory):
    """Unknown paths are answered with 404; nonsense on any port, and half a request, leave the server well."""
    with pytest.raises(urllib.error.HTTPError) as caught:
        get(observatory["http"], "/admin")
    assert caught.value.code == 404
    caught.value.close()
    for port, kind in ((observatory["http"], socket.SOCK_STREAM), (observatory["dns"], socket.SOCK_STREAM),
                       (observatory["dns"], socket.SOCK_DGRAM), (observatory["stun"], socket.SOCK_DGRAM)):  # fmt: skip
        with socket.socket(socket.AF_INET, kind) as channel:
            channel.connect(("127.0.0.1", port))
            channel.send(b"\xff\xff" * 40)
    assert json.loads(get(observatory["http"], "/v1")[0]) == {
        "format": 1, "probe_zone": "probe.observatory.example", "stun_port": observatory["stun"]
    }  # fmt: skip


def test_many_callers_at_once(observatory):
    """A hundred and twenty callers at once are all served, though only sixty-four at a time."""
    answers = []

    def call():
        answers.append(json.loads(get(observatory["http"], "/v1/address")[0])["address"])

    threads = [threading.Thread(target=call) for _ in range(120)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    assert answers == ["127.0.0.1"] * 120


def test_a_port_in_use(observatory):
    """An address that cannot be listened on is told with what to do, exit code 5."""
    ended = subprocess.run(
        [PROGRAM, "--json", "observatory", "serve", "--zone", "x.example", "--address", "127.0.0.1",
         "--http-port", str(observatory["http"]), "--dns-port", str(free_port()), "--stun-port", str(free_port())],
        capture_output=True, text=True, timeout=20,
    )  # fmt: skip
    assert ended.returncode == 5
    assert "in use" in json.loads(ended.stdout)["why"]
