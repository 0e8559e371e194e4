"""What a hostile local network, another program, or root itself may do to a tunnel that is guarded. Each is a situation as
those of test_nothing_leaves.py: it begins with nothing up, and leaves the guard as it is.
"""

from __future__ import annotations

import time

from lab.situations import changed, connect, hostile, relay
from support import until
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

FAR4, FAR6 = story.OBSERVATORY4, story.OBSERVATORY6


def root(lab, *commands, check=None):
    """Commands of root's on the workstation, whether or not they are allowed."""
    for command in commands:
        lab.shell("heron", "sh", "-c", command, check=check)


def in_force(lab):
    return lab.heron("guard", check=0).json["guard"]["in_force"]


def guard_processes(lab):
    """The guard's process, and the one beside it that starts it again."""
    process = lab.heron("guard", check=0).json["guard"]["service"]["process"]
    parent = lab.shell("heron", "ps", "-o", "ppid=", "-p", str(process)).out.strip()
    return str(process), parent


def attacked(*commands, undo=(), seconds=0.8):
    """A tunnel is up, root does something, and undoes it a moment later; the guard has to be in force all the same."""

    def act(lab):
        connect(lab)
        root(lab, *commands)
        time.sleep(seconds)
        assert in_force(lab)
        root(lab, *undo)

    return act


def claimed(network, own, theirs):
    """The local network claims public addresses before there is a tunnel, a site's own among them."""

    def act(lab):
        version = "-6" if ":" in own else "-4"
        nodad = ("nodad",) if ":" in own else ()
        length = network.partition("/")[2]
        router = next(iter(story.LOCAL_NETWORKS))
        lab.shell("cobblewire", "ip", version, "address", "add", f"{theirs}/{length}", "dev", router, *nodad)
        line = ("ip", version, "address", "add", f"{own}/{length}", "dev", "lan", *nodad)
        try:
            with changed(lab, [line], [("ip", version, "address", "del", f"{own}/{length}", "dev", "lan")]):
                answer = connect(lab)
                time.sleep(1.5)
                codes = {row[0] for row in lab.heron("status").json["tunnel"]["findings"]}
                assert "local-network-public" in codes, answer
        finally:
            lab.shell("cobblewire", "ip", version, "address", "del", f"{theirs}/{length}", "dev", router)

    return act


def record_deleted_and_flushed(lab):
    """The record is gone, and then the ruleset is to go: the process has both still."""
    connect(lab)
    record = lab.folder / "heron" / "guard.json"
    record.unlink()
    root(lab, "nft flush ruleset")
    time.sleep(0.5)
    assert in_force(lab)
    lab.heron("connect", "tallinn", "--detach", "--unprotected")
    assert record.exists()


def record_damaged_and_killed(lab):
    """Nobody knows who held what: everything stays held, also by the process that is started again."""
    connect(lab)
    (lab.folder / "heron" / "guard.json").write_text("{")
    process, parent = guard_processes(lab)
    root(lab, f"kill -9 {process} {parent}")
    until(lambda: in_force(lab) and guard_processes(lab)[0] != process)


def guard_process_killed(lab):
    connect(lab)
    process, _ = guard_processes(lab)
    root(lab, f"kill -9 {process}")
    until(lambda: lab.heron("guard").json["guard"]["service"]["process"] not in (0, int(process)))
    assert in_force(lab)


def both_guard_processes_killed(lab):
    """The kernel keeps the tables; the tunnel's process starts another owner."""
    connect(lab)
    process, parent = guard_processes(lab)
    root(lab, f"kill -9 {process} {parent}")
    until(lambda: lab.heron("guard").json["guard"]["service"]["owns_the_table"])
    assert in_force(lab)


def guard_process_stopped(lab):
    """It answers nobody, and owns the tables still."""
    connect(lab)
    process, _ = guard_processes(lab)
    root(lab, f"kill -STOP {process}", "nft flush ruleset", "nft delete table inet zesty_guard")
    time.sleep(0.5)
    seen = lab.heron("guard").json
    assert seen["guard"]["measured"] == "as intended"
    assert "guard-silent" in {one["code"] for one in seen["findings"]}
    root(lab, f"kill -CONT {process}")


def carrier_stopped(lab):
    """`status` says what is known of the guard, which was measured, and that the tunnel's process does not answer."""
    process = connect(lab)["tunnel"]["process"]
    root(lab, f"kill -STOP {process}")
    status = lab.heron("status").json
    assert status["guard"]["measured"] == "as intended"
    assert "tunnel-silent" in {one["code"] for one in status["findings"]}
    # It cannot be asked to switch, and that is said at once.
    assert lab.heron("connect", "tallinn", "--detach").json["code"] == "tunnel-silent"
    root(lab, f"kill -CONT {process}")
    until(lambda: (relay(lab) or {}).get("is_up"))


def carrier_killed_and_record_deleted(lab):
    """The table in the kernel is of nobody who is known: it stays."""
    process = connect(lab)["tunnel"]["process"]
    owner, parent = guard_processes(lab)
    # Stopped first: none of them can start another owner, which would still know the record.
    root(lab, f"kill -STOP {parent} {owner} {process}")
    (lab.folder / "heron" / "guard.json").unlink()
    root(lab, f"kill -9 {process} {owner} {parent}")
    seen = lab.heron("guard").json["guard"]
    assert seen["measured"] in ("as intended", "different") and seen["in_force"] is not None
    lab.heron("restore", check=0)
    seen = lab.heron("guard", check=0).json
    assert seen["guard"]["in_force"], seen


def flapping(lab):
    """The outer device goes down and comes back, again and again."""
    connect(lab)
    for _ in range(4):
        root(lab, "ip link set lan down")
        time.sleep(0.15)
        root(
            lab, "ip link set lan up", "ip -6 address replace 2001:db8:c0b:77::20/64 dev lan nodad",
            "ip route replace default via 192.168.77.1 dev lan", "ip -6 route replace default via 2001:db8:c0b:77::1 dev lan",
        )  # fmt: skip
        time.sleep(0.15)
    until(lambda: (relay(lab) or {}).get("is_up"))


def moving_fast(lab):
    connect(lab)
    for network in ("harbour", "cottage", "harbour", "cottage"):
        lab.run("lab", "move", network, check=0)
    until(lambda: lab.heron("verify").json.get("verdict") == "sealed")


def switching_fast(lab):
    connect(lab)
    for place in ("tallinn", "nairobi", "tallinn", "lisbon"):
        lab.heron("connect", place, "--detach", "--unprotected")
    until(lambda: (relay(lab) or {}).get("is_up"))


def redirected_by_the_router(lab):
    """ICMP redirects (RFC 792) send the gateway's traffic by another neighbour: it stays encrypted, and nothing else goes."""
    connect(lab)
    gateway = story.PLACE_BY_NAME["lisbon"].outer
    code = (
        "import socket, struct, sys\n"
        "def total(d):\n"
        "    t = sum(struct.unpack(f'>{len(d)//2}H', d)); t = (t & 65535) + (t >> 16); return ~(t + (t >> 16)) & 65535\n"
        "inner = struct.pack('>BBHHHBBH4s4s', 69, 0, 36, 1, 0, 64, 17, 0, socket.inet_aton('192.168.77.20'),"
        " socket.inet_aton(sys.argv[1])) + struct.pack('>HHHH', 4500, 4500, 16, 0)\n"
        "body = struct.pack('>BBH4s', 5, 1, 0, socket.inet_aton('192.168.77.99')) + inner\n"
        "body = body[:2] + total(body).to_bytes(2, 'big') + body[4:]\n"
        "s = socket.socket(socket.AF_INET, socket.SOCK_RAW, 1)\n"
        "[s.sendto(body, ('192.168.77.20', 0)) for _ in range(20)]\n"
    )
    for target in (gateway, FAR4):
        lab.shell("cobblewire", "python3", "-c", code, target)
    time.sleep(1)


def advertised_by_the_router(lab):
    """Routes by DHCP and by advertisement, and somebody who claims the router's addresses, all at once."""
    connect(lab)
    with hostile(lab, "dhcp-routes", "advertised-routes", "address-claims", "rogue-resolver", renewed=True):
        time.sleep(1.5)
    until(lambda: lab.heron("verify").json.get("verdict") == "sealed")


def passed_on_for_a_guest(lab):
    """A guest behind this machine, which forwards: its packets are held as its own are."""
    connect(lab)
    code = (
        "import ctypes, os, socket, subprocess, time\n"
        "r, w = os.pipe(); b, c = os.pipe(); p = os.fork()\n"
        "if p == 0:\n"
        "    ctypes.CDLL(None).unshare(0x40000000); os.write(w, b'1'); os.read(b, 1)\n"
        "    for line in ('link set g1 up', 'address add 10.99.1.2/24 dev g1', 'route add default via 10.99.1.1'):\n"
        "        subprocess.run(['ip', *line.split()], check=True)\n"
        "    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\n"
        "    for n in range(20):\n"
        "        try: s.sendto(b'heron-in-the-clear-guest-at-%.6f' % time.time(), ('203.0.113.10', 9))\n"
        "        except OSError: pass\n"
        "        time.sleep(0.05)\n"
        "    os._exit(0)\n"
        "os.read(r, 1)\n"
        "for line in ('link add g0 type veth peer name g1', f'link set g1 netns {p}', 'link set g0 up', 'address add"
        " 10.99.1.1/24 dev g0'):\n"
        "    subprocess.run(['ip', *line.split()], check=True)\n"
        "open('/proc/sys/net/ipv4/ip_forward', 'w').write('1'); os.write(c, b'1'); os.waitpid(p, 0)\n"
        "open('/proc/sys/net/ipv4/ip_forward', 'w').write('0'); subprocess.run(['ip', 'link', 'del', 'g0'])\n"
    )
    lab.shell("heron", "python3", "-c", code)
    assert in_force(lab)


def lost_to_a_restart(lab):
    connect(lab)
    LabClient(lab.folder).call_host("lisbon", "restart")
    root(lab, "nft flush ruleset", "ip rule flush", "ip route flush table 23106")
    time.sleep(1)
    root(lab, "ip rule add pref 32766 table main", "ip rule add pref 32767 table default")
    assert in_force(lab)


def resolver_file_read_only(lab):
    """The file of name servers cannot be written while the tunnel is up."""
    connect(lab)
    root(lab, "mount -o remount,bind,ro /etc/resolv.conf")
    time.sleep(0.5)
    try:
        assert in_force(lab)
    finally:
        root(lab, "mount -o remount,bind,rw /etc/resolv.conf")


DEFAULT = "ip route del default; ip route add default via 192.168.77.1 dev lan"
NAMED = {
    "flushed": attacked("nft flush table inet zesty_guard", "nft flush table netdev zesty_guard", "nft flush ruleset"),
    "deleted": attacked("nft delete table inet zesty_guard", "nft delete table netdev zesty_guard"),
    "accept_inserted": attacked(
        "nft insert rule inet zesty_guard sent accept", "nft insert rule inet zesty_guard leaving accept",
        "nft insert rule netdev zesty_guard by_lan accept", "nft add element inet zesty_guard portal_users '{ 0 }'",
    ),
    "made_dormant": attacked("nft add table inet zesty_guard '{ flags dormant; }'"),
    "chain_taken": attacked(
        "nft flush chain inet zesty_guard sent", "nft delete chain netdev zesty_guard by_lan",
        "nft rename chain inet zesty_guard sent other",
    ),
    "accepted_elsewhere": attacked(
        "nft add table inet other", "nft 'add chain inet other o { type filter hook output priority -400; policy accept; }'",
        "nft add rule inet other o accept",
        "nft 'add chain inet other p { type filter hook postrouting priority 400; policy accept; }'",
        "nft add rule inet other p accept", undo=["nft delete table inet other"],
    ),
    "translated_elsewhere": attacked(
        "nft add table ip other", "nft 'add chain ip other o { type nat hook output priority -100; }'",
        "nft add rule ip other o udp dport 9 dnat to 203.0.113.11", undo=["nft delete table ip other"],
    ),
    "marked_by_another_table": attacked(
        "nft add table inet other", "nft 'add chain inet other o { type route hook output priority -150; }'",
        "nft add rule inet other o meta mark set 0x5a420001", undo=["nft delete table inet other"],
    ),
    "second_default_route": attacked(
        "ip route add default via 192.168.77.99 dev lan metric 5", "ip -6 route add default via fe80::99 dev lan metric 5",
        undo=["ip route del default via 192.168.77.99", "ip -6 route del default via fe80::99"],
    ),
    "rule_for_a_user": attacked("ip rule add pref 7 uidrange 0-0 table main", undo=["ip rule del pref 7"]),
    "rule_for_a_mark": attacked("ip rule add pref 7 not fwmark 0x7 table main", undo=["ip rule del pref 7"]),
    "local_table": attacked(
        "ip route add broadcast 203.0.113.10 dev lan table local", "ip route add multicast 203.0.113.11 dev lan table local",
        undo=["ip route del broadcast 203.0.113.10 dev lan table local", "ip route del multicast 203.0.113.11 table local"],
    ),
    "groups_routed": attacked(
        "ip route add 224.0.0.0/4 dev lan", undo=["ip route del 224.0.0.0/4 dev lan"],
    ),
    "macvlan_here": attacked(
        "ip link add link lan name mv0 type macvlan", "ip link set mv0 up", "ip address add 192.168.77.66/24 dev mv0",
        "ip route add 203.0.113.10 dev mv0 via 192.168.77.1", undo=["ip link del mv0"],
    ),
    "vlan_here": attacked(
        "ip link add link lan name lan.5 type vlan id 5", "ip link set lan.5 up",
        "ip address add 203.0.113.66/24 dev lan.5", undo=["ip link del lan.5"],
    ),
    "device_like_ours": attacked(
        "ip link add zesty7 type veth peer name zesty8", "ip link set zesty7 up", "ip link set zesty8 up",
        "ip address add 203.0.113.66/24 dev zesty7", undo=["ip link del zesty7"],
    ),
    "tunnel_device_deleted_address": attacked("ip address flush dev zesty0", "ip link set zesty0 down"),
    "small_mtu": attacked("ip link set lan mtu 1300", undo=["ip link set lan mtu 1500"]),
    "another_address": attacked(
        "ip address add 192.168.77.21/24 dev lan", undo=["ip address del 192.168.77.21/24 dev lan"],
    ),
    "neighbour_forged": attacked(
        "ip neigh replace 192.168.77.1 lladdr 02:00:00:00:00:66 dev lan", undo=["ip neigh del 192.168.77.1 dev lan"],
    ),
    "guard_off_by_hand": attacked("true", seconds=0.1),
}  # fmt: skip
for _name, _act in NAMED.items():
    _act.__name__ = _name

public_lease = claimed("203.0.113.0/24", "203.0.113.77", FAR4)
public_lease.__name__ = "public_lease"
public_prefix = claimed("2001:db8:b5::/48", "2001:db8:b5::77", FAR6)
public_prefix.__name__ = "public_prefix"

ATTACKS = [
    public_lease,
    public_prefix,
    record_deleted_and_flushed,
    record_damaged_and_killed,
    guard_process_killed,
    both_guard_processes_killed,
    guard_process_stopped,
    carrier_stopped,
    carrier_killed_and_record_deleted,
    flapping,
    moving_fast,
    switching_fast,
    redirected_by_the_router,
    advertised_by_the_router,
    passed_on_for_a_guest,
    lost_to_a_restart,
    resolver_file_read_only,
    *NAMED.values(),
]
