"""Supervises one tunnel, from the first name look-up until this machine is as it was.

It owns sessions, sockets, timers, device, host settings and journal. What is below sets ``_wake`` and is polled; it
never calls back.
"""

from __future__ import annotations

import asyncio
import gc
import importlib
import logging
import signal
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from zesty_burrow.carrier.control.control import ControlServer
from zesty_burrow.carrier.control.describe import describe
from zesty_burrow.carrier.control.key_file import KeyFile
from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.control.notices import BLOCKED, UNTIL_RENEWED, Notices
from zesty_burrow.carrier.control.status import StepReport, TunnelStatus, algorithms_of
from zesty_burrow.carrier.control.totals import Totals
from zesty_burrow.carrier.data_path.data_path import DataPath, offloads_in_use
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.fast_path import selector
from zesty_burrow.carrier.network.address_watch import AddressWatch
from zesty_burrow.carrier.network.addresses import look_up, resolve, try_each
from zesty_burrow.carrier.network.host_config import Applied, HostConfig
from zesty_burrow.carrier.sessions import OpenSession
from zesty_burrow.carrier.states import StateMachine, TunnelSignal, TunnelState
from zesty_burrow.carrier.waits import LOST, Waits
from zesty_burrow.core.profile import MAX_MTU, MIN_MTU, Profile
from zesty_burrow.errors import BurrowError, GatewayElsewhere, GatewayError, ProgramFault
from zesty_burrow.host.journal.journal import Journal, Restored
from zesty_burrow.host.tun import TunDevice, open_tun
from zesty_burrow.protocols.session import (
    ChannelChanged,
    Down,
    Event,
    Moved,
    Negotiated,
    NegotiatedSuite,
    Noticed,
    Redirected,
    Rekeyed,
    Secrets,
    SessionRequest,
    SignInDue,
    Step,
    StepDone,
    Up,
)

log = logging.getLogger(__name__)
STEPS = tuple(Step)
SIGN_IN_SHARE, SIGN_IN_TIME = 0.9, 2.0
"""How much of the time that a gateway gives before a sign-in has to be repeated (RFC 4478) is used; and how many of its
seconds are left at least."""
SHORTEST_UP = 5.0
"""Seconds that a tunnel is up at least before a sign-in is repeated, whatever the gateway says."""


@dataclass(frozen=True, slots=True)
class TunnelOptions:
    """``timeout``: seconds to wait for a silent gateway; ``export_keys``: a file for an analyser, or None.

    ``keep_trying``: a tunnel that is lost is set up again; until then nothing leaves. ``disabled``: what the data path
    does without, by the names in ``CAN_BE_DISABLED``.
    """

    journal: Path
    control: Path
    timeout: float = 15.0
    export_keys: Path | None = None
    keep_trying: bool = False
    disabled: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class TunnelEnd:
    """How the tunnel ended, and what was put back."""

    reason: str
    restored: Restored


class Supervisor:
    """One tunnel. ``on_step`` is called with each step, ``on_up`` once the tunnel is up."""

    def __init__(
        self,
        profile: Profile,
        secrets: Secrets,
        options: TunnelOptions,
        on_step: Callable[[StepReport], None],
        on_up: Callable[[TunnelStatus], None],
    ) -> None:
        self._profile, self._secrets, self._options = profile, secrets, options
        self._on_step, self._on_up = on_step, on_up
        self._machine = StateMachine()
        self._wake = asyncio.Event()
        self._device: TunDevice | None = None
        self._host: HostConfig | None = None
        self._watch = AddressWatch(self._wake)
        self._current: OpenSession | None = None
        self._successor: OpenSession | None = None
        self._leaving: dict[OpenSession, Tunnel] = {}
        self._path: DataPath | None = None
        self._tunnel: Tunnel | None = None
        self._status: TunnelStatus | None = None
        self._up_at = 0.0
        self._totals = Totals()
        self._notices = Notices()
        self._keys = KeyFile(options.export_keys) if options.export_keys else None
        self._suites: tuple[NegotiatedSuite, ...] = ()
        self._end_reason = ""
        self._last_step = 0.0
        self._next_step: Step | None = STEPS[0]
        self._sign_in_at = float("inf")
        self._sign_in_timer: asyncio.TimerHandle | None = None
        self._mtu = 0

    def run(self) -> TunnelEnd:
        """Carry the tunnel until it ends. Raises a ``BurrowError`` if it could not be set up or was lost."""
        importlib.import_module("pyroute2")  # slow to load: before the steps whose time is shown
        journal = Journal(self._options.journal, self._profile.name)
        self._machine.signal(TunnelSignal.START)
        try:
            self._device = open_tun(disabled=self._options.disabled)
            journal.note_device(self._device.name)
            self._host = HostConfig(self._profile, self._device.name, journal)
            reason = selector.run(self._carry())
        except BurrowError as error:
            error.step = "" if self._status or self._next_step is None else str(self._next_step)
            raise
        finally:
            self._machine.signal(TunnelSignal.END)
            if self._device is not None:
                self._device.close()
            restored = journal.put_back()
            self._machine.signal(TunnelSignal.ENDED)
        return TunnelEnd(reason, restored)

    def _step(self, step: Step, detail: str = "") -> None:
        now = asyncio.get_running_loop().time()
        if self._status is None:
            self._on_step(StepReport(str(step), now - self._last_step, detail))
        self._last_step = now
        self._next_step = STEPS[STEPS.index(step) + 1] if step is not STEPS[-1] else None

    async def _carry(self) -> str:
        loop = asyncio.get_running_loop()
        self._last_step = loop.time()
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            loop.add_signal_handler(number, self._ask_to_end, f"signal {signal.Signals(number).name}")
        calls = asyncio.Event()
        control = ControlServer(self._options.control, calls)
        await control.start()
        answering = loop.create_task(self._answer_calls(control, calls))
        self._watch.start()
        try:
            addresses = await asyncio.to_thread(resolve, self._profile)
            self._step(Step.RESOLVE, ", ".join(addresses))
            self._machine.signal(TunnelSignal.RESOLVED)
            return await self._keep_up(addresses)
        finally:
            self._watch.stop()
            answering.cancel()
            await control.stop()
            if self._path is not None:
                self._path.close()

    async def _keep_up(self, addresses: list[str]) -> str:
        """Until somebody wants the end; or once, where nobody asked to keep trying or no tunnel was ever up."""
        waits = Waits()
        while True:
            reconnects = self._totals.reconnects
            try:
                return await try_each(addresses, self._try)
            except LOST as problem:
                if not self._options.keep_trying or self._status is None or self._end_reason:
                    raise
                note(log, logging.WARNING, "lost", what=problem.what, why=problem.why)
                self._notices.blocked(self._profile.name, problem)
                wait = waits.after(problem, came_back=self._totals.reconnects > reconnects)
            self._machine.signal(TunnelSignal.LOSE if self._machine.state is TunnelState.UP else TunnelSignal.FAILED)
            await self._pause(wait)
            if self._end_reason:
                return self._end_reason
            self._machine.signal(TunnelSignal.RETRY)

    async def _pause(self, seconds: float) -> None:
        """Wait, but not longer than until somebody wants the end."""
        until = asyncio.get_running_loop().time() + seconds
        while not self._end_reason and (left := until - asyncio.get_running_loop().time()) > 0:
            with suppress(TimeoutError):
                await asyncio.wait_for(self._wake.wait(), left)
            self._wake.clear()

    async def _try(self, address: str, origin: str) -> str:
        self._machine.signal(TunnelSignal.NEXT)
        if self._host is not None:
            self._host.lead_to(address)
        if self._end_reason:
            return self._end_reason
        self._current = self._open(address, origin)
        try:
            self._current.start()
            while True:
                await self._wake.wait()
                self._wake.clear()
                ended = await self._poll()
                if ended is not None:
                    return ended
        except GatewayError:
            raise
        except Exception:
            self._say_goodbye()
            raise
        finally:
            self._dispose()

    def _open(self, address: str, origin: str = "") -> OpenSession:
        """``origin``: the gateway that has sent us to this one. What this side had before is asked for again."""
        known = self._host.network if self._host else None
        wanted = tuple(entry.ip for entry in known.addresses) if known else ()
        now, timeout = datetime.now(UTC), self._options.timeout
        request = SessionRequest(address, self._secrets, now, timeout, origin, wanted)
        return OpenSession(self._profile, request, self._wake, self._options.disabled)

    def _dispose(self) -> None:
        """No session any more; the device keeps what comes, so that nothing leaves."""
        if self._path is not None:
            self._path.stop_reading()
        for one in (self._current, self._successor, *self._leaving):
            if one is not None:
                one.dispose()
        for tunnel in self._leaving.values():
            self._remove(tunnel)
        self._successor = None
        self._leaving.clear()
        self._sign_in_at = float("inf")
        if self._sign_in_timer is not None:
            self._sign_in_timer.cancel()

    def _remove(self, tunnel: Tunnel) -> None:
        self._totals.retire(tunnel.channel.counters)
        if self._path is not None:
            self._path.remove(tunnel)

    def _say_goodbye(self) -> None:
        for one in (self._successor, self._current):
            if one is not None:
                one.say_goodbye()

    def _ask_to_end(self, reason: str) -> None:
        """Somebody wants the tunnel to end."""
        self._end_reason = self._end_reason or reason
        self._wake.set()

    # What has happened.

    async def _poll(self) -> str | None:
        """Look at everything that may have happened; why the tunnel has ended, if it has."""
        current, path = self._current, self._path
        if current is None:
            raise ProgramFault("there is no session to poll")
        if self._end_reason and self._machine.state is not TunnelState.ENDING:
            self._machine.signal(TunnelSignal.END)
            current.end()
        if path is not None:
            path.raise_failure()
        if self._tunnel is not None and self._tunnel.channel.wants_rekey:
            current.io.handle_timer()
        if self._watch.take_move(current.session.peer[0]):
            current.session.address_changed(current.io.now())
            current.io.flush()
        if current.io.now() >= self._sign_in_at and not self._end_reason and self._successor is None:
            self._sign_in_at = float("inf")
            self._successor = self._open(current.session.peer[0])
            self._successor.start()
        for one in (*self._leaving, self._successor, current):
            for event in one.io.take_events() if one is not None else ():
                ended = await self._handle(one, event) if one is not None else None
                if ended is not None:
                    return ended
        return None

    async def _handle(self, one: OpenSession, event: Event) -> str | None:
        if one in self._leaving:
            if isinstance(event, Down):
                self._remove(self._leaving.pop(one))
                one.dispose()
            return None
        if one is self._current:
            return await self._on_current(one, event)
        self._on_successor(one, event)
        return None

    def _on_successor(self, one: OpenSession, event: Event) -> None:
        """A repeated sign-in. Where it fails the tunnel has to end, as the gateway would end it soon."""
        if isinstance(event, Negotiated):
            self._suites = event.suites
        elif isinstance(event, Up):
            self._take_over(one, event)
        elif isinstance(event, Down):
            self._say_goodbye()
            why = "the gateway ended the new negotiation"
            raise event.error or GatewayError("the sign-in could not be repeated", why=why)

    async def _on_current(self, one: OpenSession, event: Event) -> str | None:
        if isinstance(event, StepDone):
            self._step(event.step, event.detail)
            if event.step is Step.REACH:
                self._machine.signal(TunnelSignal.REACHED)
        elif isinstance(event, Negotiated | Rekeyed):
            self._note_suites(event)
        elif isinstance(event, Up):
            self._establish(one, event)
        elif isinstance(event, Noticed):
            self._notices.add(event.finding)
        elif isinstance(event, ChannelChanged) and self._path is not None:
            self._path.refresh()
        elif isinstance(event, Moved):
            self._totals.address_changes += 1
            self._measure()
        elif isinstance(event, SignInDue):
            self._plan_sign_in(max(min(SIGN_IN_SHARE * event.seconds, event.seconds - SIGN_IN_TIME), SHORTEST_UP))
        elif isinstance(event, Redirected):
            await self._follow(event.to)
        elif isinstance(event, Down):
            return self._ended(event)
        return None

    def _ended(self, event: Down) -> str:
        if event.error is not None:
            raise event.error
        if event.by_peer and not self._end_reason:
            step = "Connect again; this machine's settings were restored."
            raise GatewayError("the tunnel is down", why=event.reason, next_step=step, slug="gateway-ended")
        return self._end_reason or "ended"

    def _note_suites(self, event: Negotiated | Rekeyed) -> None:
        """Renewed keys may be of other algorithms than the first ones."""
        self._suites = event.suites
        if isinstance(event, Rekeyed):
            self._totals.rekeys += 1
            self._notices.drop(UNTIL_RENEWED)
        if self._status is not None:
            self._status = replace(self._status, **algorithms_of(event.suites))

    def _plan_sign_in(self, seconds: float) -> None:
        loop = asyncio.get_running_loop()
        self._sign_in_at = loop.time() + seconds
        if self._sign_in_timer is not None:
            self._sign_in_timer.cancel()
        self._sign_in_timer = loop.call_later(seconds, self._wake.set)

    async def _follow(self, to: str) -> None:
        """To another gateway from a tunnel that is up: look it up while names still resolve, then end this one."""
        found = await asyncio.to_thread(look_up, [to])
        here = self._current.session.peer[0] if self._current else ""
        self._say_goodbye()
        raise GatewayElsewhere(f"the gateway {here} sends its callers to {found[0]}", found[0])

    # The tunnel.

    def _tunnel_of(self, one: OpenSession, event: Up) -> Tunnel:
        tunnel = Tunnel(event.channel, one.port, one.session.peer)
        tunnel.measure()
        return tunnel

    def _establish(self, one: OpenSession, event: Up) -> None:
        """The gateway has granted the tunnel: configure this machine, and carry packets."""
        host, before = self._host, self._status
        if host is None:
            raise ProgramFault("a tunnel is up before there is a device")
        if self._keys is not None:
            self._keys.add(one.session.exported_keys())
        self._watch.note(one.session.peer[0])
        tunnel, old = self._tunnel_of(one, event), self._tunnel
        path = self._path or self._begin_path(tunnel)
        if old is not None:
            self._remove(old)
        self._tunnel = tunnel
        path.add(tunnel)
        one.io.path = path
        applied = host.configure(event, one.session.peer[0], self._mtu, self._step)
        path.start_reading()
        self._notices.granted(self._profile.name, applied)
        self._status = replace(self._describe(one, event, applied), findings=self._notices.rows)
        self._machine.signal(TunnelSignal.CONFIGURED)
        if before is None:
            self._up_at = asyncio.get_running_loop().time()
            self._on_up(self._status)
        else:
            self._totals.reconnects += 1
            note(log, logging.INFO, "back", gateway=self._status.gateway_address)
            self._notices.drop(BLOCKED)
            self._status = replace(self._status, since=before.since)

    def _begin_path(self, tunnel: Tunnel) -> DataPath:
        """The data path of the first tunnel; those that come after it use the same."""
        if self._device is None:
            raise ProgramFault("a tunnel is up before there is a device")
        # What is loaded by now stays: the collector need not look at it again and again.
        gc.freeze()
        wanted = self._profile.tunnel
        self._mtu = wanted.mtu or max(MIN_MTU, min(tunnel.limit, MAX_MTU))
        options = PathOptions(wanted.dscp, wanted.clamp_tcp_mss)
        path = self._path = DataPath(self._device, self._mtu, options, self._options.disabled, self._wake)
        used = ", ".join(offloads_in_use(self._device, tunnel.port)) or "none"
        note(log, logging.DEBUG, "path", offloads=used, largest_inner=tunnel.limit)
        return path

    def _take_over(self, successor: OpenSession, event: Up) -> None:
        """The new sign-in is complete: packets go out by it, and the old session is ended."""
        before, old, host, path = self._current, self._tunnel, self._host, self._path
        if before is None or old is None or host is None or path is None:
            raise ProgramFault("a sign-in was repeated without a tunnel")
        self._leaving[before] = old
        self._current, self._successor = successor, None
        self._totals.sign_ins_repeated += 1
        self._tunnel = self._tunnel_of(successor, event)
        path.add(self._tunnel)
        successor.io.path = path
        applied = host.configure(event, successor.session.peer[0], self._mtu, self._step)
        if self._status is not None:
            self._status = replace(self._describe(successor, event, applied), since=self._status.since)
        before.end()
        self._wake.set()

    def _measure(self) -> None:
        """What the path to the gateway takes may be another size now."""
        tunnel, host, path, current = self._tunnel, self._host, self._path, self._current
        if tunnel is None or host is None or path is None or current is None:
            return
        tunnel.peer = current.session.peer
        limit = tunnel.measure()
        if not self._profile.tunnel.mtu:
            self._mtu = min(limit, path.mtu)
            host.set_mtu(self._mtu)
        path.refresh()
        note(log, logging.DEBUG, "path", gateway=tunnel.peer[0], largest_inner=limit)

    def _describe(self, one: OpenSession, event: Up, applied: Applied) -> TunnelStatus:
        if self._device is None:
            raise ProgramFault("a tunnel is up before there is a device")
        up = describe(self._profile, event.network, applied, self._suites)
        return replace(
            up,
            gateway_address=one.session.peer[0],
            device=self._device.name,
            offloads=offloads_in_use(self._device, one.port),
            mtu=self._mtu,
        )

    # The control socket.

    async def _answer_calls(self, control: ControlServer, calls: asyncio.Event) -> None:
        """Answer as long as the tunnel is supervised."""
        while True:
            await calls.wait()
            calls.clear()
            for request in control.take_requests():
                if not request.answer.done():
                    request.answer.set_result(self._answer(request.call))

    def _answer(self, call: str) -> dict[str, Any]:
        if call == "status":
            return {"status": self._report().document() if self._status else None, "state": str(self._machine.state)}
        if call == "disconnect":
            self._ask_to_end("disconnect")
            return {"ending": True}
        return {"error": f"the call {call!r:.40} is not known"}

    def _report(self) -> TunnelStatus:
        status, path, tunnel = self._status, self._path, self._tunnel
        if status is None or path is None or tunnel is None:
            raise ProgramFault("a tunnel reports before it is up")
        counted = self._totals.with_channels([tunnel.channel, *(one.channel for one in self._leaving.values())])
        counted["rejected"] += path.unknown
        return replace(
            status,
            **counted,
            dropped=path.dropped,
            seconds_up=round(asyncio.get_running_loop().time() - self._up_at, 1),
            mtu=self._mtu,
            data_path=path.words,
            is_up=self._machine.state is TunnelState.UP,
            findings=self._notices.rows,
        )
