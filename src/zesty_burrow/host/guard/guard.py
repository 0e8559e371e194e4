"""The guard of this machine, for those who ask or change it: by its own process, or, where none answers, by looking.

Changes are made by the process that owns the tables alone; it is started where there is none. Questions are answered by
it as well; where it does not answer, the kernel is asked here, and compared with the record.
"""

from __future__ import annotations

import os
import socket
from collections.abc import Iterable
from contextlib import suppress
from ipaddress import ip_network
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_burrow.errors import BurrowError, MachineError, RightsMissing, StateError, error_of
from zesty_burrow.host.guard.holders import holding, is_living
from zesty_burrow.host.guard.owner.wire import call, socket_of
from zesty_burrow.host.guard.plan import Share, together
from zesty_burrow.host.guard.presence import is_in_force
from zesty_burrow.host.guard.record import BY_USER, read_record, unknown_holder
from zesty_burrow.host.guard.state import GuardEvent, GuardState, Measured, ServiceState, timestamp
from zesty_burrow.host.guard.tables.kernel import Count, KernelGuard, read_counts, read_portal
from zesty_burrow.records import replace

if TYPE_CHECKING:
    from zesty_burrow.host.guard.owner.process import Starting

__all__ = ["BY_USER", "Guard"]
TIMEOUT = 5.0
LOOK_TIMEOUT = 1.0
"""Seconds for a question, which can also be answered without the process."""


class Guard:
    """The guard whose record is at ``path``. Calls may raise :class:`MachineError` or :class:`StateError`."""

    def __init__(self, path: Path) -> None:
        self._path, self._socket = path, socket_of(path)
        self._starting: Starting | None = None

    # The process.

    def prepare(self) -> None:
        """Begin to start the guard's process where none runs, without waiting for it."""
        with suppress(BurrowError):
            if self._starting is None and not self._answers():
                self._starting = self._begin()

    def _begin(self) -> Starting:
        # Who may not ask for the tables may not set them: told here, before there is another process.
        is_in_force()
        # Only who changes something needs it.
        from zesty_burrow.host.guard.owner.process import Starting

        try:
            return Starting(self._path)
        except OSError as problem:
            raise MachineError("the guard's process cannot be started", why=str(problem)) from None

    def _answers(self) -> bool:
        try:
            call(self._socket, {"call": "state", "look": False}, LOOK_TIMEOUT)
        except (FileNotFoundError, ConnectionRefusedError):
            return False
        except (OSError, ValueError):
            pass
        return True

    def _start(self) -> None:
        starting, self._starting = self._starting or self._begin(), None
        try:
            starting.wait()
        except StateError as problem:
            # Somebody else was faster.
            if problem.slug != "busy":
                raise

    def _change(self, request: dict[str, Any]) -> dict[str, Any]:
        """Have the process do something; it is started where none runs."""
        for last in (False, False, True):
            try:
                answer, user = call(self._socket, request, TIMEOUT)
            except (FileNotFoundError, ConnectionRefusedError, ConnectionResetError, BrokenPipeError):
                if last:
                    raise _silent(0, "it ends again and again") from None
                self._start()
                continue
            except TimeoutError:
                raise _silent(self._process(), "it may be stopped") from None
            except (OSError, ValueError) as problem:
                raise _silent(self._process(), str(problem)) from None
            if user not in (0, os.geteuid()):
                raise StateError(
                    f"another user listens on {self._socket}",
                    why=f"it is user {user}",
                    next_step=f"Remove {self._socket} and look who could make it.",
                    slug="journal-foreign",
                )
            if "error" in answer:
                raise error_of(answer["error"])
            return answer
        raise _silent(0, "it ends again and again")

    def _process(self) -> int:
        """The number of the process that has the lock, as the kernel lists it; 0 where it is not known."""
        with suppress(OSError, ValueError):
            number = self._path.with_suffix(".lock").stat().st_ino
            for line in Path("/proc/locks").read_text().splitlines():
                words = line.split()
                if words[1] == "FLOCK" and words[5].rpartition(":")[2] == str(number):
                    return int(words[4])
        return 0

    def follow(self) -> socket.socket | None:
        """A connection to the process that becomes readable when the process dies; None where none answers."""
        channel = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_CLOEXEC)
        try:
            channel.settimeout(LOOK_TIMEOUT)
            channel.connect(str(self._socket))
        except OSError:
            channel.close()
            return None
        channel.setblocking(False)
        return channel

    # Changes.

    def put(self, key: str, share: Share) -> None:
        """Hold a share closed, in one step. Shares of dead tunnels that it covers are taken over; what others of them
        hold stays closed.
        """
        self._change({"call": "put", "key": key, "share": share.document()})

    def close(self, key: str, why: str) -> bool:
        """A share's tunnel is gone; what it holds stays closed. Whether there is such a share."""
        return bool(self._change({"call": "close", "key": key, "why": why})["was_there"])

    def drop(self, key: str) -> None:
        """A share that holds nothing is not needed any more."""
        self._change({"call": "drop", "key": key})

    def lift(self, *keys: str) -> list[Share]:
        """Release these shares, and all whose tunnel's process is dead; those that were there and held something."""
        if not self._is_known():
            return []
        return [Share.of(one) for one in self._change({"call": "lift", "keys": keys})["gone"]]

    def confirm(self) -> list[str]:
        """The user confirms the shares that wait for it; what they are."""
        return [str(one) for one in self._change({"call": "confirm"})["confirmed"]] if self._is_known() else []

    def hold_at_start(self, name: str, share: Share | None) -> None:
        """From the next start of the machine on hold a share until its tunnel is up; None: do so no more."""
        if share is not None or self._is_known():
            document = share.document() if share is not None else None
            self._change({"call": "hold-at-start", "name": name, "share": document})

    def open_portal(self, user: int, seconds: int) -> None:
        """Let a user's web pages out for so long; 0 ends it."""
        self._change({"call": "open-portal", "user": user, "seconds": seconds})

    def check(self) -> bool:
        """Have the process look now, and restore what differs; whether anything did."""
        return bool(self._change({"call": "check"})["restored"])

    def put_back(self) -> bool:
        """Set again what is held, where the kernel has something else, and repair a damaged record. Whether it was
        so.
        """
        if not self._is_known():
            return False
        damaged, in_force = bool(self._damage()), self.state().in_force
        restored = self.check()
        return damaged or restored or (in_force is False and bool(self.holders()))

    def _is_known(self) -> bool:
        """Whether there is anything of a guard here: a process, a record, or a table."""
        if self._socket.exists() or self._path.exists():
            return True
        with suppress(BurrowError):
            return is_in_force()
        return False

    # Questions.

    def carried(self, journal: Path | None = None) -> list[Share]:
        """The shares that hold something, and whose tunnel a living process carries: all, or that of one journal."""
        shares = [holder for holder in self.holders().values() if journal is None or holder.journal == str(journal)]
        return [share for share in shares if is_living(share)]

    def holders(self) -> dict[str, Share]:
        """The shares that hold something."""
        return holding(self.shares())

    def shares(self) -> dict[str, Share]:
        """Who holds what: as the process has it, else as recorded; what is damaged counts as an unknown holder."""
        answer = self._ask(look=False)[1]
        if answer is not None and "shares" in answer:
            return {key: Share.of(one) for key, one in answer["shares"].items()}
        record = read_record(self._path)
        if record.damaged:
            return {BY_USER: unknown_holder(f"{self._path}: {record.damaged}")}
        return dict(record.shares)

    def state(self) -> GuardState:
        """What is meant, and what the kernel was just seen to have."""
        service, answer = self._ask(look=True)
        if answer is not None and "shares" in answer:
            return _told(answer, self._damage())
        if answer is not None and "measured" in answer:
            return _told_to_others(answer)
        return self._seen(service)

    def _damage(self) -> str:
        with suppress(BurrowError):
            return read_record(self._path).damaged
        return ""

    def _ask(self, *, look: bool) -> tuple[ServiceState, dict[str, Any] | None]:
        try:
            answer, user = call(self._socket, {"call": "state", "look": look}, LOOK_TIMEOUT)
        except (FileNotFoundError, ConnectionRefusedError):
            return ServiceState.NOT_RUNNING, None
        except (OSError, ValueError):
            return ServiceState.SILENT, None
        if user not in (0, os.geteuid()):
            return ServiceState.OTHER_USER, None
        return ServiceState.ANSWERS, answer.get("state", answer)

    def _seen(self, service: ServiceState) -> GuardState:
        """Without the process: the kernel is asked here."""
        shares: dict[str, Share] = {}
        damaged = ""
        try:
            record = read_record(self._path)
            shares, damaged = dict(record.shares), record.damaged
            if damaged:
                shares = {BY_USER: unknown_holder(f"{self._path}: {damaged}")}
        except (OSError, StateError) as problem:
            damaged = str(problem)
        held = holding(shares)
        state = GuardState(
            Measured.UNKNOWN,
            shares=held,
            record_damaged=damaged,
            service=service,
            process=self._process(),
            whole=together(shares.values()),
        )
        kernel = KernelGuard()
        try:
            kernel.look_around()
            whole = together(shares.values())
            kernel.specs, kernel.inside = (kernel.make(whole), whole.devices) if held else ((), ())
            seen = kernel.compare()
            counts = read_counts(kernel.channel) if seen.present else {}
            portal = read_portal(kernel.channel) if seen.present else {}
        except MachineError as problem:
            why = "only root may ask the kernel" if isinstance(problem, RightsMissing) else str(problem)
            return replace(state, why=(why,))
        differences = seen.differences if held else ()
        if seen.present and not held:
            differences = ("the kernel has a guard that nobody is known to hold",)
        return replace(
            state,
            measured=_measured(held=bool(held), present=seen.present, differences=differences),
            at=timestamp(),
            why=tuple(differences),
            counts=counts,
            portal=portal,
            owned=bool(seen.owner),
            devices=seen.devices,
            without=seen.without if seen.present else (),
        )


def _measured(*, held: bool, present: bool, differences: Iterable[str]) -> Measured:
    if not held and not present:
        return Measured.ABSENT
    if held and not present:
        return Measured.MISSING
    return Measured.DIFFERENT if list(differences) else Measured.AS_INTENDED


def _told(answer: dict[str, Any], damaged: str) -> GuardState:
    """What the process has answered to its owner."""
    shares = {str(key): Share.of(one) for key, one in answer["shares"].items()}
    held = holding(shares)
    measured = answer["measured"]
    differences = tuple(map(str, measured["differences"]))
    word = _measured(held=bool(held), present=measured["present"], differences=differences)
    return GuardState(
        word,
        str(measured["at"]),
        differences,
        held,
        {str(name): Count(*values) for name, values in answer["counts"].items()},
        {str(name): Count(*values) for name, values in answer["egress_counts"].items()},
        {int(user): int(seconds) for user, seconds in answer["portal"]},
        damaged,
        ServiceState.ANSWERS,
        int(answer["process"]),
        bool(measured["owned"]),
        tuple(map(str, measured["devices"])),
        tuple(map(str, measured["without"])) if held else (),
        str(measured["why_without"]),
        tuple(GuardEvent(one["at"], one["what"], one["process"]) for one in answer["events"]),
        whole=together(shares.values()),
    )


def _told_to_others(answer: dict[str, Any]) -> GuardState:
    """What the process has answered to a user who may not change it: not who holds it."""
    measured, networks = answer["measured"], tuple(ip_network(one) for one in answer["held"])
    held = {"": Share(networks, str(answer["since"]), "root")} if networks else {}
    differences = tuple(map(str, measured["differences"]))
    word = _measured(held=bool(held), present=bool(measured["present"]), differences=differences)
    return GuardState(
        word,
        str(measured["at"]),
        differences,
        held,
        service=ServiceState.OTHER_USER,
        process=int(answer["process"]),
        owned=bool(measured["owned"]),
        devices=tuple(map(str, measured["devices"])),
        whole=together(held.values()),
    )


def _silent(process: int, why: str) -> StateError:
    number = process or "with the name zesty-guard"
    return StateError(
        "the guard's process does not answer, so nothing was changed",
        why=why,
        next_step=f"Let process {number} continue (kill -CONT), or end it (kill -9): the kernel keeps the guard, "
        f"and the "
        "next command starts another process.",
        slug="guard-silent",
    )
