"""In the lab: TCP through each protocol over a line that loses packets and takes its time, against HTTP/2's."""

from __future__ import annotations

import sys

from bench.connecting import PORT, SOURCE, Bench, Row, lab, sink
from zesty_burrow.lab import story

MEGABYTES = 4
LOSS, DELAY = "1", "20"
"""Percent of packets, and milliseconds each way."""
PLACE = "lisbon"
SERVERS = ("--name-servers", f"{story.RESOLVER4},{story.RESOLVER6}")
HTTP2 = "CONNECT-IP, HTTP/2"
WAYS = {
    HTTP2: ("--protocol", "connect-ip", "--transport", "tcp", *SERVERS),
    "CONNECT-IP, HTTP/3": ("--protocol", "connect-ip", "--transport", "udp", *SERVERS),
    "IKEv2, UDP": ("--protocol", "ikev2", "--transport", "udp", "--name-servers", "gateway"),
    "IKEv2, TCP": ("--protocol", "ikev2", "--transport", "tcp", "--name-servers", "gateway"),
}


def carried(bench: Bench, choices: tuple[str, ...]) -> float:
    """Seconds for the octets, on a tunnel of its own."""
    bench.heron(bench.program, "choose", PLACE, *choices)
    bench.connect(PLACE)
    bench.run("lab", "wire", "--loss", LOSS, "--delay", DELAY)
    try:
        source = (sys.executable, "-c", SOURCE, story.OBSERVATORY4, str(PORT), str(MEGABYTES << 20))
        return float(bench.heron(*source))
    finally:
        bench.run("lab", "wire")
        bench.disconnect()


def measure(rounds: int) -> list[Row]:
    """Seconds for one stream by each way, beside those of HTTP/2 in the same round."""
    found: dict[str, list[float]] = {name: [] for name in WAYS}
    with lab() as bench, sink(bench, MEGABYTES):
        for _ in range(rounds):
            for name, choices in WAYS.items():
                found[name].append(carried(bench, choices))
    line = f"{LOSS} % loss and {2 * int(DELAY)} ms, {MEGABYTES} MiB by TCP"
    return [(f"{line}, {name}", row, found[HTTP2], HTTP2) for name, row in found.items()]
