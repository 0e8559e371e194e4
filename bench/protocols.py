"""``./run bench protocols``: what each protocol and transport carries and how soon it is up, beside others of its kind.

Every round brings each of ours up in turn and measures it, and then the rivals; what counts are the medians of the
rounds' ratios. Nothing is installed: what is missing is said.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import statistics
import sys
import tempfile
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from bench.datapath.__main__ import tcp, udp
from bench.datapath.wires import MTU, Wires, missing, wires
from bench.quic_echo import echo

IKE, HTTP2, HTTP3, IKE_TCP = "IKEv2, UDP", "CONNECT-IP, HTTP/2", "CONNECT-IP, HTTP/3", "IKEv2, TCP"
L2TP = "L2TP over IPsec"
WAYS = {
    IKE: ("--protocol", "ikev2", "--transport", "udp"),
    HTTP2: ("--protocol", "connect-ip", "--transport", "tcp"),
    HTTP3: ("--protocol", "connect-ip", "--transport", "udp"),
    IKE_TCP: ("--protocol", "ikev2", "--transport", "tcp"),
    L2TP: ("--protocol", "l2tp-ipsec", "--transport", "udp"),
}
SSH, SOCAT, ECHO = "ssh -w", "socat TLS", "the QUIC library's echo"
GOALS = {
    (HTTP2, "TCP", SSH): (5.0, 3.0),
    (HTTP2, "TCP", SOCAT): (2.0, 1.3),
    (HTTP3, "datagrams", ECHO): (0.8, 0.5),
    (IKE_TCP, "TCP", SSH): (5.0, 3.0),
    (L2TP, "TCP", SSH): (3.0, 1.0),
    (HTTP2, "up", IKE): (1.5, 2.5),
    (HTTP3, "up", IKE): (1.5, 2.5),
    (IKE_TCP, "up", IKE): (1.5, 2.5),
    (L2TP, "up", IKE): (1.5, 2.5),
}
"""By what, measure and rival: the goal, and the least (for times: the most), as ratios."""
DATAGRAM = 1200
Row = dict[str, float]


def measure_ours(made: Wires, name: str, choices: Sequence[str], seconds: float, *, warm: bool) -> Row:
    """One protocol, from nothing to up and down again."""
    began = time.perf_counter()
    contender = made.up(choices, name=name)
    row: Row = {"up": time.perf_counter() - began}
    if warm:
        with suppress(SystemExit):
            made.warm_up(contender.far, 60)
    row["TCP"], row["CPU"] = tcp(made, contender, 1, seconds, back=False)
    row["TCP back"], _ = tcp(made, contender, 1, seconds, back=True)
    if name == HTTP3:
        row["datagrams"] = udp(made, contender, DATAGRAM, 1.0)
    made.down()
    return row


def one_round(made: Wires, rivals: Sequence[object], seconds: float) -> dict[str, Row]:
    """Everybody once."""
    rows = {name: measure_ours(made, name, words, seconds, warm=name != HTTP3) for name, words in WAYS.items()}
    for one in rivals:
        rate, cost = tcp(made, one, 1, seconds, back=False)  # type: ignore[arg-type]
        rows[one.name] = {"TCP": rate, "CPU": cost}  # type: ignore[attr-defined]
    rows[ECHO] = {"datagrams": echo(DATAGRAM, 1.0) / 1000}
    return rows


def ratio(rounds: Sequence[dict[str, Row]], name: str, measure: str, rival: str) -> float:
    """The median of the rounds' ratios."""
    return statistics.median(one[name][measure] / max(one[rival][measure], 1e-9) for one in rounds)


def table(document: dict[str, object], rounds: Sequence[dict[str, Row]]) -> str:
    """Figures, then ratios beside their goals."""
    lines = [str(document["machine"]), ""]
    for name in rounds[0]:
        cells = {key: statistics.median(one[name][key] for one in rounds) for key in rounds[0][name]}
        units = {"up": "s", "TCP": "Gbit/s", "TCP back": "Gbit/s back", "CPU": "CPU s/Gbit", "datagrams": "kpackets/s"}
        lines.append(f"{name:<26}" + "  ".join(f"{value:8.3g} {units[key]}" for key, value in cells.items()))
    lines.append("")
    for (name, measure, rival), (goal, least) in GOALS.items():
        found = ratio(rounds, name, measure, rival)
        lines.append(f"{name:<20} {measure:<10} / {rival:<26}{found:7.2f}   goal {goal:g}, limit {least:g}")
    return "\n".join(lines)


def main() -> int:
    """Bring everything up, measure, take everything down."""
    parser = argparse.ArgumentParser(prog="bench protocols", description=__doc__)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--seconds", type=float, default=2.0, help="of each TCP run (2)")
    parser.add_argument("--json", type=Path, metavar="FILE", help="write everything to FILE")
    args = parser.parse_args()
    if lacking := missing():
        print("these Debian packages are needed:", " ".join(sorted(set(lacking.values()))), file=sys.stderr)
        return 2
    if os.geteuid():
        print("this makes network namespaces and has to run as root", file=sys.stderr)
        return 2
    with tempfile.TemporaryDirectory(prefix="zb") as folder, wires(Path(folder)) as made:
        made.serve()
        made.ours()
        made.down()
        made.keep_shared_key()
        rivals = [made.ssh(), made.socat(over_tcp=True)]
        rounds = []
        for number in range(args.rounds):
            rounds.append(one_round(made, rivals, args.seconds))
            print(f"round {number + 1} of {args.rounds}", file=sys.stderr, flush=True)
    machine = (
        f"{platform.machine()}, {os.cpu_count()} cores, Linux {platform.release()}, Python {platform.python_version()}"
    )
    document: dict[str, object] = {"machine": f"{machine}; {args.rounds} rounds, inner MTU {MTU}", "rounds": rounds}
    print(table(document, rounds))
    if args.json:
        args.json.write_text(json.dumps(document, indent=2) + "\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
