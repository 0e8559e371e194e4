"""``./run bench soak``: a long stream through our tunnel, over a wire that loses, delays and forges; keys are renewed.

The digests of both ends have to be equal; memory of both processes is looked at on the way.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
import tempfile
import threading
import time
from pathlib import Path

from bench.datapath.wires import Contender, wires

LOSS, LATE, FORGED = 0.01, 0.01, 1000.0
LOOKED = 2.0


def held(process: int) -> float:
    """MiB that a process holds."""
    return int(Path(f"/proc/{process}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / (1 << 20)


def watch(contender: Contender, seen: list[list[float]], end: threading.Event) -> None:
    """Note the memory of all processes every few seconds."""
    while not end.wait(LOOKED):
        seen.append([held(process) for process in contender.processes])


def main() -> int:
    """One stream; what became of it as JSON; exit code 1 where the digests differ."""
    parser = argparse.ArgumentParser(prog="bench soak", description=__doc__)
    parser.add_argument("--octets", type=int, default=10_000_000_000)
    parser.add_argument("--child-octets", type=int, default=1 << 28, help="after how many keys are renewed")
    parser.add_argument("--smooth", action="store_true", help="over a wire that does nothing of the kind")
    args = parser.parse_args()
    rough = None if args.smooth else (LOSS, LATE, FORGED)
    with tempfile.TemporaryDirectory(prefix="zb") as folder, wires(Path(folder), rough) as made:
        contender = made.ours((), "", ("--child-octets", str(args.child_octets)))
        by = made.warm_up(contender.far)
        seen, end = [[held(process) for process in contender.processes]], threading.Event()
        watcher = threading.Thread(target=watch, args=(contender, seen, end))
        watcher.start()
        begin = time.monotonic()
        sent, received = made.carry(contender.far, args.octets)
        seconds = time.monotonic() - begin
        end.set()
        watcher.join()
        status, link = made.status(), [] if args.smooth else made.link_says()
    whole = sent == received and sent.startswith(f"{args.octets} ")
    document = {
        "data path": by,
        "octets": args.octets,
        "digests equal": whole,
        "seconds": round(seconds, 1),
        "Mbit/s": round(args.octets * 8e-6 / seconds, 1),
        "rekeys": status["rekeys"],
        "reconnects": status["reconnects"],
        "rejected by the client": status["rejected"],
        "wire, each way: passed, lost, late, forged": link,
        "MiB held by client and gateway at first": [round(one, 1) for one in seen[0]],
        "MiB held at most": [round(max(row[index] for row in seen), 1) for index in range(2)],
    }
    json.dump(document, sys.stdout, indent=2)
    print()
    return 0 if whole else 1


if __name__ == "__main__":
    sys.exit(main())
