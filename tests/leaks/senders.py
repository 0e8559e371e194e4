"""Programs that send beside a tunnel, or only seem to: ``python senders.py KIND TARGET ROUTER``. Plain sockets alone."""

import os
import socket
import struct
import sys
import time

PAUSE = 0.05
FAR = ("203.0.113.77", 9)
SO_BINDTODEVICE, SO_MARK = 25, 36


def bound(_target, _router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    channel.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, b"lan")
    return lambda: channel.sendto(b"bound", FAR)


def bound6(_target, _router):
    channel = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
    channel.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, b"lan")
    return lambda: channel.sendto(b"bound", ("2001:db8:b5::77", 9))


def to_gateway(target, _router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    return lambda: channel.sendto(b"in the clear", (target, 7777))


def to_the_gateways_port(target, _router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    return lambda: channel.sendto(b"in the clear", (target, 4500))


def ping_gateway(target, _router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
    echo = struct.pack(">BBHHH", 8, 0, 0xF7FF - 7, 0, 7)
    return lambda: channel.sendto(echo, (target, 0))


def tcp_bound(_target, _router):
    def send():
        with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as channel:
            channel.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, b"lan")
            channel.setblocking(False)
            channel.connect_ex(("203.0.113.77", 443))
            time.sleep(PAUSE)

    return send


def frames(_target, router):
    channel = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, 0x0800)
    payload = struct.pack(">HHHH", 5000, 5001, 8 + 4, 0) + b"zest"
    head = struct.pack(
        ">BBHHHBBH4s4s", 0x45, 0, 20 + len(payload), 1, 0, 64, 17, 0, socket.inet_aton("192.168.77.20"),
        socket.inet_aton("203.0.113.78"),
    )  # fmt: skip
    total = sum(struct.unpack(">10H", head))
    total = (total & 0xFFFF) + (total >> 16)
    head = head[:10] + struct.pack(">H", ~total & 0xFFFF) + head[12:]
    del router
    return lambda: channel.sendto(head + payload, ("lan", 0x0800, 0, 6, b"\x02\0\0\0\0\x99"))


def tagged_frames(_target, _router):
    channel = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0x8100)
    channel.bind(("lan", 0x8100))
    packet = struct.pack(">HHHH", 5000, 5001, 12, 0) + b"zest"
    head = struct.pack(
        ">BBHHHBBH4s4s", 0x45, 0, 20 + len(packet), 1, 0, 64, 17, 0, socket.inet_aton("192.168.77.20"),
        socket.inet_aton("203.0.113.79"),
    )  # fmt: skip
    frame = b"\x02\0\0\0\0\x99" + bytes(6) + b"\x81\x00\x00\x07\x08\x00" + head + packet
    return lambda: channel.send(frame)


def once(target, router):
    send, left = bound(target, router), [1]

    def send_once():
        if left[0]:
            left[0] = 0
            time.sleep(0.4)
            send()

    return send_once


def local(_target, router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    return lambda: channel.sendto(b"to the router", (router, 5353))


def groups(_target, _router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    channel.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton("192.168.77.20"))
    return lambda: channel.sendto(b"anybody here?", ("224.0.0.251", 5353))


def inside(_target, _router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    return lambda: channel.sendto(b"by the tunnel", FAR)


def silent_bound(target, router):
    """Holds a bound socket and sends nothing."""
    bound(target, router)
    kept = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    kept.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, b"lan")
    kept.bind(("0.0.0.0", 6001))
    return lambda: kept.fileno()


def dhcp(_target, _router):
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    channel.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, b"lan")
    channel.bind(("0.0.0.0", 68))
    return lambda: channel.sendto(bytes(240), ("255.255.255.255", 67))


if __name__ == "__main__":
    kind, target, router = sys.argv[1:]
    act = globals()[kind.replace("-", "_")](target, router)
    print("ready", os.getpid(), flush=True)
    while True:
        try:
            act()
        except OSError:
            pass
        time.sleep(PAUSE)
