"""``./run bench``: medians of several rounds of each measure, as a table or as JSON."""

from __future__ import annotations

import argparse
import importlib
import json
import os
import platform
import statistics
import sys

MEASURES = (
    "startup",
    "handshake",
    "connecting",
    "lossy",
    "importing",
    "databases",
    "remembering",
    "watching",
    "verifying",
    "observatory",
    "rehearsing",
    "devices",
)


def main() -> int:
    """Run the measures that were named, or all."""
    parser = argparse.ArgumentParser(prog="bench", description=__doc__)
    parser.add_argument("measure", nargs="*", choices=[*MEASURES, []], help="all if none is named")
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--json", action="store_true")
    args = parser.parse_args()
    rows = []
    for name in args.measure or MEASURES:
        for title, ours, base, against in importlib.import_module(f"bench.{name}").measure(args.rounds):
            ratio = statistics.median(one / other for one, other in zip(ours, base, strict=True))
            rows.append(
                {
                    "measure": title,
                    "seconds": statistics.median(ours),
                    "against": against,
                    "against_seconds": statistics.median(base),
                    "ratio": ratio,
                }
            )
    machine = f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}"
    if args.json:
        json.dump({"machine": machine, "rounds": args.rounds, "rows": rows}, sys.stdout, indent=2)
        print()
        return 0
    print(f"{machine}; medians of {args.rounds} rounds")
    for row in rows:
        ours = f"{row['measure']:<52}{row['seconds'] * 1000:9.1f} ms   {row['ratio']:6.2f} x"
        print(f"{ours}  {row['against']} ({row['against_seconds'] * 1000:.1f} ms)")
    return 0


if __name__ == "__main__":
    sys.exit(main())
