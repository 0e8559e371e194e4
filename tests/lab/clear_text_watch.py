"""A sender on the workstation, and an independent analyser on its outer wire that counts what is in the clear.

The sender has every way that a program has; each of its packets holds a word that can be read only in the clear.
"""

from __future__ import annotations

import re
import struct
import subprocess
import sys
from pathlib import Path

from lab import hostile_sender
from zesty_burrow.lab import story
from zesty_burrow.lab.local_network.proxies import HTTP_PORT, SOCKS_PORT

HERON4, HERON6 = "192.168.77.20", "2001:db8:c0b:77::20"
HARBOUR4, HARBOUR6 = "192.168.88.20", "2001:db8:c0b:88::20"
MINE = (
    "("
    + " || ".join(f"{'ipv6' if ':' in one else 'ip'}.src=={one}" for one in (HERON4, HERON6, HARBOUR4, HARBOUR6))
    + ")"
)
"""For the analyser: what the workstation has sent, wherever it is."""
WORD = "heron-in-the-clear"

SENDER = """
import os, socket, sys, threading, time
word = sys.argv[1]
observatory4, observatory6, isp4, isp6, provider4, gateway, heron4, heron6 = sys.argv[2:]

def stamped(kind):
    seconds, _, fraction = f"{time.time():.6f}".partition(".")
    return f"{word}-{kind}-at-{seconds}-{fraction}"

def question(kind):
    labels = f"{stamped(kind)}.observatory.example".split(".")
    name = b"".join(bytes([len(one)]) + one.encode() for one in labels) + b"\\0"
    return b"\\0\\1\\1\\0\\0\\1\\0\\0\\0\\0\\0\\0" + name + b"\\0\\1\\0\\1"

def plain(kind):
    return stamped(kind).encode()

ROWS = {
    "udp4": (observatory4, 9, "", "", plain),
    "udp6": (observatory6, 9, "", "", plain),
    "bound4": (observatory4, 9, heron4, "", plain),
    "bound6": (observatory6, 9, heron6, "", plain),
    "device4": (observatory4, 9, "", "lan", plain),
    "device6": (observatory6, 9, "", "lan", plain),
    "gateway": (gateway, 9, "", "", plain),
    "gateway-ike": (gateway, 4500, "", "", plain),
    "gateway-https": (gateway, 443, "", "", plain),
    "dns-isp4": (isp4, 53, "", "", question),
    "dns-isp6": (isp6, 53, "", "", question),
    "dns-provider": (provider4, 53, "", "", question),
    "dot-isp": (isp4, 853, "", "", plain),
}
channels = {}
for kind, (target, port, source, device, _) in ROWS.items():
    channel = socket.socket(socket.AF_INET6 if ":" in target else socket.AF_INET, socket.SOCK_DGRAM)
    channel.setblocking(False)
    if source:
        channel.bind((source, 0))
    if device:
        channel.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
    channels[kind] = channel

def look_up():
    number = 0
    while True:
        number += 1
        try:
            socket.getaddrinfo(f"{word}-resolver-{number}.observatory.example", 80)
        except OSError:
            pass
        time.sleep(0.1)

threading.Thread(target=look_up, daemon=True).start()
print("ready", flush=True)
end = time.monotonic() + 300
while time.monotonic() < end:
    for kind, (target, port, _, _, make) in ROWS.items():
        try:
            channels[kind].sendto(make(kind), (target, port))
        except OSError:
            pass
    time.sleep(0.04)
"""
PLAIN_KINDS = {
    "udp4", "udp6", "bound4", "bound6", "device4", "device6", "gateway", "gateway-ike", "gateway-https", "dns-isp4", "dns-isp6",
    "dns-provider", "dot-isp", "resolver",
}  # fmt: skip

KINDS = PLAIN_KINDS | set(hostile_sender.KINDS)

CAPTURE = """
import os, socket, sys, time
from struct import pack
channel = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
channel.setsockopt(socket.SOL_SOCKET, 33, 64 << 20)
with open(sys.argv[1], "wb", buffering=0) as file:
    file.write(pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
    print("ready", flush=True)
    while True:
        frame, (device, *_) = channel.recvfrom(65536)
        if device not in sys.argv[2:]:
            continue
        now = time.time()
        file.write(pack("<IIII", int(now), int(now % 1 * 1e6), len(frame), len(frame)) + frame)
"""


class Watch:
    """A capture on the router's ends of the workstation's wires, and the sender."""

    def __init__(self, lab, folder, gateway="lisbon", proxy="", *, by_gre=False):
        """``proxy``: the address of the one that the tunnel goes by, if it does; ``by_gre``: it goes by PPTP."""
        self.lab, self.path = lab, folder / "wire.pcap"
        self.gateway = story.PLACE_BY_NAME[gateway].outer
        by_proxy = f"(tcp.dstport in {{{HTTP_PORT}, {SOCKS_PORT}}} || udp.dstport > 1023) && ip.dst=={proxy}"
        self.proxied = f" || ({by_proxy})" if proxy else ""
        if by_gre:
            self.proxied += f" || ((gre || tcp.dstport==1723) && ip.dst=={self.gateway})"
        self.processes = []

    def start(self, host, *words):
        process = self.lab.start(host, *words)
        self.processes.append(process)
        assert process.stdout.readline() == "ready\n"

    def capture(self):
        self.start("cobblewire", sys.executable, "-c", CAPTURE, str(self.path), *story.LOCAL_NETWORKS)

    def send(self):
        self.start(
            "heron", sys.executable, "-c", SENDER, WORD, story.OBSERVATORY4, story.OBSERVATORY6,
            story.ISP_RESOLVER4, story.ISP_RESOLVER6, story.RESOLVER4, self.gateway, HERON4, HERON6,
        )  # fmt: skip
        self.start(
            "heron", sys.executable, str(Path(hostile_sender.__file__)), WORD, self.gateway, "192.168.77.1", HERON4, HERON6,
            story.OBSERVATORY4, story.OBSERVATORY6,
        )  # fmt: skip

    def read(self):
        """When the first packet of the tunnel's own left, else infinite; and the senders' packets that the analyser reads in the clear.

        The tunnel's own: IKE, HTTPS, a proxy. Not a question for the gateway's name: the first one is asked before the
        guard closes, to see whether it helps. Not what an error message quotes: an earlier tunnel's gateway may still
        ask for its caller.

        Of each packet in the clear: when it was sent, and its kind. It says itself when that was: some wait for a moment
        in the kernel, behind every filter, for the router's hardware address. Names are asked again later by others,
        so for them the moment on the wire counts.
        """
        # `connect` has looked at the outside before it closed the guard: the observatory is no gateway.
        looked = f"ip.dst=={story.OBSERVATORY4} || ipv6.dst=={story.OBSERVATORY6}"
        to_office = f"ip.dst=={story.OFFICE.outer} || {looked}"
        started = f"((isakmp || tcp.dstport in {{4500, 443}} || udp.dstport==443) && !({to_office})){self.proxied}"
        ours = f'({started}) && {MINE} && !icmp && !icmpv6 && !(frame contains "{WORD}")'
        macs = " || ".join(f"eth.src=={one}" for one in self.hardware_addresses())
        clear = f'frame contains "{WORD}" && ({macs})'
        # One run for both: what it finds is told apart by the word.
        numbers = self.analysed(f"({ours}) || ({clear})", "frame.number")
        # Read after the analyser has: the capture still goes on.
        frames = list(self.frames())
        rows = [frames[int(number) - 1] for number in numbers]
        begin = min((moment for moment, frame in rows if WORD.encode() not in frame), default=float("inf"))
        return begin, [self._kind(moment, frame) for moment, frame in rows if WORD.encode() in frame]

    @staticmethod
    def _kind(moment, frame):
        kind = re.search(rf"{WORD}-([a-z0-9-]+)", frame.decode("ascii", "replace"))[1]
        if kind.startswith("resolver"):
            return moment, "resolver"
        name, _, stamp = kind.partition("-at-")
        return float(stamp.replace("-", ".")), name

    def hardware_addresses(self):
        """Of the workstation's outer devices, and of the guest on one of them."""
        text = self.lab.shell("heron", "ip", "-o", "link").out
        return [*re.findall(r"(?:lan|wlan)@.*link/ether ([0-9a-f:]{17})", text), *hostile_sender.GUESTS.values()]

    def frames(self):
        """Of the capture's file, whole ones alone: the moment, and the octets."""
        data = self.path.read_bytes()
        at = 24
        while at + 16 <= len(data):
            seconds, fraction, size, _ = struct.unpack_from("<IIII", data, at)
            if at + 16 + size > len(data):
                return
            yield seconds + fraction / 1e6, data[at + 16 : at + 16 + size]
            at += 16 + size

    def not_named(self, since, until):
        """Frames of the workstation that the allow-list does not name, whoever has sent them."""
        gateways = [one.outer for one in story.GATEWAYS]
        outer = " || ".join(f"{'ipv6' if ':' in one else 'ip'}.dst=={one}" for one in gateways)
        named = [
            "arp",
            "icmpv6.type in {131..133, 135, 136, 143}",
            "dhcp",
            "dhcpv6",
            f"((udp.port in {{500, 4500, 443}} || tcp.dstport in {{4500, 443}}) && ({outer})){self.proxied}",
            f'(dns.qry.name matches "quillwort|tidewrack-office" && (ip.dst=={story.ISP_RESOLVER4} || ipv6.dst=={story.ISP_RESOLVER6}))',
            "ip.dst in {192.168.77.0/24, 192.168.88.0/24}",
            "ipv6.dst in {2001:db8:c0b:77::/64, 2001:db8:c0b:88::/64}",
            "ipv6.dst==fe80::/64",
        ]
        mine = f"{MINE} && frame.time_epoch >= {since:.6f}"
        mine += f" && frame.time_epoch < {until:.6f}"
        return self.analysed(f"{mine} && !({' || '.join(named)})", "ip.dst", "ipv6.dst", "_ws.col.Info")

    def analysed(self, wanted, *fields):
        line = ["tshark", "-n", "-r", str(self.path), "-Y", wanted, "-T", "fields"]
        for field in fields:
            line += ["-e", field]
        ended = subprocess.run(line, capture_output=True, text=True)
        # A capture that still goes on may end in the middle of a frame.
        assert ended.returncode == 0 or "cut short" in ended.stderr, ended.stderr
        return ended.stdout.splitlines()
