"""The dummy protocol's gateway: lets one account in, and answers pings inside the tunnel itself."""

from __future__ import annotations

import hashlib
import json
import select
import socket
import sys

from dummy.protocol import CONTROL, LABEL, DummyChannel

ACCOUNT, PASSWORD, PORT = "tidewrack_heron", "kelp-Forest_42", 7777


def main():
    channel = DummyChannel(PASSWORD, (), ())
    here = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    here.bind(("127.0.0.1", PORT))
    print("ready", flush=True)
    # It ends with whoever holds the other end of its standard input.
    while sys.stdin not in select.select([here, sys.stdin], [], [])[0]:
        data, source = here.recvfrom(65535)
        if data[:4] == LABEL:
            packet = bytearray(channel.open(data, 0.0))
            # An echo request becomes its reply: type 8 to 0, and the checksum with it (RFC 792, RFC 1624).
            packet[12:16], packet[16:20], packet[20] = packet[16:20], packet[12:16], 0
            total = int.from_bytes(packet[22:24]) + 0x0800
            packet[22:24] = ((total & 0xFFFF) + (total >> 16)).to_bytes(2)
            here.sendto(channel.seal(bytes(packet), 0.0), source)
        elif data[:4] == CONTROL and "who" in json.loads(data[4:]):
            here.sendto(CONTROL + b'{"here": "a dummy gateway"}', source)
        elif data[:4] == CONTROL and "hello" in (asked := json.loads(data[4:])):
            good = asked["proof"] == hashlib.sha256(b"sign in" + PASSWORD.encode()).hexdigest()
            answer = {"address": "10.99.0.5/32", "greeting": f"welcome, {asked['motto']}"} if good else {"refused": 1}
            here.sendto(CONTROL + json.dumps(answer).encode(), source)


if __name__ == "__main__":
    sys.exit(main())
