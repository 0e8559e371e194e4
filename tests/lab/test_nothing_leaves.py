"""What leaves the workstation in the clear, counted by an independent analyser on its outer wire, while a sender tries.

The sender has every way that a program has; each of its packets holds a word that can be read only in the clear. What
it sends before there is a guard has to be seen, or the analyser would prove nothing.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections import Counter

import pytest

from lab.attacks import ATTACKS
from lab.clear_text_watch import HERON6, KINDS, Watch
from lab.resolved_workstation import Workstation
from lab.situations import changed, connect, hostile, office, relay
from rotation import marks_of
from support import until
from zesty_burrow.carrier.control.log_lines import read_lines
from zesty_burrow.carrier.supervision.states import TRANSITIONS, TunnelSignal, TunnelState
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient
from zesty_burrow.lab.local_network.proxies import HTTP_PORT, SOCKS_PORT

pytestmark = pytest.mark.lab


TRANSITIONS_SEEN = set()
ALONE, OFFICE, RESOLVED, STREAM = "alone", "beside the office's", "with systemd-resolved", "over TCP"
HTTP1, HTTP2, HTTP3, PROXY, RELAYED = "HTTP 1.1", "HTTP 2", "HTTP 3", "HTTP by a proxy", "UDP by a proxy"
L2TP, PPTP = "L2TP over IPsec", "PPTP"
SERVERS = ["--name-servers", f"{story.RESOLVER4},{story.RESOLVER6}"]
PROXY_URL = f"http://{story.ISP_RESOLVER4}:{HTTP_PORT}"
CHOICES = {
    HTTP2: ["--protocol", "connect-ip", "--transport", "tcp", *SERVERS],
    HTTP3: ["--protocol", "connect-ip", "--transport", "udp", *SERVERS],
    HTTP1: ["--protocol", "connect-ip", "--transport", "tcp", *SERVERS],
    PROXY: ["--protocol", "connect-ip", "--transport", "tcp", *SERVERS, "--proxy", PROXY_URL],
    RELAYED: ["--proxy", f"socks5://{story.ISP_RESOLVER4}:{SOCKS_PORT}"],
    L2TP: ["--protocol", "l2tp-ipsec"],
    PPTP: ["--protocol", "pptp"],
}
"""Lisbon's; the other places stay with IKEv2, so that a switch is one from protocol to protocol."""
BACK = ["--protocol", "ikev2", "--transport", "udp", "--name-servers", "gateway", "--proxy", "none"]


def keep_shared_key(lab):
    """What L2TP over IPsec needs besides name and password."""
    words = ["credentials", "change", story.PROVIDER, "--kind", "pre-shared-key", "--from", "-"]
    lab.heron(*words, stdin=(lab.folder / "shared-key.txt").read_text(), check=0)


@pytest.fixture
def circumstances(request, lab, tmp_path):
    """The tunnel is alone; the office's is up before it; systemd-resolved answers for the machine; or another way.

    What the machine's network is before.
    """
    if request.param == L2TP:
        keep_shared_key(lab)
    if request.param in CHOICES:
        lab.heron("choose", "lisbon", *CHOICES[request.param], check=0)
        if request.param == HTTP1:
            lab.heron("change", "quillwort-lisbon", "--set", "connect-ip.http_versions=1.1", check=0)
        yield lab.network()
        lab.heron("choose", "lisbon", *BACK, check=0)
        return
    if request.param == STREAM:
        lab.heron("change", "quillwort", "--all", "--set", "ikev2.transport=tcp", "--set", "ikev2.port=4500", check=0)
        yield lab.network()
        lab.heron("change", "quillwort", "--all", "--unset", "ikev2.transport", "--unset", "ikev2.port", check=0)
        return
    if request.param != RESOLVED:
        before = lab.network()
        if request.param == OFFICE:
            lab.heron("connect", office(lab), "--detach", check=0)
        yield before
        return
    workstation = Workstation(lab, tmp_path)
    lab.seen_by = int(workstation.pids[-1])
    try:
        yield lab.network()
    finally:
        if lab.heron("disconnect").code != 0:
            lab.heron("restore")
        lab.seen_by = 0
        workstation.stop()


@pytest.fixture
def watch(request, circumstances, lab, tmp_path):
    kind = request.node.callspec.params["circumstances"]
    one = Watch(lab, tmp_path, proxy=story.ISP_RESOLVER4 if kind in (PROXY, RELAYED) else "", by_gre=kind == PPTP)
    one.capture()
    one.send()
    time.sleep(0.5)
    yield one
    for process in one.processes:
        os.killpg(process.pid, signal.SIGKILL)
        process.communicate(timeout=10)


# Situations. Each begins with nothing up, and leaves the guard as it is.


def simply_up(lab):
    connect(lab)


ROUTES = [("0.0.0.0/1", "192.168.77.1"), ("128.0.0.0/1", "192.168.77.1"), ("2000::/3", "2001:db8:c0b:77::1")]


def routes(action):
    return [("ip", "route", action, target, "via", router, "dev", "lan") for target, router in ROUTES]


def routes_of_a_hostile_network(lab):
    connect(lab)
    with changed(lab, routes("add"), routes("del")):
        pass


def routes_by_dhcp_and_by_advertisement(lab):
    """The same by real DHCP (option 121) and real router advertisements."""
    connect(lab)
    with hostile(lab, "dhcp-routes", "advertised-routes", renewed=True):
        seen = lab.shell("heron", "ip", "route").out + lab.shell("heron", "ip", "-6", "route").out
        assert all(f"{target} via" in seen for target, _ in ROUTES), seen
        until(lambda: "wide-routes" in lab.heron("status", check=0).codes)


def routes_by_dhcp_before(lab):
    """The network is hostile before there is a tunnel."""
    with hostile(lab, "dhcp-routes", "advertised-routes", renewed=True):
        connect(lab)
        time.sleep(1)


def resolver_by_dhcp(lab):
    connect(lab)
    with hostile(lab, "rogue-resolver", renewed=True):
        time.sleep(1)
        assert lab.heron("verify", check=0).json["verdict"] == "sealed"


def addresses_claimed_by_somebody(lab):
    """Everything goes to somebody else on the local network for a while; then the tunnel carries again."""
    connect(lab)
    with hostile(lab, "address-claims"):
        time.sleep(2)
    until(lambda: lab.heron("verify").json.get("verdict") == "sealed")


def nothing_out_without_a_page(lab):
    """A captive portal: the gateway is not reached, and the machine stays closed until it is."""
    lab.fault(story.ROUTER, "captive-portal")
    connect(lab, "--timeout", "3", check=6)
    lab.fault(story.ROUTER)
    connect(lab)


def udp_blocked_in_the_middle(lab):
    connect(lab)
    with hostile(lab, "udp-blocked"):
        time.sleep(1)
    until(lambda: lab.heron("verify").json.get("verdict") == "sealed")


def a_bad_wire(lab):
    """Each tenth packet is lost, and each is late."""
    lab.run("lab", "wire", "--loss", "10", "--delay", "30", check=0)
    try:
        connect(lab)
        time.sleep(2)
    finally:
        lab.run("lab", "wire", check=0)


def moved_to_another_network(lab):
    """From the cottage to the harbour, and back, while a tunnel is up."""
    connect(lab)
    for network in ("harbour", "cottage"):
        lab.run("lab", "move", network, check=0)
        until(lambda: lab.heron("verify").json.get("verdict") == "sealed")
    assert lab.heron("status", check=0).json["tunnel"]["reconnects"] == 0


def rules_in_front_of_ours(lab):
    """Every packet is sent by the machine's own routes, whatever the tunnel's rules say."""
    connect(lab)
    own = [("ip", family, "rule", "add", "pref", "9", "table", "main") for family in ("-4", "-6")]
    with changed(lab, own, [[*words[:3], "del", *words[4:]] for words in own]):
        target = lab.shell("heron", "ip", "route", "get", story.OBSERVATORY4).out
        assert " dev lan " in target, target


def another_resolver(lab):
    connect(lab)
    with changed(lab, [("sh", "-c", f"echo nameserver {story.ISP_RESOLVER4} > /etc/resolv.conf")], []):
        pass


def granted_less(lab):
    lab.fault("lisbon", "grants-less")
    connect(lab, check=20)


def without_ipv6(lab):
    lab.fault("lisbon", "no-ipv6")
    connect(lab)


def ended_by_the_gateway(lab):
    connect(lab, "--no-keep-trying")
    LabClient(lab.folder).call_host("lisbon", "end")
    until(lambda: relay(lab) is None)


def lost_and_silent(lab):
    connect(lab)
    lab.fault("lisbon", "silent")
    LabClient(lab.folder).call_host("lisbon", "end")
    until(lambda: not lab.heron("status").json["tunnel"]["is_up"])
    time.sleep(2)


def lost_and_back(lab):
    lost_and_silent(lab)
    lab.fault("lisbon")
    until(lambda: lab.heron("status").json["tunnel"]["is_up"])


def lost_and(fault, code):
    def act(lab):
        connect(lab)
        lab.fault("lisbon", fault)
        LabClient(lab.folder).call_host("lisbon", "end")
        until(lambda: code in str(lab.heron("status").json["tunnel"]["findings"]))
        time.sleep(1)

    act.__name__ = f"lost_and_{fault}"
    return act


def refused_at_first(lab):
    lab.fault("lisbon", "refused-password")
    connect(lab, check=8)


def not_proven_at_first(lab):
    lab.fault("lisbon", "wrong-name")
    connect(lab, check=7)


def killed(lab):
    process = connect(lab)["tunnel"]["process"]
    lab.kill(process)


def killed_and_another(lab):
    killed(lab)
    time.sleep(0.5)
    connect(lab, place="tallinn")


def lost_and_another(lab):
    """The tunnel is gone for good; the next one takes over what is closed."""
    ended_by_the_gateway(lab)
    connect(lab, place="tallinn")


def signalled(name):
    def act(lab):
        process = connect(lab)["tunnel"]["process"]
        lab.shell("heron", "kill", f"-{name}", str(process))
        until(lambda: relay(lab) is None)

    act.__name__ = f"signal_{name}"
    return act


def asleep(lab):
    process = connect(lab)["tunnel"]["process"]
    lab.shell("heron", "kill", "-STOP", str(process))
    time.sleep(2)
    lab.shell("heron", "kill", "-CONT", str(process))
    time.sleep(0.5)


def default_route_gone(lab):
    connect(lab)
    back = [("ip", "route", "replace", "default", "via", "192.168.77.1", "dev", "lan")]
    with changed(lab, [("ip", "route", "del", "default")], back):
        # The tunnel's own packets do not go into the tunnel for it.
        way = lab.shell("heron", "ip", "route", "get", story.PLACE_BY_NAME["lisbon"].outer, check=None)
        assert way.code != 0 and "zesty0" not in way.out
        time.sleep(2)
    assert lab.heron("status", check=0).json["tunnel"]["reconnects"] == 0


def device_down(lab):
    connect(lab)
    back = [
        ("ip", "link", "set", "lan", "up"),
        ("ip", "-6", "address", "replace", f"{HERON6}/64", "dev", "lan", "nodad"),
        ("ip", "route", "replace", "default", "via", "192.168.77.1", "dev", "lan"),
        ("ip", "-6", "route", "replace", "default", "via", "2001:db8:c0b:77::1", "dev", "lan"),
    ]
    with changed(lab, [("ip", "link", "set", "lan", "down")], back):
        time.sleep(1)


def from_place_to_place_by_hand(lab):
    """One tunnel is ended and another begun, while the user's own guard holds."""
    connect(lab)
    lab.heron("guard", "on", check=0)
    lab.heron("disconnect", check=0)
    time.sleep(1)
    connect(lab, place="tallinn")


def rules_and_routes_removed(lab):
    """Somebody removes what leads into the tunnel: the guard holds meanwhile, and they are set again."""
    device = connect(lab)["tunnel"]["device"]
    table = 23106 + int(device.removeprefix("zesty"))
    for family in ("-4", "-6"):
        lab.shell("heron", "ip", family, "rule", "del", "pref", "23103")
        lab.shell("heron", "ip", family, "route", "flush", "table", str(table))
    until(lambda: "settings-repaired" in lab.heron("status").codes)
    until(lambda: f" dev {device} " in lab.shell("heron", "ip", "route", "get", story.OBSERVATORY4).out)


def sent_elsewhere_at_first(lab):
    lab.fault("lisbon", "redirects")
    connect(lab)


def sent_elsewhere_in_the_middle(lab):
    connect(lab)
    LabClient(lab.folder).call_host("lisbon", "redirect")
    until(lambda: (relay(lab) or {}).get("reconnects") == 1)


def keep_trying(lab):
    """In the background, by name: also while the gateway is not reached at first."""
    line = [sys.executable, "-m", "zesty_burrow", "--debug", "connect", "lisbon", "--keep-trying", "--timeout", "1"]
    process = lab.start("heron", *line, "--beside", "--detach", stderr=subprocess.DEVNULL)
    until(lambda: lab.heron("status").json["guard"] is not None)
    time.sleep(3)
    return process


def not_reached_at_first(lab):
    lab.fault("lisbon", "silent")
    process = keep_trying(lab)
    lab.fault("lisbon")
    process.communicate(timeout=60)
    until(lambda: (relay(lab) or {}).get("is_up"))


def no_network_at_first(lab):
    back = [("ip", "route", "add", "default", "via", "192.168.77.1", "dev", "lan")]
    with changed(lab, [("ip", "route", "del", "default")], back):
        process = keep_trying(lab)
    process.communicate(timeout=60)
    until(lambda: (relay(lab) or {}).get("is_up"))


def switched(lab):
    """From one place to another, while the first stays up until the second is."""
    connect(lab)
    up = connect(lab, place="tallinn")["tunnel"]
    assert (up["profile"], up["gateway_address"]) == ("quillwort-tallinn", story.PLACE_BY_NAME["tallinn"].outer)
    assert lab.heron("status", check=0).json["tunnel"]["profile"] == "quillwort-tallinn"


def switched_to_an_impostor(lab):
    """The place that is wanted cannot prove itself: the tunnel that is up stays as it is."""
    lab.fault("tallinn", "wrong-name")
    connect(lab)
    assert connect(lab, place="tallinn", check=7)["code"] == "certificate-wrong-name"
    status = lab.heron("status", check=0).json["tunnel"]
    assert status["profile"] == "quillwort-lisbon" and status["reconnects"] == 0


def switched_from_a_lost_one(lab):
    lost_and_silent(lab)
    assert connect(lab, place="tallinn")["tunnel"]["profile"] == "quillwort-tallinn"


def beside_the_office(lab):
    """Two tunnels: the office's own packets pass the relay's guard, and nobody else's do."""
    connect(lab)
    connect(lab, "--beside", place=office(lab))
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"


def beside_the_office_and_killed(lab):
    process = connect(lab)["tunnel"]["process"]
    connect(lab, "--beside", place=office(lab))
    lab.kill(process)
    time.sleep(1)
    lab.heron("disconnect", office(lab), check=0)


def reset_by_the_gateway(lab):
    """RFC 9329 §6.1: what is lost in the middle is made again by this side."""
    connect(lab)
    for _ in range(3):
        LabClient(lab.folder).call_host("lisbon", "reset")
        time.sleep(0.7)
    until(lambda: lab.heron("status").json["tunnel"]["is_up"])


OVER_TCP = [simply_up, reset_by_the_gateway, lost_and_back, switched]
"""Each time; in a soak all the others as well."""
EACH_TIME = [
    simply_up,
    routes_by_dhcp_and_by_advertisement,
    moved_to_another_network,
    rules_in_front_of_ours,
    granted_less,
    ended_by_the_gateway,
    lost_and_back,
    lost_and("wrong-name", "did not prove its identity"),
    lost_and("refused-password", "refused the sign-in"),
    refused_at_first,
    killed_and_another,
    default_route_gone,
    rules_and_routes_removed,
    switched,
    switched_to_an_impostor,
    beside_the_office,
]
IN_A_SOAK = [
    routes_of_a_hostile_network,
    routes_by_dhcp_before,
    resolver_by_dhcp,
    addresses_claimed_by_somebody,
    nothing_out_without_a_page,
    udp_blocked_in_the_middle,
    a_bad_wire,
    another_resolver,
    without_ipv6,
    lost_and_silent,
    lost_and("redirects", "proves nothing"),
    not_proven_at_first,
    killed,
    lost_and_another,
    signalled("TERM"),
    signalled("HUP"),
    asleep,
    device_down,
    beside_the_office_and_killed,
    from_place_to_place_by_hand,
    switched_from_a_lost_one,
    sent_elsewhere_at_first,
    sent_elsewhere_in_the_middle,
    not_reached_at_first,
    no_network_at_first,
]


def in_turn(kind, situations):
    """The first one with each run, the others on their days."""
    for number, one in enumerate(situations):
        marks = marks_of(number, max(len(situations) - 1, 1)) if number else ()
        yield pytest.param(kind, one, id=f"{kind}-{one.__name__}", marks=marks)


def in_other_circumstances():
    """Those of a soak: all situations, but for what the circumstances are already, or what takes them away."""
    for kind, but in ((OFFICE, "office"), (RESOLVED, "resolver")):
        for one in (*EACH_TIME, *IN_A_SOAK):
            if but not in one.__name__:
                yield pytest.param(kind, one, marks=pytest.mark.soak, id=f"{kind}-{one.__name__}")


def over_tcp():
    """Some each time; in a soak all of them, but for what is about UDP."""
    yield from in_turn(STREAM, OVER_TCP)
    for one in (*EACH_TIME, *IN_A_SOAK):
        if one not in OVER_TCP and "udp" not in one.__name__:
            yield pytest.param(STREAM, one, marks=pytest.mark.soak, id=f"{STREAM}-{one.__name__}")


def over_http():
    """Some each time; in a soak all but IKE's redirects, UDP where it is not used, and no way out where a proxy has one."""
    each_time = {
        HTTP2: [simply_up],
        HTTP3: [simply_up, switched, lost_and_back],
        PROXY: [simply_up],
        RELAYED: [simply_up, lost_and_back],
    }
    for kind, ones in each_time.items():
        yield from in_turn(kind, ones)
        for one in (*EACH_TIME, *IN_A_SOAK):
            about_udp = "udp" in one.__name__ and kind not in (HTTP3, RELAYED)
            no_way_out = kind in (PROXY, RELAYED) and one in (default_route_gone, nothing_out_without_a_page)
            of_ike = "elsewhere" in one.__name__ or "redirects" in one.__name__
            if one not in ones and not (of_ike or about_udp or no_way_out):
                yield pytest.param(kind, one, marks=pytest.mark.soak, id=f"{kind}-{one.__name__}")


def by_l2tp():
    """Some each time; in a soak all but what IKEv2 alone has, certificates, and UDP, without which it is nothing."""
    each_time = [simply_up, lost_and_back, switched]
    yield from in_turn(L2TP, each_time)
    for one in (*EACH_TIME, *IN_A_SOAK):
        foreign = ("elsewhere", "redirects", "wrong-name", "not_proven", "udp", "granted_less")
        if one not in each_time and not any(word in one.__name__ for word in foreign):
            yield pytest.param(L2TP, one, marks=pytest.mark.soak, id=f"{L2TP}-{one.__name__}")


def by_pptp():
    """What goes out is at least nothing else than GRE and its connection."""
    each_time = [simply_up]
    in_a_soak = [
        lost_and_back,
        ended_by_the_gateway,
        refused_at_first,
        killed_and_another,
        switched,
        rules_and_routes_removed,
        asleep,
    ]
    yield from (pytest.param(PPTP, one, id=f"{PPTP}-{one.__name__}") for one in each_time)
    yield from (pytest.param(PPTP, one, id=f"{PPTP}-{one.__name__}", marks=pytest.mark.soak) for one in in_a_soak)


WAYS = (ALONE, STREAM, HTTP1, HTTP2, HTTP3, L2TP)


def under_attack():
    """Each attack by one of the ways in turn, a sixth of them with each run; all of them by all ways in a soak."""
    for number, one in enumerate(ATTACKS):
        for at, way in enumerate(WAYS):
            in_turn = (number // len(WAYS)) % len(WAYS) == at
            marks = marks_of(number, 6) if in_turn else (pytest.mark.soak,)
            yield pytest.param(way, one, marks=marks, id=f"attack-{way}-{one.__name__}")


ALL = [
    *under_attack(),
    *(pytest.param(ALONE, one, id=one.__name__) for one in EACH_TIME),
    *(pytest.param(ALONE, one, id=one.__name__, marks=pytest.mark.soak) for one in IN_A_SOAK),
    *in_other_circumstances(),
    *over_tcp(),
    *over_http(),
    *by_l2tp(),
    *by_pptp(),
]


@pytest.mark.parametrize(("circumstances", "situation"), ALL, indirect=["circumstances"])
def test_nothing_in_the_clear(lab, circumstances, watch, situation):
    """From the tunnel's own first packet on, not one packet that the allow-list does not name; until `disconnect`."""
    situation(lab)
    time.sleep(0.7)
    end = time.time()
    if lab.heron("disconnect").code != 0 or lab.heron("status").json["condition"] == "left over":
        lab.heron("restore", check=0)
    lab.heron("guard", "off", check=0)
    assert lab.network() == circumstances
    opened = time.time()
    time.sleep(0.3)
    begin, seen = watch.read()
    assert {kind for moment, kind in seen if moment < begin} == KINDS, "not all was seen without a guard"
    assert Counter(kind for moment, kind in seen if begin <= moment < end) == {}
    assert watch.not_named(begin, end) == []
    assert any(moment > opened for moment, _ in seen), "it is not open again"
    for path in (lab.folder / "heron").glob("tunnel*.log"):
        rows = [row for row in read_lines(path.read_text()) if row["event"] == "state"]
        TRANSITIONS_SEEN.update((TunnelState(row["was"]), TunnelSignal(row["signal"])) for row in rows)


S, G = TunnelState, TunnelSignal
ONLY_BY_CHANCE = {
    *((S.ENDING, one) for one in TunnelSignal if one is not G.ENDED),
    *((state, G.END) for state in (S.RESOLVING, S.REACHING, S.SIGNING_IN, S.LOST, S.RETURNING)),
    (S.SIGNING_IN, G.FAILED),
    (S.SIGNING_IN, G.NEXT),
}
"""What is over within milliseconds: an end in the middle of it (tests/lab/test_signals.py has them at each step)."""


@pytest.mark.soak
def test_every_transition():
    """The situations above together, in this process, have led through all of the carrier's table of states."""
    missing = {*TRANSITIONS} - TRANSITIONS_SEEN - ONLY_BY_CHANCE
    assert {(str(state), str(signal)) for state, signal in missing} == set()
