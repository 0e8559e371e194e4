"""The data path with the real program and a real gateway in two namespaces: what comes out is what went in.

The wires are those of the benchmark; on the rough one frames are lost, delayed, repeated and forged.
"""

from __future__ import annotations

import ipaddress
import json
import os
import shutil
import signal
import sys
import time
from pathlib import Path

import pytest
from bench.datapath.far_end import PLACE
from bench.datapath.wires import wires

from lab.test_capture import analyse
from rotation import marks_of, on_day
from zesty_burrow.carrier.data_path.options import CAN_BE_DISABLED, FAST_PATH, OFFLOADS
from zesty_burrow.carrier.fast_path.switch import COMPILED, DISABLED

pytestmark = pytest.mark.lab
FAR4, FAR6 = f"{PLACE.pool4}1", f"{PLACE.pool6}1"
SOME = 24 << 20

ECHO = """
import socket, sys
family = socket.AF_INET6 if ":" in sys.argv[1] else socket.AF_INET
here = socket.socket(family, socket.SOCK_DGRAM)
level, option = (41, 66) if family == socket.AF_INET6 else (0, 13)
here.setsockopt(level, option, 1)
here.setsockopt(1, 33, 4 << 20)
here.bind((sys.argv[1], 7000))
print("ready", flush=True)
while True:
    data, marks, _, source = here.recvmsg(65535, 100)
    here.sendto(bytes([marks[0][2][0]]) + data, source)
"""
"""Sends every datagram back, with the traffic class that it came with before it."""

ASK = """
import os, socket, sys
family = socket.AF_INET6 if ":" in sys.argv[1] else socket.AF_INET
level, option = (41, 67) if family == socket.AF_INET6 else (0, 1)
here = socket.socket(family, socket.SOCK_DGRAM)
here.setsockopt(1, 33, 4 << 20)
here.connect((sys.argv[1], 7000))
here.settimeout(5)
right = 0
for number, size in enumerate([*range(0, 1372, 7), *range(1330, 1372), 2000, 9000, 30000]):
    data, mark = os.urandom(size), number % 3
    here.setsockopt(level, option, mark)
    here.send(data)
    answer = here.recv(65535)
    right += answer == bytes([mark]) + data
    if answer != bytes([mark]) + data:
        print("size", size, "came back as", len(answer), answer[:1].hex(), file=sys.stderr)
for size in (0, 1, 700, 1371):
    # Many at once, so that they go in batches; sums of zero and of all ones among them.
    sent = {bytes([index % 256, index // 256][:size]) + (b"\\0" if index % 2 else b"\\xff") * (size - 2)
            for index in range(200)}
    for data in sent:
        here.send(data)
    came = set()
    while len(came) < len(sent):
        came.add(here.recv(65535)[1:])
    right += came == sent
print(right)
"""


def memory(process):
    """Octets that a process holds."""
    return int(Path(f"/proc/{process}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def inner(made, version):
    return next(one for one in made.status()["addresses"] if ipaddress.ip_address(one).version == version)


def carried(made, octets, version=4):
    """One TCP connection each way; every octet of both came."""
    far = FAR4 if version == 4 else FAR6
    for back in ("", inner(made, version)):
        sent, received = made.carry(far, octets, back=back)
        assert sent == received and sent.startswith(f"{octets} ")


@pytest.mark.parametrize(
    "without",
    [
        (),
        tuple(CAN_BE_DISABLED),
        *[pytest.param((one,), marks=pytest.mark.soak) for one in CAN_BE_DISABLED],
        pytest.param(tuple(OFFLOADS), marks=pytest.mark.soak),
    ],
    ids=lambda names: "+".join(names) or "nothing",
)
def test_with_something_missing(tmp_path, without):
    """TCP and UDP of both families, every size; the far kernel has verified every checksum. ECN arrives as it went."""
    with wires(tmp_path) as made:
        made.ours(without)
        status = made.status()
        assert status["offloads"] == [one for one in OFFLOADS if one not in without] and status["mtu"] == 1400
        expected = DISABLED if FAST_PATH in without else COMPILED
        assert made.warm_up(FAR4) == (expected, expected)
        for version, far in ((4, FAR4), (6, FAR6)):
            carried(made, SOME if not without else SOME // 4, version)
            echo = made.far.start(sys.executable, "-c", ECHO, far, stdout=-1)
            assert echo.stdout.readline() == "ready\n"
            assert int(made.near.run(sys.executable, "-c", ASK, far)) == 245
            echo.terminate()
            echo.wait()
        status = made.status()
        assert status["rejected"] == 0 and status["packets_in"] > 5000
        sums = made.far.run("cat", "/proc/net/snmp") + made.near.run("cat", "/proc/net/snmp")
        for kind in ("Tcp", "Udp"):
            rows = [line.split() for line in sums.splitlines() if line.startswith(f"{kind}:")]
            for names, values in zip(rows[::2], rows[1::2], strict=True):
                assert dict(zip(names, values, strict=True))["InCsumErrors"] == "0"


@pytest.mark.soak
@pytest.mark.parametrize(
    "encryption",
    ["ENCR_AES_CBC 256 + AUTH_HMAC_SHA2_256_128", "ENCR_CHACHA20_POLY1305", "ENCR_AES_CCM_16 128"],
)
def test_other_ciphers(tmp_path, encryption):
    with wires(tmp_path) as made:
        made.ours((), encryption)
        made.warm_up(FAR4)
        carried(made, SOME // 2)
        assert made.status()["rejected"] == 0


@pytest.mark.parametrize(
    ("megabytes", "least_lost"),
    [
        pytest.param(0.25, 3, marks=marks_of(1, 3)),
        *(pytest.param(one, least, marks=pytest.mark.soak) for one, least in ((1, 20), (3, 50), (8, 50))),
    ],
)
def test_a_rough_wire(tmp_path, megabytes, least_lost):
    """1 % lost, 1 % late, a thousand forged packets a second to each side, and keys renewed every megabyte.

    Nothing stalls, nothing wrong comes through, what is forged is counted, and memory stays as it was.
    """
    with wires(tmp_path, rough=(0.01, 0.01, 1000.0)) as made:
        contender = made.ours((), "", ("--child-octets", str(1 << 20)))
        made.warm_up(FAR4)
        before = [memory(one) for one in contender.processes]
        carried(made, int(megabytes * (1 << 20)))
        after = [memory(one) for one in contender.processes]
        status, link = made.status(), made.link_says()
    assert status["rekeys"] >= megabytes * 3 // 4 and status["reconnects"] == 0
    forged, lost = [row[3] for row in link], [row[1] for row in link]
    assert min(forged) > 1000 * min(megabytes, 1) and min(lost) > least_lost
    assert status["rejected"] > 500 * min(megabytes, 1)
    assert all(one < other + (16 << 20) for one, other in zip(after, before, strict=True)), (before, after)


@on_day(0, 3)
def test_keys_renewed_under_full_load(tmp_path):
    """Every two megabytes, both directions at once; not one TCP segment had to be sent for lack of an SA."""
    with wires(tmp_path) as made:
        made.ours((), "", ("--child-octets", str(2 << 20)))
        # Among them the moment at which compiled loops take over.
        carried(made, 64 << 20)
        made.warm_up(FAR4)
        carried(made, 64 << 20)
        status = made.status()
    assert status["rekeys"] >= 20 and status["rejected"] == 0


@on_day(2, 3)
def test_a_way_that_becomes_narrower(tmp_path):
    """RFC 4301 §8: the next packet that is too long is told to its sender, in both families and both directions."""
    with wires(tmp_path) as made:
        made.ours()
        for host, device in ((made.near, "near0"), (made.far, "far0")):
            host.run("ip", "link", "set", device, "mtu", "1380")
        carried(made, SOME // 4)
        carried(made, SOME // 4, 6)
        said = made.near.run("ip", "route", "get", FAR4)
        # 1380 less IPv4, UDP, ESP header, IV, ICV and a whole number of words for the trailer.
        assert f"mtu {1380 - 28 - 8 - 8 - 16 - 2}" in said
        assert "mtu 1318" in made.near.run("ip", "route", "get", FAR6)


@on_day(1, 3)
def test_a_way_too_narrow_for_ipv6(tmp_path):
    """RFC 8200 §5: what IPv6 may always send passes, in two datagrams; IPv4 is told what fits into one."""
    with wires(tmp_path) as made:
        for host, device in ((made.near, "near0"), (made.far, "far0")):
            host.run("ip", "link", "set", device, "mtu", "1300")
        made.ours()
        carried(made, SOME // 32)
        carried(made, SOME // 32, 6)
        assert f"mtu {1300 - 28 - 8 - 8 - 16 - 2}" in made.near.run("ip", "route", "get", FAR4)
        assert made.status()["rejected"] == 0


@on_day(1, 3)
def test_the_mtu_from_the_route(tmp_path):
    """Worked out once the way is known; TCP connections are told what fits where that is asked for."""
    with wires(tmp_path) as made:
        for host, device in ((made.near, "near0"), (made.far, "far0")):
            host.run("ip", "link", "set", device, "mtu", "1400")
        made.ours((), "", ("--mtu", "route", "--clamp-tcp-mss", "--dscp", "46"))
        status = made.status()
        assert status["mtu"] == 1400 - 28 - 8 - 8 - 16 - 2
        assert f"mtu {status['mtu']}" in made.near.run("ip", "link", "show", status["device"])
        carried(made, SOME // 4)


@on_day(2, 3)
def test_an_analyser_decrypts_a_loaded_tunnel(tmp_path):
    """Every ESP packet of a loaded tunnel, as it is on the wire: integrity correct, TCP checksums inside correct."""
    assert shutil.which("tshark"), "the tests need tshark as a judge: apt-get install tshark"
    keys, capture = tmp_path / "keys.json", tmp_path / "loaded.pcap"
    with wires(tmp_path) as made:
        # Otherwise the kernel would show pieces of many datagrams.
        for host, device in ((made.near, "near0"), (made.far, "far0")):
            host.run("ip", "link", "set", device, "gso_max_segs", "1")
        made.ours(options=("--export-keys", str(keys)))
        assert set(made.warm_up(FAR4)) == {COMPILED}
        with capture.open("wb") as stream:
            sniffing = made.near.start(
                "dumpcap", "-q", "-i", "near0", "-f", "udp port 500 or udp port 4500", "-P", "-w", "-",
                stdout=stream, stderr=-1, start_new_session=True,
            )  # fmt: skip
            assert "Capturing on" in sniffing.stderr.readline()
            time.sleep(1.0)
            carried(made, 2 << 20)
            time.sleep(0.5)
            os.killpg(sniffing.pid, signal.SIGINT)
            sniffing.communicate(timeout=20)
    words = ["-o", "tcp.check_checksum:TRUE", "-Y", "esp", "-T", "fields"]
    fields = ["esp.icv_good", "esp.icv_bad", "tcp.checksum.status", "_ws.malformed"]
    said = analyse(capture, json.loads(keys.read_text()), *words, *(word for one in fields for word in ("-e", one)))
    rows = [line.split("\t") for line in said.splitlines()]
    assert len(rows) > 3000
    assert {row[0] for row in rows} <= {"1", "True"} and {row[1] for row in rows} <= {"", "0", "False"}
    assert {row[2] for row in rows} <= {"1", ""} and sum(row[2] == "1" for row in rows) > 3000
    assert {"".join(row[3:]) for row in rows} == {""}


def waits(process):
    """How often a process has gone to sleep so far: each time it was woken for something."""
    said = Path(f"/proc/{process}/status").read_text()
    return int(said.partition("voluntary_ctxt_switches:")[2].split()[0])


@pytest.mark.soak
@pytest.mark.parametrize(("idle", "asleep"), [(2, 2), (20, 40)])
def test_idle_costs_nothing_and_sleep_is_slept_off(tmp_path, idle, asleep):
    """No polling: in idle seconds a process is woken for nothing but a keep-alive. Then it sleeps, and wakes up."""
    with wires(tmp_path) as made:
        contender = made.ours()
        carried(made, 1 << 20)
        time.sleep(1.5)
        before = [waits(one) for one in contender.processes]
        time.sleep(idle)
        after = [waits(one) for one in contender.processes]
        assert all(one - other <= 2 + idle / 4 for one, other in zip(after, before, strict=True)), (before, after)
        client = contender.processes[0]
        os.kill(client, signal.SIGSTOP)
        time.sleep(asleep)
        os.kill(client, signal.SIGCONT)
        carried(made, 1 << 20)
        status = made.status()
        assert status["is_up"] and status["reconnects"] == 0
