"""What a form of handing over is, and what several of them need."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from zesty_burrow.errors import BurrowError, Clash
from zesty_burrow.records import dataclass
from zesty_burrow.store.devices import FAILED, HANDED, Device
from zesty_burrow.use_cases.devices.plan import Plan, Work
from zesty_burrow.use_cases.devices.request import HandOverRequest, HandOverRow
from zesty_burrow.use_cases.workspace import Workspace

Problem = tuple[str, str, str]
"""Cause, words and remedy."""
Ended = Callable[[Plan, HandOverRow], None]
"""Called with each device's result."""


@dataclass(frozen=True, slots=True)
class Run:
    work: Work
    request: HandOverRequest
    workspace: Workspace


HandOver = Callable[[Sequence[Plan], Run, Ended], None]


@dataclass(frozen=True, slots=True)
class Form:
    """``offers``: where a device's profile goes to in this form, empty if it is not for this device and request.

    ``lacks``: what the device needs for it and does not have. ``hand_over``: does it for all plans of forms with the
    same function. ``extra``: of the installation. ``notes_detail``: whether the list of devices keeps its detail.
    """

    name: str
    offers: Callable[[Device, HandOverRequest], str]
    hand_over: HandOver
    extra: str = ""
    notes_detail: bool = False
    lacks: Callable[[Device], Problem | None] = lambda _device: None


def row_of(plan: Plan, state: str, detail: str = "", *, to: str | None = None) -> HandOverRow:
    where = plan.to if to is None else to
    return HandOverRow(plan.device.name, plan.name, plan.form, state, detail=detail, to=where)


def failed_row(plan: Plan, problem: Problem, *, to: str | None = None) -> HandOverRow:
    """A device's result where it did not go well."""
    where = plan.to if to is None else to
    return HandOverRow(plan.device.name, plan.name, plan.form, FAILED, *problem, to=where)


def to_new_file(plan: Plan, make: Callable[[], bytes]) -> HandOverRow:
    """A new file that only its owner reads; ``make``: what is in it."""
    path = Path(plan.to)
    problem = problem_of_writing(lambda: {path: make()}, [path])
    return row_of(plan, HANDED, "written") if problem is None else failed_row(plan, problem)


def problem_of_writing(make: Callable[[], dict[Path, bytes]], paths: Sequence[Path]) -> Problem | None:
    """Write all of ``paths`` as new files that only their owner reads, or none; what stands against it, else None.

    ``make``: what is in them, called where none of them exists.
    """
    from zesty_burrow.store.seal import write_private

    written: list[Path] = []
    try:
        for path in paths:
            if path.exists():
                raise Clash(f"{path} exists already", next_step="Name another folder, or remove the file.")
        for path, content in make().items():
            write_private(path, content)
            written.append(path)
    except (BurrowError, OSError) as problem:
        for path in written:
            path.unlink(missing_ok=True)
        if isinstance(problem, BurrowError):
            return problem.slug, str(problem), problem.next_step
        words = f"{paths[0].parent}: {problem.strerror or problem}"
        return "device-write", words, "Check that the folder is there, its rights, and the space on its disk."
    return None
