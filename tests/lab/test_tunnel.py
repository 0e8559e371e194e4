"""The real program in the lab: connect, verify, disconnect, crash, put back."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from lab.situations import STUN_FROM_OTHERS
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab


def test_there_and_back(lab):
    """Connect to Lisbon, sealed; the machine is afterwards exactly what it was."""
    before = lab.network()
    up = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]
    assert (up["country"], up["ipv6"], up["gateway_address"]) == ("PT", "tunnel", "198.51.100.18")
    assert up["algorithms"]["ESP"] == "ENCR_AES_GCM_16 256"
    assert lab.network() != before
    seen = lab.heron("verify", check=0).json
    assert seen["verdict"] == "sealed"
    assert (seen["after"]["ipv4"]["address"], seen["after"]["ipv6"]["address"]) == ("198.51.100.19", "2001:db8:1001::3")
    assert [row["address"] for row in seen["after"]["resolvers"]] == [story.RESOLVER4]
    assert seen["before"]["ipv4"]["address"] == story.COTTAGE_PUBLIC4
    status = lab.heron("status", check=0).json["tunnel"]
    assert status["packets_in"] > 20
    assert status["rejected"] == 0
    assert lab.heron("disconnect", check=0).json["profile"] == "quillwort-lisbon"
    assert lab.network() == before
    assert lab.gateway("lisbon")["tunnels"] == 0


@pytest.mark.parametrize("place", ["montevideo", "nairobi"])
def test_other_places(lab, place):
    """Each place's exit is where its profile promises."""
    lab.heron("connect", place, "--detach", check=0)
    seen = lab.heron("verify", check=0).json
    assert seen["after"]["ipv4"]["country"] == story.PLACE_BY_NAME[place].country


def test_a_gateway_that_is_reached_over_ipv6(lab):
    """Wellington's name has only an IPv6 address: the tunnel runs over IPv6 and carries both families."""
    up = lab.heron("connect", "wellington", "--detach", check=0).json["tunnel"]
    assert up["gateway_address"] == "2001:db8:1005::2"
    assert lab.heron("verify", check=0).json["after"]["ipv6"]["country"] == "NZ"


def test_the_same_tunnel_again_is_refused(lab):
    """One tunnel at a time; it is said what to do."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    refused = lab.heron("connect", "lisbon", "--detach", check=4).json
    assert refused["code"] == "already-up"
    assert lab.heron("restore", check=4).json["code"] == "already-up"
    assert lab.heron("verify", "--before", check=4).json["next_step"] == "Disconnect first."


def test_from_place_to_place_and_back(lab):
    """A switch: one process, another exit, addresses, servers and routes of the new place alone; then all put back."""
    before = lab.network()
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    first = lab.network()
    for place, country in (("tallinn", "EE"), ("wellington", "NZ"), ("lisbon", "PT")):
        up = lab.heron("connect", place, "--detach", check=0).json["tunnel"]
        assert (up["country"], up["process"], up["reconnects"]) == (country, process, 0)
        assert lab.heron("verify", check=0).json["after"]["ipv4"]["country"] == country
        # The one before is told that it is over.
        end = time.monotonic() + 5
        while sum(one["tunnels"] for one in lab.gateways().values()) > 1 and time.monotonic() < end:
            time.sleep(0.1)
        assert [name for name, one in lab.gateways().items() if one["tunnels"]] == [place]
    assert lab.network() == first
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_a_switch_that_fails(lab):
    """Refused, not proven, not there: the tunnel that is up stays, and the error is the new one's."""
    lab.heron("connect", "lisbon", "--detach", "--timeout", "3", check=0)
    up = lab.network()
    for fault, code in (("refused-password", 8), ("wrong-name", 7), ("silent", 6)):
        lab.fault("tallinn", fault)
        failed = lab.heron("connect", "tallinn", "--detach", check=code).json
        assert failed["result"] == "error"
        assert lab.heron("status", check=0).json["tunnel"]["profile"] == "quillwort-lisbon"
        assert lab.network() == up
    assert lab.heron("verify", check=0).json["after"]["ipv4"]["country"] == "PT"


def test_from_all_traffic_to_the_office_and_back(lab, tmp_path):
    """What the guard holds and where routes lead follow the profile: all, only the office's networks, all again."""
    before = lab.network()
    kit = tmp_path / "office.zip"
    lab.run("lab", "account", "tidewrack_switch", "--to", str(kit), check=0)
    name = lab.heron("import", str(kit), check=0).json["profiles"][0]["name"]
    lab.heron("connect", "lisbon", "--detach", check=0)
    first = lab.network()
    office = lab.heron("connect", name, "--detach", check=0).json["tunnel"]
    assert office["networks"] == [story.OFFICE_NETWORK]
    held = lab.heron("guard", check=0).json["guard"]["held_by"]
    assert [one["held"] for one in held] == [[story.OFFICE_NETWORK]]
    seen = lab.heron("verify", check=0)
    assert seen.json["verdict"] == "sealed" and "outside-as-meant" in seen.codes
    assert seen.json["after"]["ipv4"]["country"] == "SI"
    lab.heron("connect", "lisbon", "--detach", check=0)
    assert lab.network() == first
    assert lab.heron("verify", check=0).json["after"]["ipv4"]["country"] == "PT"
    lab.heron("disconnect", check=0)
    lab.heron("remove", name, check=0)
    assert lab.network() == before


def test_bulk_data_and_large_packets(lab, tmp_path):
    """Ten megabytes through the tunnel arrive unchanged, over IPv4 and IPv6, with full-size packets."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    server = (
        "import socket,hashlib,sys\n"
        "s=socket.create_server((sys.argv[1],7000),family=socket.AF_INET6 if ':' in sys.argv[1] else socket.AF_INET)\n"
        "print('ready',flush=True)\nc,_=s.accept();h=hashlib.sha256()\n"
        "while d:=c.recv(1<<16): h.update(d)\nprint(h.hexdigest(),flush=True)"
    )
    client = (
        "import socket,hashlib,os,sys\nd=os.urandom(1<<20)*10\nc=socket.create_connection((sys.argv[1],7000),75)\n"
        "c.sendall(d);c.close();print(hashlib.sha256(d).hexdigest())"
    )
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home)}
    for address in (story.OBSERVATORY4, story.OBSERVATORY6):
        program = Path(sys.executable).with_name("zesty")
        listening = subprocess.Popen(
            [program, "lab", "run", "observatory", "--", sys.executable, "-c", server, address],
            stdout=subprocess.PIPE, text=True, env=environment,
        )  # fmt: skip
        with listening:
            try:
                assert listening.stdout.readline() == "ready\n"
                # While both ends load their compiled loops little is carried, and less on a busy machine.
                sent = lab.shell("heron", sys.executable, "-c", client, address).out.strip()
                assert sent == listening.stdout.readline().strip()
            finally:
                listening.terminate()
    assert lab.heron("status").json["tunnel"]["octets_out"] > 20_000_000


def test_the_gateway_ends_the_tunnel(lab):
    """A DELETE from the gateway brings the tunnel down; without a guard, its own process puts the machine back."""
    before = lab.network()
    lab.heron("connect", "lisbon", "--detach", "--no-guard", check=0)
    lab.run("lab", "end", "lisbon", check=0)
    deadline = time.monotonic() + 10
    while lab.heron("status").json["tunnel"] and time.monotonic() < deadline:
        time.sleep(0.1)
    lab.network_is_soon(before)
    assert "gateway-ended" in (lab.folder / "heron" / "tunnel.log").read_text()


def test_liveness(lab):
    """A probe from the gateway is answered."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    lab.run("lab", "probe", "lisbon", check=0)
    time.sleep(0.5)
    assert lab.gateway("lisbon")["unanswered"] == 0
    assert lab.gateway("lisbon")["tunnels"] == 1


def test_kill_and_restore(lab):
    """kill -9: nothing leaves until restore, which puts addresses, routes, rules and resolver back as they were."""
    before = lab.network()
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    lab.kill(process)
    left = lab.heron("status", check=23)
    assert left.json["tunnel"] is None
    assert left.codes == {"left-over"}
    reach = "import socket,sys; s=socket.create_connection((sys.argv[1],80),2)"
    for address in (story.OBSERVATORY4, story.OBSERVATORY6):
        assert lab.shell("heron", sys.executable, "-c", reach, address, check=None).code != 0
    assert lab.network() != before
    done = lab.heron("restore", check=0).json["done"]
    assert "/etc/resolv.conf" in done and lab.heron("guard", check=0).json["guard"]["in_force"] is False
    assert lab.network() == before
    lab.shell("heron", sys.executable, "-c", reach, story.OBSERVATORY4)


def test_kill_and_connect_again(lab):
    """The next start puts back what a killed tunnel has left, says so, and goes on."""
    before = lab.network()
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    lab.kill(process)
    again = lab.heron("connect", "tallinn", "--detach", check=0)
    assert "restoring this machine's settings" in again.err
    lab.heron("verify", check=0)
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_somebody_else_wrote_the_resolver_settings(lab):
    """A resolver file that another program has changed since the tunnel's process died is left alone, and that is said."""
    original = lab.shell("heron", "cat", "/etc/resolv.conf").out
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    lab.kill(process)
    lab.shell("heron", "sh", "-c", "echo nameserver 192.0.2.99 > /etc/resolv.conf")
    try:
        assert lab.heron("restore", check=0).json["left_alone"] == ["/etc/resolv.conf"]
        assert lab.shell("heron", "cat", "/etc/resolv.conf").out == "nameserver 192.0.2.99\n"
    finally:
        lab.shell("heron", "sh", "-c", f"printf '%s' '{original}' > /etc/resolv.conf")


def test_foreground_and_ctrl_c(lab):
    """In the foreground the steps and the line are shown; Ctrl-C ends it cleanly with exit code 0."""
    before = lab.network()
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home)}
    program = str(Path(sys.executable).with_name("zesty"))
    running = subprocess.Popen(
        [program, "lab", "run", "heron", "--", program, "connect", "lisbon"],
        stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=environment, start_new_session=True,
    )  # fmt: skip
    lines = []
    while not lines or "Ctrl-C" not in lines[-1]:
        line = running.stderr.readline()
        assert line, lines
        lines.append(line)
    shown = "".join(lines)
    for step in ("resolve", "reach", "negotiate", "prove", "sign in", "address", "routes", "name servers"):
        assert f"done  {step}" in shown
    line = r"up Lisbon, PT \| 10\.66\.1\.\d+, fd66:1::[0-9a-f]+ \| IKEv2, ESP in UDP \| ENCR_AES_GCM_16 256 \| IPv6 through the tunnel"
    assert re.search(line, " ".join(shown.split()))
    os.killpg(running.pid, signal.SIGINT)
    out, err = running.communicate(timeout=20)
    assert running.returncode == 130, out + err
    put_back = r"Removed: \d+ routing rules, \d+ routes, device zesty0\. Restored: /etc/resolv\.conf\."
    assert re.search(put_back, " ".join(out.split()))
    assert lab.network() == before


def test_ctrl_c_while_connecting(lab):
    """A silent gateway is waited for no longer than until Ctrl-C."""
    lab.fault("lisbon", "silent")
    before = lab.network()
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home)}
    program = str(Path(sys.executable).with_name("zesty"))
    running = subprocess.Popen(
        [program, "lab", "run", "heron", "--", program, "connect", "lisbon", "--timeout", "60"],
        stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=environment, start_new_session=True,
    )  # fmt: skip
    assert "resolve" in running.stderr.readline()
    os.killpg(running.pid, signal.SIGINT)
    running.communicate(timeout=20)
    assert running.returncode == 130
    assert lab.network() == before


def test_packets_that_the_tunnel_does_not_cover_are_rejected_packets(lab):
    """RFC 4301 §5: a packet with another source address than the tunnel's own never enters it."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    send = (
        "import socket;s=socket.socket(socket.AF_INET,socket.SOCK_DGRAM);"
        "s.bind(('192.168.77.20',0));s.sendto(b'x',('203.0.113.10',9))"
    )
    lab.shell("heron", sys.executable, "-c", send)
    assert lab.heron("status").json["tunnel"]["dropped"] == 1


def test_without_rights_it_says_so(lab):
    """connect without the right to configure the network ends with exit code 5, before anything is sent or changed."""
    before = lab.network()
    refused = lab.shell(
        "heron", "setpriv", "--bounding-set=-net_admin", "--inh-caps=-net_admin",
        sys.executable, "-m", "zesty_burrow", "--json", "connect", "lisbon", check=5,
    )  # fmt: skip
    assert refused.json["code"] == "rights-missing"
    assert "CAP_NET_ADMIN" in refused.json["why"]
    assert "done" not in refused.err
    assert lab.network() == before


def test_keys_are_renewed_under_a_live_tunnel(lab):
    """The gateway renews keys of both kinds in turn; names and pages go through all the while, nothing is rejected."""
    lab.heron("connect", "nairobi", "--detach", check=0)
    before = lab.gateway("nairobi")["renewed"]
    for number, kind in enumerate(("rekey", "rekey-ike", "rekey", "rekey-ike"), start=1):
        LabClient(lab.folder).call_host("nairobi", kind)
        assert lab.heron("verify", check=0).json["verdict"] == "sealed"
        status = lab.heron("status", check=0).json["tunnel"]
        assert (status["rekeys"], status["rejected"]) == (number, 0)
        assert status["dropped"] == STUN_FROM_OTHERS * number
        gateway = lab.gateway("nairobi")
        assert (gateway["tunnels"], gateway["renewed"]) == (1, before + number)
    lab.heron("disconnect", check=0)
    assert lab.gateway("nairobi")["tunnels"] == 0


def test_what_is_not_granted_is_blocked(lab):
    """The gateway carries less than the profile asks for: the rest is rejected at once, and said."""
    before = lab.network()
    lab.fault("tallinn", "grants-less")
    status = lab.heron("connect", "tallinn", "--detach", check=20).json["tunnel"]
    assert lab.heron("status", check=20).json["condition"] == "partial"
    assert status["findings"] == [["networks-not-granted", "quillwort-tallinn", "0.0.0.0/0"]]
    assert status["ipv6"] == "blocked"
    for target in (story.OBSERVATORY4, story.OBSERVATORY6):
        ended = lab.shell("heron", "timeout", "2", "bash", "-c", f"exec 3<>/dev/tcp/{target}/80", check=None)
        assert ended.code == 1 and re.search("refused|unreachable|No route", ended.err), ended
    shown = " ".join(lab.shell("heron", sys.executable, "-m", "zesty_burrow", "status", check=20).out.split())
    assert "networks-not-granted" in shown and "0.0.0.0/0" in shown
    lab.heron("disconnect", check=0)
    lab.heron("connect", "tallinn", "--detach", "--accept-partial", check=0)
    assert lab.heron("status", check=0).json["condition"] == "up"
    lab.heron("disconnect", check=0)
    assert lab.network() == before


HOSTILE = [
    ("0.0.0.0/1", "192.168.77.1"),
    ("128.0.0.0/1", "192.168.77.1"),
    (f"{story.OBSERVATORY4}/32", "192.168.77.1"),
    ("2000::/3", "2001:db8:c0b:77::1"),
    (f"{story.OBSERVATORY6}/128", "2001:db8:c0b:77::1"),
]


@pytest.mark.parametrize("when", ["before", pytest.param("after", marks=pytest.mark.soak)])
def test_routes_of_a_hostile_network(lab, when):
    """More specific routes, as DHCP (RFC 3442) and router advertisements (RFC 4191) bring them, lead nothing past it."""
    before = lab.network()

    def change(action):
        for destination, router in HOSTILE:
            lab.shell("heron", "ip", "route", action, destination, "via", router, "dev", "lan")

    if when == "before":
        change("add")
    try:
        lab.heron("connect", "lisbon", "--detach", check=0)
        if when == "after":
            change("add")
        for target in (story.OBSERVATORY4, story.OBSERVATORY6):
            assert " dev zesty0 " in lab.shell("heron", "ip", "route", "get", target).out
        seen = lab.heron("verify", check=0 if when == "after" else None).json
        assert seen["after"]["ipv4"]["address"] == "198.51.100.19"
        lab.shell("heron", "ping", "-c", "1", "-W", "2", "192.168.77.1", check=0)
    finally:
        change("del")
    lab.heron("disconnect", check=0)
    assert lab.network() == before
