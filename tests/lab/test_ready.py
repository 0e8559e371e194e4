"""The readiness check on the workstation: what is there is told, what is missing is named with its remedy."""

from __future__ import annotations

import os
import sys

import pytest

from zesty_burrow.lab import story

pytestmark = pytest.mark.lab


def checks(lab, *words, check=0):
    return {one["name"]: one for one in lab.heron("ready", *words, check=check).json["checks"]}


def test_a_machine_that_is_ready(lab):
    """Every check has its word; the gateway that is named answers."""
    found = checks(lab, "lisbon")
    states = {name: one["state"] for name, one in found.items()}
    assert set(states.values()) == {"ready"}, states
    assert {"rights", "tunnel device", "packet filter", "resolver", "other tunnels", "earlier tunnels", "disk space",
            "clock", "IPv4", "IPv6", "MTU", "offloads", "way out", "clock beside others",
            "gateway of quillwort-lisbon"} == set(states)  # fmt: skip
    assert story.ISP_RESOLVER4 in found["resolver"]["found"] and "lan 1500" in found["MTU"]["found"]


def test_another_tunnel_in_the_way(lab):
    """Named by what it did: rules, wide routes, devices."""
    lab.shell("heron", "ip", "tuntap", "add", "dev", "other0", "mode", "tun")
    lab.shell("heron", "ip", "rule", "add", "pref", "77", "table", "main")
    lab.shell("heron", "ip", "route", "add", "0.0.0.0/1", "via", "192.168.77.1", "dev", "lan")
    try:
        seen = checks(lab)["other tunnels"]
        assert seen["state"] == "attention"
        for words in ("device other0", "rule 77 (IPv4)", "route to 0.0.0.0/1 by lan"):
            assert words in seen["found"]
    finally:
        lab.shell("heron", "ip", "link", "del", "other0")
        lab.shell("heron", "ip", "rule", "del", "pref", "77")
        lab.shell("heron", "ip", "route", "del", "0.0.0.0/1")


def test_a_gateway_that_is_not_reached_and_no_way_out(lab):
    lab.fault("lisbon", "silent")
    assert checks(lab, "lisbon")["gateway of quillwort-lisbon"]["state"] == "attention"
    lab.shell("heron", "ip", "route", "del", "default")
    try:
        seen = checks(lab, "--observatory", f"http://{story.OBSERVATORY4}")
        assert seen["IPv4"]["state"] == "attention" and seen["IPv4"]["found"] == "no way out"
        assert seen["way out"]["state"] == "attention"
    finally:
        lab.shell("heron", "ip", "route", "add", "default", "via", "192.168.77.1", "dev", "lan")


def test_a_page_that_answers_for_everybody(lab):
    """What some local networks do: any name, and a page in the place of the answer."""
    serve = "import http.server,socketserver; socketserver.TCPServer(('192.168.77.1', 8099), http.server.SimpleHTTPRequestHandler).serve_forever()"
    process = lab.start(
        "cobblewire", "sh", "-c", f'cd /var/empty 2>/dev/null || cd /tmp; exec {sys.executable} -c "{serve}"'
    )
    try:
        for _ in range(50):
            seen = checks(lab, "--observatory", "http://192.168.77.1:8099")["way out"]
            if "does not answer" not in seen["found"]:
                break
        assert seen["state"] == "attention" and "a page that asks" in seen["found"] and "guard portal" in seen["remedy"]
    finally:
        os.killpg(process.pid, 9)
        process.communicate(timeout=10)


def test_what_was_left_and_what_stops_it(lab):
    """A killed tunnel is named with the command that restores; a resolver that cannot be written stops `connect` early."""
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    lab.kill(process)
    seen = checks(lab)["earlier tunnels"]
    assert seen["state"] == "attention" and seen["command"] == ["zesty", "restore"]
    lab.heron("restore", check=0)
    before = lab.network()
    lab.shell("heron", "mount", "-o", "remount,ro,bind", "/etc/resolv.conf")
    try:
        assert checks(lab, check=24)["resolver"]["state"] == "missing"
        refused = lab.heron("connect", "lisbon", "--detach", check=5).json
        assert refused["code"] == "not-ready" and "resolver" in refused["what"]
        assert lab.network() == before
    finally:
        lab.shell("heron", "mount", "-o", "remount,rw,bind", "/etc/resolv.conf")


def test_correcting_needs_a_terminal(lab):
    assert "no terminal" in lab.heron("ready", "--fix", check=2).json["what"]
