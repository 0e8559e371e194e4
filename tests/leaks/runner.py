"""Plants a case on the lab's workstation while a tunnel is up, runs ``verify``, and compares."""

from __future__ import annotations

import sys
import tomllib
from dataclasses import dataclass, field
from pathlib import Path

from zesty_burrow.lab import story

FOLDER = Path(__file__).parent
ROUTER = "192.168.77.1"
UNCLEAR_IS_FOUND = ("leaking", "unclear")


@dataclass(frozen=True)
class Case:
    """One of the file: see its head."""

    name: str
    kind: str
    tunnel: str = "relay"
    guard: bool = False
    plant: tuple[str, ...] = ()
    remove: tuple[str, ...] = ()
    sender: str = ""
    code: str = ""
    cause: str = ""
    verdict: str = ""
    connect: tuple[str, ...] = ()
    environment: dict = field(default_factory=dict)
    verify: tuple[str, ...] = ()
    resolver: str = ""
    note: str = ""

    @property
    def set_up(self):
        """What has to be up for it."""
        return self.tunnel, self.guard, self.connect


def read_cases():
    rows = tomllib.loads((FOLDER / "cases.toml").read_text())["case"]
    return [
        Case(**{key: tuple(value) if isinstance(value, list) else value for key, value in row.items()}) for row in rows
    ]


@dataclass
class Outcome:
    """``problems``: in words, none where ``verify`` said what it should."""

    case: Case
    verdict: str
    problems: list[str]
    seconds: float = 0.0


def judge(case, document):
    """What is wrong with an answer."""
    problems = []
    wanted = case.verdict or ("sealed" if case.kind == "clean" else "leaking")
    if document["verdict"] != wanted:
        broken = [row["code"] for row in document["findings"] if row["severity"] != "note"]
        broken += [f"{row['what']}: {row['standing']}" for row in document["expectations"] if row["standing"] != "held"]
        problems.append(f"{document['verdict']} instead of {wanted} ({'; '.join(broken)})")
    if case.code:
        rows = [row for row in document["findings"] if row["code"] == case.code]
        if not rows:
            problems.append(f"no {case.code}")
        elif case.cause and not any(case.cause in f"{row['subject']} {row['detail']}" for row in rows):
            problems.append(f"the cause {case.cause!r} is not in {[row['detail'] for row in rows]}")
    return problems


def sender_command(kind, gateway):
    return [sys.executable, str(FOLDER / "senders.py"), kind, gateway, ROUTER]


def matrix(outcomes):
    """A table for people."""
    width = max(len(outcome.case.name) for outcome in outcomes)
    rows = []
    for outcome in outcomes:
        state = "as it should" if not outcome.problems else "; ".join(outcome.problems)
        rows.append(f"{outcome.case.kind:6}  {outcome.case.name:{width}}  {outcome.verdict:8}  {state}")
    for kind in ("leak", "clean"):
        some = [outcome for outcome in outcomes if outcome.case.kind == kind]
        right = sum(not outcome.problems for outcome in some)
        rows.append(f"{kind}: {right} of {len(some)} as they should")
    return "\n".join(rows)


def resolver_command(how):
    """A resolver of the workstation that lies, in front of the tunnel's own."""
    return [sys.executable, str(FOLDER / "lying_resolver.py"), how, story.RESOLVER4]
