"""Random policy rules and routes, set by ``ip`` in a network namespace of their own."""

from __future__ import annotations

import subprocess

DEVICES = ("out", "tun", "third")
TABLES = (100, 101, 102)
NETWORKS = {
    4: ("192.0.2.0/24", "192.0.2.64/26", "198.51.100.0/24", "198.51.100.7/32", "203.0.113.0/25", "0.0.0.0/1",
        "128.0.0.0/1", "0.0.0.0/0", "10.0.0.0/8"),
    6: ("2001:db8:1::/48", "2001:db8:1:2::/64", "2001:db8::/32", "2001:db8:9::1/128", "2000::/3", "::/0", "fd00::/8"),
}  # fmt: skip
ADDRESSES = {
    4: ("192.168.1.2", "192.168.2.2", "192.168.3.2"),
    6: ("2001:db8:f1::2", "2001:db8:f2::2", "2001:db8:f3::2"),
}


def ip(lines):
    """Run lines of ``ip`` in one process; a line that the kernel refuses is left out."""
    subprocess.run(["ip", "-force", "-batch", "-"], input="\n".join(lines), text=True, capture_output=True)


def make_devices():
    """Three pairs of Ethernet devices that are up, with an address of each version on this side."""
    lines = ["link set lo up"]
    for number, name in enumerate(DEVICES, start=1):
        lines += [f"link add {name} type veth peer name far{number}", f"link set {name} up", f"link set far{number} up"]
        lines += [
            f"address add 192.168.{number}.2/24 dev {name}",
            f"-6 address add 2001:db8:f{number}::2/64 dev {name} nodad",
        ]
    ip(lines)


def clear():
    lines = []
    for version in (4, 6):
        lines += [f"-{version} rule flush", f"-{version} rule add priority 32766 table main"]
        lines += [f"-{version} route flush table {table}" for table in TABLES]
    # The rule that asks the table of local addresses cannot be missed: a flush leaves it where it is.
    ip(lines)


def network_of(draw, version):
    """Lines for ``ip``: ``draw`` is a ``random.Random``."""
    lines = []
    for table in (*TABLES, "main"):
        for network in draw.sample(NETWORKS[version], draw.randint(0, 4)):
            if table == "main" and draw.random() < 0.5:
                continue
            kind = draw.choice(("",) * 6 + ("unreachable", "blackhole", "prohibit", "throw"))
            way = "" if kind else f" dev {draw.choice(DEVICES)}"
            if not kind and draw.random() < 0.2:
                hops = draw.sample(DEVICES, 2)
                way = "".join(f" nexthop dev {name} weight 1" for name in hops)
            metric = f" metric {draw.randint(1, 3)}" if version == 6 or draw.random() < 0.3 else ""
            service = f" tos {draw.choice(('0x08', '0x10'))}" if version == 4 and draw.random() < 0.1 else ""
            lines.append(f"-{version} route add {kind} {network}{service}{metric} table {table}{way}")
    for _ in range(draw.randint(0, 9)):
        lines.append(f"-{version} rule add {_selector(draw, version)} priority {draw.randint(1, 40)} {_action(draw)}")
    return lines


def _selector(draw, version):
    parts = ["not"] if draw.random() < 0.1 else []
    choices = {
        "to": lambda: f"to {draw.choice(NETWORKS[version])}",
        "from": lambda: f"from {draw.choice(ADDRESSES[version])}",
        "mark": lambda: f"fwmark {draw.choice(('0x1', '0x2', '0x10/0xf0', '0x5/0x7', '0x0/0x8'))}",
        "user": lambda: f"uidrange {draw.choice(('0-0', '1000-1999', '1500-3000'))}",
        "udp": lambda: f"ipproto udp dport {draw.choice(('53', '5000-6000', '1-1023'))}",
        "tcp": lambda: f"ipproto tcp sport {draw.choice(('22', '40000-50000'))}",
        "protocol": lambda: f"ipproto {draw.choice(('udp', 'tcp', 'icmp' if version == 4 else 'ipv6-icmp'))}",
        "bound": lambda: f"oif {draw.choice(DEVICES)}",
        "own": lambda: "iif lo",
        "service": lambda: f"tos {draw.choice(('0x08', '0x10'))}",
    }
    for name in draw.sample(sorted(choices), draw.randint(0, 2)):
        if name in ("udp", "tcp", "protocol") and any("ipproto" in part for part in parts):
            continue
        parts.append(choices[name]())
    return " ".join(parts)


def _action(draw):
    roll = draw.random()
    if roll < 0.08:
        return draw.choice(("unreachable", "blackhole", "prohibit"))
    if roll < 0.16:
        return f"goto {draw.choice((30, 35, 32766))}"
    if roll < 0.2:
        return "nop"
    table = draw.choice((*TABLES, "main"))
    return f"table {table}" + (f" suppress_prefixlength {draw.choice((0, 1, 24))}" if draw.random() < 0.2 else "")
