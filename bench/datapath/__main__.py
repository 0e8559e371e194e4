"""``./run bench datapath``: what a tunnel carries, beside ``ssh -w`` and ``socat`` over DTLS, all up at once.

Every round measures every contender in turn, in another order; what counts are the medians of the rounds' ratios, as
a machine's absolute figures drift. Nothing is installed: what is missing is said.
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
from collections.abc import Callable, Mapping
from pathlib import Path

from bench.datapath.wires import MTU, Contender, Wires, missing, wires

TCP = {"TCP, 1 stream": (1, False), "TCP, 1 back": (1, True), "TCP, 4 streams": (4, False), "TCP, 4 back": (4, True)}
UDP = {"UDP, 1372 octets": 1372, "UDP, 128 octets": 128}
IDLE = "idle round trip"
UNITS = {**dict.fromkeys(TCP, "Gbit/s"), **dict.fromkeys(UDP, "kpackets/s"), IDLE: "ms"}
CPU = "CPU s per Gbit"
GOALS = {
    **{(name, "ssh -w"): (5.0, 3.6) for name in TCP},
    **{(name, "socat DTLS"): (3.0, 2.3) for name in TCP},
    **{(name, "ssh -w"): (4.0, 2.7) for name in UDP},
    (CPU, "ssh -w"): (0.25, 0.35),
}
"""By measure and rival: the goal, and the least, as ratios."""
LOSSLESS = 0.001
"""The share of datagrams that may be missing for a rate to count as one without loss: a busy machine's hiccup."""
SLOWEST, FASTEST, STEPS = 4.0, 480.0, 7
"""Thousand packets a second between which the rate without loss is looked for, and in how many steps."""
Row = dict[str, float]


def iperf(made: Wires, *words: str) -> dict[str, object]:
    """One run; a server that is still busy with the one before is asked again."""
    for _ in range(20):
        said = json.loads(made.near.run("iperf3", "-J", *words, check=False))
        if "error" not in said:
            return dict(said["end"])
        time.sleep(0.5)
    raise SystemExit(f"iperf3 {' '.join(words)}: {said['error']}")


def tcp(made: Wires, contender: Contender, streams: int, seconds: float, *, back: bool) -> tuple[float, float]:
    """Gbit/s, and seconds of the tunnel's processor time for each Gbit."""
    before = contender.cpu()
    words = ["-c", contender.far, "-t", f"{seconds:g}", "-P", str(streams), *(["-R"] if back else [])]
    received: Mapping[str, float] = iperf(made, *words)["sum_received"]  # type: ignore[assignment]
    carried = received["bytes"] * 8 / 1e9
    return received["bits_per_second"] / 1e9, (contender.cpu() - before) / max(carried, 1e-9)


def udp(made: Wires, contender: Contender, size: int, seconds: float) -> float:
    """The highest rate, in thousand packets a second, that arrives whole, by halving what is left of the scale."""
    low, high, best = SLOWEST, FASTEST, 0.0
    for _ in range(STEPS):
        rate = (low * high) ** 0.5
        bits = f"{rate * 1000 * size * 8:.0f}"
        said: Mapping[str, float] = iperf(
            made, "-u", "-c", contender.far, "-t", f"{seconds:g}", "-l", str(size), "-b", bits, "-w", "4M"
        )["sum"]  # type: ignore[assignment]
        sent, seconds_taken = max(said["packets"], 1), max(said["seconds"], 1e-9)
        came = (sent - said["lost_packets"]) / seconds_taken / 1000
        # A sender that could not keep the pace has not shown that the rate arrives.
        if said["lost_packets"] <= LOSSLESS * sent and came > 0.9 * rate:
            low, best = rate, max(best, came)
        else:
            high = rate
    return best


def idle(made: Wires, contender: Contender) -> float:
    """Milliseconds there and back while nothing else goes."""
    time.sleep(0.3)
    said = made.near.run("ping", "-c", "60", "-i", "0.02", contender.far)
    times = [float(line.rpartition("time=")[2].split()[0]) for line in said.splitlines() if "time=" in line]
    return statistics.median(times)


def measure_round(made: Wires, contender: Contender, seconds: float) -> Row:
    """Every measure of one contender."""
    row: Row = {}
    costs = []
    for name, (streams, back) in TCP.items():
        row[name], cost = tcp(made, contender, streams, seconds, back=back)
        costs.append(cost)
    row[CPU] = statistics.median(costs)
    for name, size in UDP.items():
        row[name] = udp(made, contender, size, min(seconds, 1.0))
    row[IDLE] = idle(made, contender)
    return row


def medians(rounds: list[dict[str, Row]]) -> dict[str, dict[str, float]]:
    """The absolute figures, by measure and contender."""
    return {
        name: {who: statistics.median(one[who][name] for one in rounds) for who in rounds[0]}
        for name in rounds[0]["ours"]
    }


def ratios(rounds: list[dict[str, Row]]) -> dict[str, dict[str, float]]:
    """The medians of the rounds' ratios, by measure and rival."""

    def against(name: str, rival: str) -> float:
        pairs = [(one["ours"][name], one[rival][name]) for one in rounds]
        return statistics.median(own / other if other else float("inf") for own, other in pairs)

    rivals = [who for who in rounds[0] if who != "ours"]
    return {name: {rival: against(name, rival) for rival in rivals} for name in rounds[0]["ours"]}


def table(document: Mapping[str, object]) -> str:
    """Measures, what each contender reached, and the ratios beside their goals."""
    figures: dict[str, dict[str, float]] = document["medians"]  # type: ignore[assignment]
    against: dict[str, dict[str, float]] = document["ratios"]  # type: ignore[assignment]
    names = list(next(iter(figures.values())))
    lines = [str(document["machine"]), ""]
    lines.append(
        f"{'':<18}" + "".join(f"{name:>12}" for name in names) + f"{'':14}{'/ ssh -w':>9}{'goal':>7}{'/ socat':>9}"
    )
    for name, row in figures.items():
        goal = GOALS.get((name, "ssh -w"))
        lines.append(
            f"{name:<18}"
            + "".join(f"{row[who]:12.3g}" for who in names)
            + f"  {UNITS.get(name, 's'):<12}{against[name]['ssh -w']:9.2f}"
            + (f"{goal[0]:7.3g}" if goal else f"{'':7}")
            + f"{against[name]['socat DTLS']:9.2f}"
        )
    return "\n".join(lines)


def plot(document: Mapping[str, object], path: Path) -> None:
    """The ratios as bars, beside goal and least."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    against: dict[str, dict[str, float]] = document["ratios"]  # type: ignore[assignment]
    names = [*TCP, *UDP]
    figure, axes = pyplot.subplots(figsize=(10.6, 6.4), layout="constrained")
    colours = {"ssh -w": "#2f6f8f", "socat DTLS": "#c98a2b"}
    for offset, (rival, colour) in zip((-0.2, 0.2), colours.items(), strict=True):
        places = [index + offset for index in range(len(names))]
        bars = axes.bar(places, [against[name][rival] for name in names], 0.38, color=colour, label=f"ours / {rival}")
        axes.bar_label(bars, fmt="%.1f", padding=2, fontweight="bold")
        for place, name in zip(places, names, strict=True):
            goal = GOALS.get((name, rival))
            for height, style in zip(goal or (), ("solid", "dotted"), strict=False):
                axes.hlines(height, place - 0.19, place + 0.19, colors="black", linestyles=style, linewidth=1.6)
    axes.axhline(1, color="grey", linewidth=0.8)
    axes.set_xticks(range(len(names)), names)
    axes.set_ylabel("times as much (1: the same)")
    axes.set_title(f"What our tunnel carries beside others, inner MTU {MTU}\nlines: the goal; dotted: the minimum")
    axes.legend(loc="upper right")
    axes.spines[["top", "right"]].set_visible(False)
    figure.savefig(path, dpi=120)


def main() -> int:
    """Bring everything up, measure, take everything down."""
    parser = argparse.ArgumentParser(prog="bench datapath", description=__doc__)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--seconds", type=float, default=2.0, help="of each TCP run (2)")
    parser.add_argument("--json", type=Path, metavar="FILE", help="write everything to FILE")
    parser.add_argument("--plot", type=Path, metavar="FILE", help="draw the ratios to FILE, a PNG")
    parser.add_argument("--disable", action="append", default=[], help="a feature to disable in our tunnel")
    args = parser.parse_args()
    lacking = missing()
    if lacking:
        print("these Debian packages are needed:", " ".join(sorted(set(lacking.values()))), file=sys.stderr)
        return 2
    if os.geteuid():
        print("this makes network namespaces and has to run as root", file=sys.stderr)
        return 2
    with tempfile.TemporaryDirectory(prefix="zb") as folder, wires(Path(folder)) as made:
        made.serve()
        makers: list[Callable[[], Contender]] = [lambda: made.ours(args.disable), made.ssh, made.socat, made.plain]
        contenders = [make() for make in makers]
        print("data path:", *made.warm_up(contenders[0].far), file=sys.stderr, flush=True)
        rounds: list[dict[str, Row]] = []
        for number in range(args.rounds):
            turn = [*contenders[number % 4 :], *contenders[: number % 4]]
            row = {one.name: measure_round(made, one, args.seconds) for one in turn}
            rounds.append({one.name: row[one.name] for one in contenders})
            print(f"round {number + 1} of {args.rounds}", file=sys.stderr, flush=True)
        status = made.status()
    document = {
        "machine": f"{platform.machine()}, {os.cpu_count()} cores, Linux {platform.release()}, "
        f"Python {platform.python_version()}; {args.rounds} rounds, inner MTU {MTU}",
        "offloads": status["offloads"],
        "rejected": status["rejected"],
        "medians": medians(rounds),
        "ratios": ratios(rounds),
        "rounds": rounds,
    }
    print(table(document))
    if args.json:
        args.json.write_text(json.dumps(document, indent=2) + "\n")
    if args.plot:
        plot(document, args.plot)
    return 0


if __name__ == "__main__":
    sys.exit(main())
