"""The observatory as an administrator would run it herself, asked by programs that are not ours."""

from __future__ import annotations

import http.client
import json
import signal
import socket
import ssl
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from pathlib import Path

import dns.message
import dns.query
import pytest
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from independent.certificates import Issuer, make_key, name
from support import until
from zesty_burrow.core.outside import stun

PROGRAM = str(Path(sys.executable).with_name("zesty"))


def free_port():
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


class Running:
    """An observatory on loopback, with a geofeed of its own; ``ports`` by name."""

    def __init__(self, folder, *more):
        self.folder = folder
        (folder / "geofeed.csv").write_text("127.0.0.0/8,NO,NO-55,Tromsø,\n::1/128,NO,NO-55,Tromsø,\n")
        (folder / "operators.csv").write_text("127.0.0.0/8,Tidewrack Survey\n")
        self.ports = {name: free_port() for name in ("http", "https", "dns", "stun", "metrics")}
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
        words += ["--metrics", f"127.0.0.1:{self.ports['metrics']}", "--access-log", str(folder / "access.log"), *more]
        for kind in ("http", "https", "dns", "stun"):
            words += [f"--{kind}-port", str(self.ports[kind])]
        self.process = subprocess.Popen(words, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        assert "Listening on 127.0.0.1, ::1" in self.process.stderr.readline()

    def __getitem__(self, name):
        return self.ports[name]

    def metric(self, name):
        """A value of the OpenMetrics text."""
        text, headers = get(self["metrics"], "/metrics")
        assert headers["Content-Type"].startswith("application/openmetrics-text; version=1.0.0")
        assert text.endswith("# EOF\n")
        return float(next(line.rsplit(" ", 1)[1] for line in text.splitlines() if line.startswith(name)))

    def stop(self):
        self.process.terminate()
        out, err = self.process.communicate(timeout=20)
        assert self.process.returncode == 0 and "Traceback" not in err, err
        return out, err


@pytest.fixture(scope="module")
def observatory(tmp_path_factory):
    made = Running(tmp_path_factory.mktemp("observatory"))
    yield made
    made.stop()


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


def test_echoes_are_remembered_by_their_token(observatory):
    """An ICMP echo request of an independent library; the kernel answers it, the observatory tells its source."""
    from scapy.all import IP, raw
    from scapy.layers.inet import ICMP

    token = "0123456789abcdef01234567"
    with socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP) as channel:
        for payload in (b"observe " + token.encode(), b"observe " + b"x" * 24, b"other"):
            packet = IP(src="127.0.0.1", dst="127.0.0.1") / ICMP(id=9, seq=1) / payload
            channel.sendto(raw(IP(raw(packet))[ICMP]), ("127.0.0.1", 0))
    until(lambda: json.loads(get(observatory["http"], f"/v1/echoes/{token}")[0])["sources"])
    (row,) = json.loads(get(observatory["http"], f"/v1/echoes/{token.upper()}")[0])["sources"]
    assert (row["address"], row["operator"]) == ("127.0.0.1", "Tidewrack Survey")
    assert json.loads(get(observatory["http"], f"/v1/echoes/{'x' * 24}")[0])["sources"] == []


def test_it_connects_back_to_the_caller_alone(observatory):
    """With the caller's word; a port that nobody has is no error; a low one, or nonsense, is refused."""
    with socket.create_server(("127.0.0.1", 0)) as listener:
        listener.settimeout(5)
        port = listener.getsockname()[1]
        answer = json.loads(get(observatory["http"], f"/v1/inbound/{port}?nonce=word")[0])
        channel, (address, _) = listener.accept()
        with channel:
            assert channel.recv(100) == b"observatory-inbound word\n"
    assert (answer["connected"], answer["port"], answer["address"], address) == (True, port, "127.0.0.1", "127.0.0.1")
    assert json.loads(get(observatory["http"], f"/v1/inbound/{port}?nonce=word")[0])["connected"] is False
    for wrong in ("22", "0", "65536", "99999999999", "x", "", "1024/x", "١٠٢٤"):
        with pytest.raises(urllib.error.HTTPError) as caught:
            get(observatory["http"], f"/v1/inbound/{urllib.parse.quote(wrong)}?nonce=word")
        assert caught.value.code == 400
        caught.value.close()
    for nonce in ("", "two words", "a\r\nb", "x" * 65, "é"):
        with pytest.raises(urllib.error.HTTPError) as caught:
            get(observatory["http"], f"/v1/inbound/{port}?nonce={urllib.parse.quote(nonce)}")
        assert caught.value.code == 400
        caught.value.close()


def test_what_arrived_of_a_request(observatory):
    with socket.create_connection(("127.0.0.1", observatory["http"]), 5) as channel:
        channel.sendall(b"GET /v1/request?a=b HTTP/1.1\r\nhost: x\r\nX-One: two\r\nConnection: close\r\n\r\n")
        answer = b"".join(iter(lambda: channel.recv(4096), b""))
    told = json.loads(answer.partition(b"\r\n\r\n")[2])
    assert told["fields"] == [["host", "x"], ["X-One", "two"], ["Connection", "close"]]
    assert (told["target"], told["version"], told["address"]) == ("/v1/request?a=b", "1.1", "127.0.0.1")


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
    told = json.loads(get(observatory["http"], "/v1")[0])
    credential = told.pop("stun_credential")
    assert set(credential) == {"username", "password"} and credential["password"]
    assert told.pop("probe_answers") == ["127.0.0.1", "::1"]
    assert told == {
        "format": 1, "probe_zone": "probe.observatory.example", "stun_port": observatory["stun"],
        "ipv4_host": "ipv4.observatory.example", "ipv6_host": "ipv6.observatory.example",
        "http_port": observatory["http"], "inbound": True, "echo": True,
    }  # fmt: skip


def test_many_callers_at_once(observatory):
    """A hundred and twenty callers of one address at once are all served."""
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


def test_slow_connections_keep_nobody_out(observatory):
    """128 that send an octet every two seconds: others are served as quickly as ever, and the slow ones are closed."""
    slow = [socket.create_connection(("127.0.0.1", observatory["http"])) for _ in range(128)]
    slow += [socket.create_connection(("127.0.0.1", observatory["dns"])) for _ in range(64)]
    closed = set()
    try:
        for octet in b"GET /v1":
            for one in slow:
                try:
                    one.send(bytes([octet]))
                except OSError:
                    closed.add(one)
            began = time.monotonic()
            assert json.loads(get(observatory["http"], "/v1/address")[0])["address"] == "127.0.0.1"
            query = dns.message.make_query("n1.slow.probe.observatory.example", "A")
            assert dns.query.tcp(query, "127.0.0.1", timeout=5, port=observatory["dns"]).answer
            assert time.monotonic() - began < 5
            time.sleep(2)
        assert len(closed) == len(slow)
    finally:
        for one in slow:
            one.close()


def test_many_requests_on_one_connection(observatory):
    """It is kept open between them; HEAD has no body; another method is refused."""
    link = http.client.HTTPConnection("127.0.0.1", observatory["http"], timeout=5)
    for method, status in (("GET", 200), ("HEAD", 200), ("POST", 405), ("GET", 200)):
        link.request(method, "/v1")
        answer = link.getresponse()
        assert (answer.status, bool(answer.read())) == (status, method != "HEAD")
    link.close()


def test_too_many_requests(tmp_path):
    """Of one source only so many a second; the caller is told when to come again."""
    made = Running(tmp_path, "--requests-a-second", "5")
    link = http.client.HTTPConnection("127.0.0.1", made["http"], timeout=5)
    codes = []
    for _ in range(40):
        link.request("GET", "/v1")
        answer = link.getresponse()
        answer.read()
        codes.append(answer.status)
    assert codes[:20] == [200] * 20 and codes.count(429) >= 15
    assert answer.headers["Retry-After"] == "1"
    assert made.metric("observatory_limited_requests_total") == codes.count(429)
    assert json.loads(get(made["http"], "/v1", "[::1]")[0])["format"] == 1
    link.close()
    made.stop()


def test_metrics_and_the_access_log(tmp_path):
    """What was asked is counted by kind, and written down as a line of JSON each."""
    made = Running(tmp_path)
    get(made["http"], "/v1/address")
    with pytest.raises(urllib.error.HTTPError) as caught:
        get(made["http"], "/nothing?x=\x22")
    caught.value.close()
    dns.query.udp(
        dns.message.make_query("n1.run.probe.observatory.example", "A"), "127.0.0.1", timeout=5, port=made["dns"]
    )
    assert made.metric('observatory_requests_total{status="200"}') == 1
    assert made.metric('observatory_requests_total{status="404"}') == 1
    assert made.metric('observatory_questions_total{transport="UDP"}') == 1
    assert made.metric("observatory_runs") == 1
    with pytest.raises(urllib.error.HTTPError) as caught:
        get(made["metrics"], "/v1/address")
    caught.value.close()
    made.stop()
    rows = [json.loads(line) for line in (tmp_path / "access.log").read_text().splitlines()]
    assert [(row["method"], row["path"], row["status"], row["source"]) for row in rows] == [
        ("GET", "/v1/address", 200, "127.0.0.1"), ("GET", "/nothing", 404, "127.0.0.1"),
    ]  # fmt: skip
    assert rows[0]["octets"] > 50 and rows[0]["time"].endswith("Z")
    assert (tmp_path / "access.log").stat().st_mode & 0o777 == 0o640


def certificate(folder, common):
    """A certificate for loopback, in the files that the observatory was given."""
    issuer = Issuer(name(f"Authority of {common}"))
    key = make_key()
    (folder / "key.pem").write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    der = issuer.issue(key, name(common), "localhost")
    (folder / "certificate.pem").write_text(ssl.DER_cert_to_PEM_cert(der))
    return issuer.pem


def shown(port, authority):
    """Who the server says it is, to a client that trusts one authority."""
    context = ssl.create_default_context(cadata=authority)
    channel = socket.create_connection(("127.0.0.1", port), timeout=5)
    with context.wrap_socket(channel, server_hostname="localhost") as secure:
        secure.send(b"GET /v1/address HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
        answer = b"".join(iter(lambda: secure.recv(4096), b""))
        assert b'"address": "127.0.0.1"' in answer
        return dict(row[0] for row in secure.getpeercert()["subject"])["commonName"]


def test_https_with_a_certificate_that_changes(tmp_path):
    """Served over TLS; another certificate in the same files is used after SIGHUP, without a restart; a bad one is not."""
    first = certificate(tmp_path, "first")
    files = ["--certificate", str(tmp_path / "certificate.pem"), "--key", str(tmp_path / "key.pem")]
    made = Running(tmp_path, *files)
    assert shown(made["https"], first) == "first"
    second = certificate(tmp_path, "second")
    made.process.send_signal(signal.SIGHUP)
    time.sleep(0.5)
    assert shown(made["https"], second) == "second"
    (tmp_path / "certificate.pem").write_text("nothing")
    made.process.send_signal(signal.SIGHUP)
    time.sleep(0.5)
    assert shown(made["https"], second) == "second"
    assert "the old one stays" in made.stop()[1]


def test_certificate_files_that_cannot_be_used(tmp_path):
    """Told at the start, with what is needed."""
    certificate(tmp_path, "first")
    words = [PROGRAM, "--json", "observatory", "serve", "--zone", "x.example", "--address", "127.0.0.1"]
    for more, code in (
        (["--certificate", str(tmp_path / "certificate.pem")], 2),
        (["--certificate", str(tmp_path / "certificate.pem"), "--key", str(tmp_path / "none.pem")], 3),
        (["--metrics", "somewhere"], 2),
    ):
        ended = subprocess.run([*words, *more], capture_output=True, text=True, timeout=20)
        assert ended.returncode == code and "Traceback" not in ended.stderr, ended.stderr
        assert json.loads(ended.stdout)["next_step"]


def test_it_stops_gracefully(tmp_path):
    """A connection that is kept open does not hold it up; a request in flight is answered."""
    made = Running(tmp_path)
    link = http.client.HTTPConnection("127.0.0.1", made["http"], timeout=5)
    link.request("GET", "/v1")
    assert link.getresponse().read()
    began = time.monotonic()
    made.stop()
    assert time.monotonic() - began < 10
    link.close()
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", made["http"]), timeout=2)
