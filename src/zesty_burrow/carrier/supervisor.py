"""Supervises one tunnel, from the first name look-up until this machine is as it was.

It owns sessions, sockets, timers, device, host settings and journal. What is below sets ``_wake`` and is polled; it
never calls back.
"""

from __future__ import annotations

import asyncio
import logging
import signal
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from zesty_burrow.carrier.control.control import ControlServer, Request
from zesty_burrow.carrier.control.key_file import KeyFile
from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.carrier.fast_path import selector
from zesty_burrow.carrier.network.addresses import look_up, names_of, try_each, with_proxy
from zesty_burrow.carrier.network.host_config import HostConfig
from zesty_burrow.carrier.network.machine_watch import MachineWatch
from zesty_burrow.carrier.network.repairs import CONDITIONS
from zesty_burrow.carrier.network.tunnel_guard import TunnelGuard
from zesty_burrow.carrier.sessions import Opener, OpenSession
from zesty_burrow.carrier.supervision.active_tunnels import ActiveTunnels
from zesty_burrow.carrier.supervision.options import NOT_CONFIRMED, WANTED, Listener, TunnelEnd, TunnelOptions
from zesty_burrow.carrier.supervision.report import TunnelReport
from zesty_burrow.carrier.supervision.sign_in_timer import SignInTimer
from zesty_burrow.carrier.supervision.states import StateMachine, TunnelSignal, TunnelState
from zesty_burrow.carrier.supervision.steps import Steps
from zesty_burrow.carrier.supervision.switch import CALL as SWITCH
from zesty_burrow.carrier.supervision.switch import Switch
from zesty_burrow.carrier.supervision.waits import LOST, Waits, end_of
from zesty_burrow.carrier.ways import Ways, WhatWorked, ways_to
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import (
    BurrowError,
    GatewayElsewhere,
    GatewayError,
    GatewayUnreachable,
    ProgramFault,
    StateError,
    as_error,
    error_document,
)
from zesty_burrow.host.journal.journal import Journal
from zesty_burrow.host.tun import open_tun
from zesty_burrow.interrupt import END_SIGNALS, deliver_end_signals, hold_end_signals
from zesty_burrow.protocols.session import (
    ChannelChanged,
    Down,
    Event,
    Moved,
    Negotiated,
    Noticed,
    Redirected,
    Rekeyed,
    Secrets,
    SignInDue,
    Step,
    StepDone,
    Up,
)

log = logging.getLogger(__name__)


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
        self._steps, self._listener = Steps(), Listener(on_step, on_up)
        self._machine = StateMachine()
        self._wake = asyncio.Event()
        self._made: tuple[HostConfig, ActiveTunnels] | None = None
        self._watch = MachineWatch(self._wake)
        self._current: OpenSession | None = None
        self._successor: OpenSession | None = None
        self._switch: Switch | None = None
        opener = Opener(self._wake, options.timeout, options.disabled, marked=True)
        self._ways = Ways(opener, WhatWorked(options.ways))
        self._report = TunnelReport(profile, options)
        self._keys = KeyFile(options.export_keys)
        self._end_reason = ""
        self._sign_in = SignInTimer(self._wake)
        self._guard = TunnelGuard(profile, options)

    def run(self) -> TunnelEnd:
        """Carry the tunnel until it ends. Raises a ``BurrowError`` if it could not be set up or was lost."""
        journal, device = Journal(self._options.journal, self._profile.name), None
        self._machine.signal(TunnelSignal.START)
        why = "its process ended"
        try:
            hold_end_signals()
            device = open_tun(disabled=self._options.disabled)
            journal.note_device(device.name)
            active = ActiveTunnels(device, self._options.disabled, self._wake, self._report.totals)
            host = HostConfig(self._profile, device.name, journal, self._guard, self._options)
            self._made = host, active
            host.begin()
            reason = why = selector.run(self._carry())
        except BurrowError as error:
            why = str(error)
            error.step = "" if self._steps.silent else self._steps.following
            raise
        except KeyboardInterrupt:
            self._end_reason = "signal SIGINT"
            raise
        finally:
            self._machine.signal(TunnelSignal.END)
            self._guard.leave_closed(why)
            if device is not None:
                device.close()
            restored = journal.put_back()
            self._machine.signal(TunnelSignal.ENDED)
            # Last of all, when names and routes are those of before.
            opened = self._end_reason in WANTED
            if opened:
                self._guard.lift()
            self._report.ended(why, closed=self._guard.holds and not opened)
            with suppress(ValueError):  # in another thread than the main one there are no handlers
                signal.signal(signal.SIGINT, signal.SIG_IGN)
            deliver_end_signals()
        return TunnelEnd(reason, restored, closed=self._guard.holds and not opened)

    def _step(self, step: Step, detail: str = "") -> None:
        if step is Step.PROVE:
            self._report.proven(detail)
        if (report := self._steps.done(step, detail)) is not None:
            self._listener.on_step(report)

    async def _carry(self) -> str:
        loop = asyncio.get_running_loop()
        self._steps.begin()
        for number in END_SIGNALS:
            loop.add_signal_handler(number, self._ask_to_end, f"signal {number.name}")
        deliver_end_signals()
        calls = asyncio.Event()
        control = ControlServer(self._options.control, calls)
        await control.start()
        answering = loop.create_task(self._answer_calls(control, calls))
        self._watch.start()
        self._watch.follow(self._guard.follow())
        if within := self._options.confirm_within:
            loop.call_later(within, self._end_unconfirmed)
        try:
            return await self._keep_up()
        finally:
            hold_end_signals()
            self._watch.stop()
            answering.cancel()
            await control.stop()
            for part in self._parts():
                part.close()

    def _parts(self) -> tuple[HostConfig, ActiveTunnels]:
        if self._made is None:
            raise ProgramFault("a tunnel is carried before there is a device")
        return self._made

    async def _keep_up(self) -> str:
        """Until somebody wants the end; or once, where nobody asked to keep trying."""
        waits, (host, _) = Waits(), self._parts()
        addresses: list[str] = []
        while True:
            reconnects = self._report.totals.reconnects
            try:
                addresses = await self._resolve(host, addresses)
                # Several transports are tried at all addresses together; one transport at one after the other.
                count = 1 if len(self._profile.variants) > 1 else len(addresses)
                self._ways.beside = addresses[count:]
                return await try_each(addresses[:count], self._try, host.look_up)
            except LOST as problem:
                if self._end_reason:
                    return self._end_reason
                if self._switch is not None and self._switch.profile is self._profile:
                    self._switch.fail(problem)
                    self._switch = None
                was_up = self._parts()[1].path is not None
                if self._switch is None and not self._options.tries_again(problem, was_up=was_up):
                    raise
                event = "lost" if self._report.status else "not reached"
                note(log, logging.WARNING, event, what=problem.what, why=problem.why)
                self._report.lost(problem, self._guard)
                wait = waits.after(problem, came_back=self._report.totals.reconnects > reconnects)
            host.lead_nowhere()
            self._machine.signal(TunnelSignal.LOSE if self._machine.state is TunnelState.UP else TunnelSignal.FAILED)
            await self._pause(wait)
            if self._end_reason:
                return self._end_reason
            if self._switch is not None:
                # There is no tunnel that could stay up until the new one is.
                self._become(self._switch)
                addresses = []
            self._machine.signal(TunnelSignal.RETRY)

    async def _resolve(self, host: HostConfig, known: list[str]) -> list[str]:
        """The gateway's addresses; for a tunnel that comes back, the one that has proven itself first."""
        names = names_of(self._profile)
        if self._report.status is None:
            addresses = await asyncio.to_thread(host.look_up, names)
            if self._machine.state is TunnelState.RESOLVING:
                self._step(Step.RESOLVE, ", ".join(addresses))
                self._machine.signal(TunnelSignal.RESOLVED)
            return addresses
        return await host.look_up_again(names, known, self._report.status.gateway_address)

    async def _pause(self, seconds: float) -> None:
        # Not longer than until somebody wants the end, or another tunnel.
        until = asyncio.get_running_loop().time() + seconds
        while not self._end_reason and self._switch is None and (left := until - asyncio.get_running_loop().time()) > 0:
            with suppress(TimeoutError):
                await asyncio.wait_for(self._wake.wait(), left)
            self._wake.clear()
            self._look_around()

    def _look_around(self) -> None:
        if self._made is None or not self._watch.take_change():
            return
        self._report.notices.found(CONDITIONS, self._made[0].look_and_repair())
        if self._watch.wants_guard:
            self._watch.follow(self._guard.follow())

    async def _try(self, address: str, origin: str) -> str:
        self._machine.signal(TunnelSignal.NEXT)
        host, targets = self._parts()[0], [address, *([] if origin else self._ways.beside)]
        profile = await asyncio.to_thread(with_proxy, self._profile, host.look_up)
        host.lead_to(*((target, profile) for target in targets))
        if self._end_reason:
            return self._end_reason
        ways = ways_to(profile, targets, self._ways.worked.get(host.network_key(), profile))
        try:
            self._current = await self._ways.open(
                ways, self._secrets, origin, host.own_addresses, lambda: bool(self._end_reason)
            )
            while True:
                await self._wake.wait()
                self._wake.clear()
                ended = await self._poll()
                if ended is not None:
                    return ended
        except GatewayElsewhere as problem:
            if self._report.status is not None and not problem.proven:
                # Anybody can say so, and the tunnel's traffic waits: nobody is followed who has not shown who he is.
                why = "the message that names another gateway proves nothing"
                raise GatewayError(problem.what, why=why, slug="gateway-elsewhere") from None
            raise
        except GatewayError:
            raise
        except Exception:
            self._say_goodbye()
            raise
        finally:
            self._dispose()

    def _dispose(self) -> None:
        self._parts()[1].pause()  # the device keeps what comes, so that nothing leaves
        for one in filter(None, (self._current, self._successor)):
            one.dispose()
        self._successor = None
        self._sign_in.stop()

    def _say_goodbye(self) -> None:
        for one in filter(None, (self._successor, self._current)):
            one.say_goodbye()

    def _ask_to_end(self, reason: str) -> None:
        self._end_reason = self._end_reason or reason
        self._wake.set()

    def _end_unconfirmed(self) -> None:
        if not self._guard.is_confirmed:
            self._ask_to_end(NOT_CONFIRMED)

    # What has happened.

    async def _poll(self) -> str | None:
        """Look at everything that may have happened; why the tunnel has ended, if it has."""
        current, active = self._current, self._parts()[1]
        if current is None:
            raise ProgramFault("there is no session to poll")
        if self._end_reason and self._machine.state is not TunnelState.ENDING:
            self._machine.signal(TunnelSignal.END)
            current.end()
        if active.wants_rekey():
            current.io.handle_timer()
        self._look_around()
        if active.look_at_path():
            self._measure(current, moved=False)
        if self._watch.take_move(current.outer):
            current.moved()
        if not self._end_reason and self._successor is None:
            await self._begin_successor(current)
        for one in filter(None, (*active.leaving, self._successor, current)):
            for event in one.take_events():
                if (ended := await self._handle(one, event)) is not None:
                    return ended
        return None

    async def _handle(self, session: OpenSession, event: Event) -> str | None:
        active = self._parts()[1]
        if session in active.leaving:
            if isinstance(event, Down):
                active.left(session)
            return None
        if session is self._current:
            return await self._on_current(session, event)
        if session is self._successor:
            self._on_successor(session, event)
        return None

    # Another session beside the present one: a sign-in that is repeated, or another profile's.

    async def _begin_successor(self, current: OpenSession) -> None:
        host, here = self._parts()[0], (current.session.peer[0], current.profile)
        if self._sign_in.take_due():
            self._successor = self._ways.opener.open(current.profile, self._secrets, here[0], "", host.own_addresses)
        elif self._switch is None or self._switch.profile is self._profile:
            return
        elif self._machine.state is not TunnelState.UP:
            raise GatewayError("another tunnel replaces this one")
        else:
            switch = self._switch
            try:
                there = await switch.next_way()
                host.lead_to(here, (there.address, switch.profile))
                self._successor = self._ways.opener.open(there.profile, switch.secrets, there.address)
            except BurrowError as problem:
                self._give_up_switch(switch, problem)
                return
        self._successor.start()

    def _give_up_switch(self, switch: Switch, problem: BurrowError) -> None:
        """The tunnel that is up stays."""
        note(log, logging.WARNING, "not switched", to=switch.profile.name, what=problem.what, why=problem.why)
        self._switch = None
        if self._current is not None:
            self._parts()[0].lead_to((self._current.session.peer[0], self._current.profile))
        switch.fail(problem)

    def _on_successor(self, session: OpenSession, event: Event) -> None:
        """Where a repeated sign-in fails the tunnel has to end, as the gateway would end it soon."""
        if isinstance(event, Up):
            self._take_over(session, event)
        elif isinstance(event, Negotiated):
            if self._switch is None:
                self._report.agreed(event.suites)
            else:
                self._switch.suites = event.suites
        elif isinstance(event, Down):
            problem = event.error or GatewayError("the gateway ended the new negotiation")
            if self._switch is None:
                self._say_goodbye()
                raise problem
            session.dispose()
            self._successor = None
            self._wake.set()
            if not isinstance(problem, GatewayUnreachable) or not self._switch.ways:
                self._give_up_switch(self._switch, as_error(problem))

    def _become(self, switch: Switch) -> None:
        note(log, logging.INFO, "switch", to=switch.profile.name)
        self._profile, self._secrets = switch.profile, switch.secrets
        self._parts()[0].become(switch.profile)
        self._report.become(switch.profile)

    def _take_over(self, successor: OpenSession, event: Up) -> None:
        """The new session is complete: packets go out by it, and the old one is ended."""
        before, switch, (host, active) = self._current, self._switch, self._parts()
        if before is None or active.path is None:
            raise ProgramFault("a session is followed by another before it was up")
        active.set_aside(before)
        self._current, self._successor, self._switch = successor, None, None
        if switch is None:
            self._report.totals.sign_ins_repeated += 1
        else:
            self._become(switch)
            self._report.agreed(switch.suites)
            self._sign_in.stop()
            self._keys.add(successor.session)
            self._watch.note(successor.outer)
        active.carry(successor, event, self._profile.tunnel)
        if switch is not None:
            # As long as its gateway is reached as before.
            before.end()
        applied = host.configure(event, successor.outer, active.mtu, self._step)
        status = self._report.up(successor, event, applied, active)
        if switch is None:
            before.end()
        else:
            host.set_mtu(active.mtu)
            switch.done(status)
        self._wake.set()

    # The present session.

    async def _on_current(self, session: OpenSession, event: Event) -> str | None:
        if isinstance(event, StepDone):
            told = f"{event.detail} {self._ways.told}".strip() if event.step is Step.REACH else event.detail
            self._step(event.step, told)
            if event.step is Step.REACH:
                self._machine.signal(TunnelSignal.REACHED)
        elif isinstance(event, Negotiated):
            self._report.agreed(event.suites)
        elif isinstance(event, Rekeyed):
            self._report.rekeyed(event)
        elif isinstance(event, Up):
            self._establish(session, event)
        elif isinstance(event, Noticed):
            self._report.notices.add(event.finding)
        elif isinstance(event, ChannelChanged):
            self._parts()[1].refresh()
        elif isinstance(event, Moved):
            self._report.totals.address_changes += 1
            self._measure(session, moved=True)
        elif isinstance(event, SignInDue):
            self._sign_in.announce(event.seconds)
        elif isinstance(event, Redirected):
            # Looked up while names still resolve; then this tunnel is ended.
            found, here = await asyncio.to_thread(look_up, [event.to]), session.session.peer[0]
            self._say_goodbye()
            raise GatewayElsewhere(f"the gateway {here} sends its callers to {found[0]}", found[0], proven=True)
        elif isinstance(event, Down):
            return end_of(event, self._end_reason)
        return None

    # The tunnel.

    def _establish(self, session: OpenSession, event: Up) -> None:
        """The gateway has granted the tunnel: configure this machine, and carry packets."""
        (host, active), before, switch = self._parts(), self._report.status, self._switch
        self._keys.add(session.session)
        self._watch.note(session.outer)
        active.carry(session, event, self._profile.tunnel)
        applied = host.configure(event, session.outer, active.mtu, self._step)
        if active.path is not None:
            active.path.start_reading()
        status = self._report.up(session, event, applied, active, self._ways.told)
        self._ways.worked.put(host.network_key(), self._profile, session.profile.settings.over())
        self._machine.signal(TunnelSignal.CONFIGURED)
        if not self._steps.silent:
            self._steps.silent = True
            self._listener.on_up(status)
        if before is not None:
            self._report.totals.reconnects += 1
            note(log, logging.INFO, "back", gateway=status.gateway_address)
        if switch is not None and switch.profile is self._profile:
            self._switch = None
            switch.done(status)

    def _measure(self, session: OpenSession, *, moved: bool) -> None:
        """What the path to the gateway takes may be another size now."""
        host, active = self._parts()
        active.measure(session.session.peer, self._profile.tunnel, moved=moved)
        host.set_mtu(active.mtu)

    # The control socket.

    async def _answer_calls(self, control: ControlServer, calls: asyncio.Event) -> None:
        """Answer as long as the tunnel is supervised."""
        while True:
            await calls.wait()
            calls.clear()
            for request in control.take_requests():
                if request.call == SWITCH:
                    self._ask_to_switch(request)
                elif not request.answer.done():
                    request.answer.set_result(self._answer(request.call))

    def _ask_to_switch(self, request: Request) -> None:
        try:
            if self._switch is not None or self._report.status is None or self._end_reason:
                raise StateError("a tunnel is being set up", next_step="Try again once it is up.", slug="busy")
            self._switch = Switch.of(request.body, request.answer)
            self._wake.set()
        except BurrowError as problem:
            request.answer.set_result({"error": error_document(problem)})

    def _answer(self, call: str) -> dict[str, Any]:
        if call == "status":
            up = self._machine.state is TunnelState.UP
            now = self._report.document(self._parts()[1], self._current, is_up=up)
            return {"state": str(self._machine.state), "profile": self._profile.name, "status": now}
        if call == "disconnect":
            self._ask_to_end("disconnect")
            return {"ending": True}
        if call == "rekey":
            is_up = self._machine.state is TunnelState.UP
            return {"rekeying": is_up and self._current is not None and self._current.io.rekey()}
        return {"error": f"the call {call!r:.40} is not known"}
