"""Carries one tunnel from the first name look-up until this machine is as it was."""

from __future__ import annotations

import asyncio
import gc
import importlib
import logging
import os
import signal
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from zesty_burrow.carrier import waiter
from zesty_burrow.carrier.configuring import Secrets, initiator_config, look_up, resolve, try_each
from zesty_burrow.carrier.control import ControlServer
from zesty_burrow.carrier.datapath import DataPath, offloads_in_use
from zesty_burrow.carrier.habits import Habits
from zesty_burrow.carrier.inside import Inside, Placed
from zesty_burrow.carrier.keyfile import write_key_file
from zesty_burrow.carrier.line import Line
from zesty_burrow.carrier.status import STEPS, StepDone, TunnelStatus, suites
from zesty_burrow.carrier.steps import step_of
from zesty_burrow.carrier.tunnel import Flow, Tunnel
from zesty_burrow.carrier.whereabouts import Whereabouts
from zesty_burrow.core.ike.events import (
    ChildEstablished,
    ChildGone,
    ChildRekeyed,
    Closed,
    Event,
    Failed,
    IkeRekeyed,
    Moved,
    Redirected,
    SignInLimit,
)
from zesty_burrow.core.ike.initiator_table import State
from zesty_burrow.core.ike.redirect import sent_elsewhere
from zesty_burrow.core.ip import AddressRange
from zesty_burrow.core.profile.model import MAX_MTU, MIN_MTU, Profile
from zesty_burrow.errors import BurrowError, GatewayError, GatewayUnreachable
from zesty_burrow.host.journal import Journal, Restored
from zesty_burrow.host.tun import TunDevice, open_tun

log = logging.getLogger(__name__)
SIGN_IN_SHARE = 0.9
"""Of the time that a gateway gives before a sign-in has to be repeated (RFC 4478), how much is used."""
SHORTEST_STAND = 5.0
"""Seconds that a tunnel stands at least before a sign-in is repeated, whatever the gateway says."""
FIRST_WAIT, LONGEST_WAIT = 1.0, 60.0
"""Seconds before a lost tunnel is tried again: at first, and at most; each wait is twice the one before."""


@dataclass(frozen=True, slots=True)
class CarrierOptions:
    """``patience``: seconds to wait for a silent gateway; ``export_keys``: a file for an analyser, or None.

    ``keep_trying``: a tunnel that is lost is set up anew; until it stands again nothing leaves.
    ``without``: what the data path does without, by the names in ``MAY_BE_LEFT_OUT``.
    """

    journal: Path
    control: Path
    patience: float = 15.0
    export_keys: Path | None = None
    keep_trying: bool = False
    without: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class CarrierEnd:
    """How the tunnel ended, and what was put back."""

    reason: str
    restored: Restored


class Carrier:
    """One tunnel. ``on_step`` hears of each step, ``on_up`` once the tunnel stands."""

    def __init__(
        self,
        profile: Profile,
        secrets: Secrets,
        options: CarrierOptions,
        on_step: Callable[[StepDone], None],
        on_up: Callable[[TunnelStatus], None],
    ) -> None:
        self._profile = profile
        self._secrets = secrets
        self._options = options
        self._on_step = on_step
        self._on_up = on_up
        self._journal: Journal | None = None
        self._device: TunDevice | None = None
        self._inside: Inside | None = None
        self._line: Line | None = None
        self._successor: Line | None = None
        self._leaving: dict[Line, list[int]] = {}
        self._path: DataPath | None = None
        self._tunnel: Tunnel | None = None
        self._status: TunnelStatus | None = None
        self._outcome: asyncio.Future[str] | None = None
        self._asked_to_end = ""
        self._ending: asyncio.Event | None = None
        self._last_step = 0.0
        self._next_step = ""
        self._addresses: list[str] = []
        self._whereabouts = Whereabouts(lambda: self._line.peer[0] if self._line else "", self._moved)
        self._sign_in_timer: asyncio.TimerHandle | None = None
        self._following: asyncio.Task[None] | None = None
        self._mtu = 0
        self._renewals = self._returns = self._moves = self._sign_ins = 0

    def run(self) -> CarrierEnd:
        """Carry the tunnel until it ends. Raises a ``BurrowError`` if it could not be set up or was lost."""
        importlib.import_module("pyroute2")  # slow to load: before the steps whose time is shown
        self._journal = Journal(self._options.journal, self._profile.name)
        try:
            self._device = open_tun(without=self._options.without)
            self._journal.note_device(self._device.name)
            self._inside = Inside(self._profile, self._device.name, self._journal)
            reason = waiter.run(self._carry())
        except BurrowError as error:
            error.step = "" if self._status else self._next_step
            raise
        finally:
            if self._device is not None:
                self._device.close()
            restored = self._journal.put_back()
        return CarrierEnd(reason, restored)

    def _step(self, name: str, detail: str = "") -> None:
        now = asyncio.get_running_loop().time()
        self._on_step(StepDone(name, now - self._last_step, detail))
        self._last_step = now
        self._next_step = STEPS[STEPS.index(name) + 1] if name != STEPS[-1] else ""

    async def _carry(self) -> str:
        loop = asyncio.get_running_loop()
        self._last_step = loop.time()
        self._next_step = STEPS[0]
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            loop.add_signal_handler(number, self._end, f"signal {signal.Signals(number).name}")
        control = ControlServer(self._options.control, self._answer)
        await control.start()
        self._whereabouts.start()
        try:
            self._addresses = await asyncio.to_thread(resolve, self._profile)
            self._step("resolve", ", ".join(self._addresses))
            return await self._again_and_again()
        finally:
            self._whereabouts.stop()
            await control.stop()

    async def _again_and_again(self) -> str:
        """Until somebody wants the end; or once, where nobody asked to keep trying or no tunnel has ever stood.

        A gateway that refuses us or cannot prove itself is not asked again: that would not become better.
        """
        self._ending = asyncio.Event()
        wait = FIRST_WAIT
        while True:
            returns = self._returns
            try:
                return await try_each(self._addresses, self._profile.gateway.port, self._try)
            except GatewayError:
                if not self._options.keep_trying or self._status is None or self._asked_to_end:
                    raise
            wait = FIRST_WAIT if self._returns > returns else min(wait * 2, LONGEST_WAIT)
            with suppress(TimeoutError):
                await asyncio.wait_for(self._ending.wait(), wait)
                return self._asked_to_end

    async def _try(self, address: str, origin: str) -> str:
        loop = asyncio.get_running_loop()
        if self._inside is not None:
            self._inside.lead_to(address)
        self._outcome = loop.create_future()
        if self._asked_to_end:
            return self._asked_to_end
        self._line = self._open_line(address, origin)
        try:
            self._line.start()
            return await self._outcome
        finally:
            if self._device is not None:
                loop.remove_reader(self._device.descriptor)
            for line in (self._line, self._successor, *self._leaving):
                if line is not None:
                    line.dispose()
            self._successor = None
            self._leaving.clear()
            if self._sign_in_timer is not None:
                self._sign_in_timer.cancel()

    def _open_line(self, address: str, origin: str = "") -> Line:
        """``origin``: the gateway that has sent us to this one. What this side had before is asked for again."""
        now, patience = datetime.now(UTC), self._options.patience
        config = initiator_config(self._profile, address, self._secrets, now, patience, origin)
        known = self._inside.network if self._inside else None
        wanted = tuple(entry.ip for entry in known.addresses) if known else ()
        config = replace(config, wanted=wanted)
        return Line(config, lambda: self._path, self._on_event, self._options.without)

    def _moved(self) -> None:
        """This machine has another address towards the gateway."""
        if self._line is not None:
            self._line.initiator.moved(self._line.pump.now())
            self._line.pump.flush()

    async def _follow(self, to: str) -> None:
        """To another gateway from a standing tunnel: look it up while names still come through, then take leave."""
        try:
            found = await asyncio.to_thread(look_up, [to], self._profile.gateway.port)
        except GatewayUnreachable as problem:
            self._finish(problem)
            return
        here = self._line.peer[0] if self._line else ""
        self._say_goodbye()
        self._finish(sent_elsewhere(here, found[0]))

    def _sign_in_again(self) -> None:
        """Before the gateway's limit (RFC 4478): a new IKE SA beside the one that stands (RFC 7296 §2.8.3)."""
        if not self._asked_to_end and self._line is not None and self._successor is None:
            self._successor = self._open_line(self._line.peer[0])
            self._successor.start()

    def _take_over(self, successor: Line, child: ChildEstablished) -> None:
        """The new sign-in stands: what goes out goes by it, and the old IKE SA is taken leave of."""
        before, tunnel, inside, path = self._line, self._tunnel, self._inside, self._path
        if before is None or tunnel is None or inside is None or path is None:
            return
        self._leaving[before] = list(tunnel.flows)
        self._line, self._successor = successor, None
        self._sign_ins += 1
        tunnel.go_over(self._flow_of(child), successor.port, successor.peer)
        path.carry(tunnel)
        placed = inside.configure(child, successor.peer[0], self._mtu, self._quietly)
        if self._status is not None:
            since, up = self._status.since, self._status.seconds_up
            self._status = replace(self._describe(child, placed), since=since, seconds_up=up)
        before.close()

    def _quietly(self, *_: str) -> None:
        """A step that nobody waits for."""

    def _left(self, line: Line) -> None:
        """An IKE SA in whose place another one has come is gone."""
        for spi in self._leaving.pop(line, ()):
            if self._tunnel is not None and self._path is not None:
                self._tunnel.drop(spi)
                self._path.forget(spi)
        asyncio.get_running_loop().call_soon(line.dispose)

    def _end(self, reason: str) -> None:
        """Somebody wants the tunnel to end."""
        self._asked_to_end = self._asked_to_end or reason
        if self._ending is not None:
            self._ending.set()
        if self._line is not None:
            self._line.close()

    def _on_event(self, line: Line, event: Event) -> None:
        if line in self._leaving:
            if isinstance(event, Closed | Failed):
                self._left(line)
        elif line is self._successor:
            self._on_successor(line, event)
        else:
            self._on_current(line, event)

    def _on_successor(self, line: Line, event: Event) -> None:
        """What a repeated sign-in tells. Where it fails the tunnel has to end, as the gateway would end it soon."""
        if isinstance(event, ChildEstablished):
            self._guarded(lambda: self._take_over(line, event))
        elif isinstance(event, Failed | Closed):
            ended = GatewayError("the sign-in could not be repeated", why="the gateway broke the new negotiation off")
            self._say_goodbye()
            self._finish(event.error if isinstance(event, Failed) else ended)

    def _on_current(self, line: Line, event: Event) -> None:
        step = step_of(event, line.peer[0], self._profile.credentials_label)
        if step is not None:
            self._step(*step)
        elif isinstance(event, ChildEstablished):
            self._guarded(lambda: self._establish(event))
        elif isinstance(event, ChildRekeyed | ChildGone):
            self._on_renewal(event)
        elif isinstance(event, IkeRekeyed):
            self._renewals += 1
            self._note_suites(line)
        elif isinstance(event, Moved):
            self._moves += 1
            self._measure_way()
        elif isinstance(event, SignInLimit):
            wait = max(SIGN_IN_SHARE * event.seconds, SHORTEST_STAND)
            self._sign_in_timer = asyncio.get_running_loop().call_later(wait, self._sign_in_again)
        elif isinstance(event, Redirected):
            self._following = asyncio.get_running_loop().create_task(self._follow(event.to))
        elif isinstance(event, Failed):
            self._finish(event.error)
        elif isinstance(event, Closed):
            self._on_closed(event)

    def _on_renewal(self, event: ChildRekeyed | ChildGone) -> None:
        tunnel, path = self._tunnel, self._path
        if tunnel is None or path is None:
            return
        if isinstance(event, ChildRekeyed):
            tunnel.add(self._flow_of(event.child), by_peer=event.by_peer)
            path.carry(tunnel)
            self._renewals += 1
            self._note_suites(self._line)
        else:
            tunnel.drop(event.spi_in)
            path.forget(event.spi_in)

    def _note_suites(self, line: Line | None) -> None:
        """Renewed keys may be of other algorithms than the first ones."""
        initiator = line.initiator if line is not None else None
        if self._status is not None and initiator is not None and initiator.keys and initiator.child:
            self._status = replace(self._status, **suites(initiator.keys.suite, initiator.child.keys.suite))

    def _guarded(self, action: Callable[[], None]) -> None:
        """Run something inside a callback; its error becomes the outcome instead of the event loop's."""
        try:
            action()
        except Exception as problem:
            self._say_goodbye()
            self._finish(problem)

    def _say_goodbye(self) -> None:
        for line in (self._successor, self._line):
            if line is not None:
                line.say_goodbye()

    def _finish(self, outcome: Exception | str) -> None:
        if self._outcome is None or self._outcome.done():
            return
        if isinstance(outcome, Exception):
            self._outcome.set_exception(outcome)
        else:
            self._outcome.set_result(outcome)

    def _on_closed(self, event: Closed) -> None:
        if event.by_peer and not self._asked_to_end:
            error = GatewayError(
                "the tunnel is down",
                why=event.reason,
                next_step="Connect again; this machine was put back.",
                slug="gateway-ended",
            )
            self._finish(error)
        else:
            self._finish(self._asked_to_end or "ended")

    # Once the gateway has granted the tunnel.

    def _measure_way(self) -> None:
        """What the way to the gateway takes may be another one now."""
        tunnel, inside = self._tunnel, self._inside
        if tunnel is None or inside is None:
            return
        limit = tunnel.measure()
        if not self._profile.tunnel.mtu and self._path is not None:
            self._mtu = min(limit, self._path.mtu)
            inside.set_mtu(self._mtu)
        log.debug("the way to %s takes inner packets of %d octets", tunnel.peer[0], limit)

    def _begin_path(self, line: Line, flow: Flow, device: TunDevice) -> None:
        """The data path of the first tunnel; those that come after it use the same."""
        # What is loaded by now stays: the collector need not look at it again and again.
        gc.freeze()
        wanted = self._profile.tunnel
        tunnel = self._tunnel = Tunnel(flow, line.port, line.peer)
        limit = tunnel.measure()
        self._mtu = wanted.mtu or max(MIN_MTU, min(limit, MAX_MTU))
        habits = Habits(wanted.dscp, wanted.clamp_segment_size)
        soon, without = asyncio.get_running_loop().call_soon, self._options.without
        self._path = DataPath(
            device, self._mtu, lambda *_: tunnel, habits, without, lambda *when: soon(self._carried, *when)
        )
        used = ", ".join(offloads_in_use(device, line.port)) or "none"
        log.debug("offloads in use: %s; the way takes inner packets of %d octets", used, limit)

    def _establish(self, child: ChildEstablished) -> None:
        line, device, inside = self._line, self._device, self._inside
        if line is None or device is None or inside is None:
            return
        if self._options.export_keys is not None:
            write_key_file(self._options.export_keys, line.initiator.export_keys())
        flow, before = self._flow_of(child), self._status
        self._whereabouts.note()
        if self._tunnel is None or self._path is None:
            self._begin_path(line, flow, device)
        else:
            self._path.forget_tunnel(self._tunnel)
            self._tunnel.restart(flow, line.port, line.peer)
            self._tunnel.measure()
        if self._tunnel is not None and self._path is not None:
            self._path.carry(self._tunnel)
        placed = inside.configure(child, line.peer[0], self._mtu, self._step)
        asyncio.get_running_loop().add_reader(device.descriptor, self._outbound)
        self._status = self._describe(child, placed)
        if before is None:
            self._on_up(self._status)
        else:
            self._returns += 1
            self._status = replace(self._status, since=before.since, seconds_up=before.seconds_up)

    @staticmethod
    def _flow_of(child: ChildEstablished) -> Flow:
        own = [AddressRange(one.ip.packed, one.ip.packed) for one in child.inner.addresses]
        return Flow.of(child, own, os.urandom)

    def _describe(self, child: ChildEstablished, placed: Placed) -> TunnelStatus:
        profile, device, line = self._profile, self._device, self._line
        if device is None or line is None or line.negotiated is None:
            raise GatewayError("the tunnel ended while it was being set up")
        return TunnelStatus(
            profile=profile.name,
            provider=profile.provider,
            country=profile.country,
            city=profile.city,
            gateway=profile.gateway_identity.value,
            gateway_address=line.peer[0],
            protocol="IKEv2, ESP in UDP",
            since=datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
            device=device.name,
            addresses=tuple(str(entry.ip) for entry in child.inner.addresses),
            name_servers=placed.servers,
            suffixes=profile.traffic.suffixes or child.inner.suffixes,
            netbios_name_servers=tuple(
                map(str, profile.traffic.netbios_name_servers or child.inner.netbios_name_servers)
            ),
            encrypted_resolvers=tuple(one.in_words() for one in child.inner.encrypted_resolvers),
            **suites(line.negotiated.suite, child.keys.suite),
            ipv6=placed.plan.ipv6,
            process=os.getpid(),
            offloads=offloads_in_use(device, line.port),
            mtu=self._mtu,
            seconds_up=asyncio.get_running_loop().time(),
        )

    def _outbound(self) -> None:
        """The device has packets."""
        path, line = self._path, self._line
        if path is not None and line is not None:
            self._guarded(lambda: self._carried(line.pump.now() if path.outbound_ready() else 0.0, 0.0))

    def _carried(self, sent: float, heard: float) -> None:
        """When something has gone out, and something authentic has come in: by the loop's clock, 0 for never."""
        tunnel, line = self._tunnel, self._line
        if tunnel is None or line is None:
            return
        if heard:
            line.initiator.traffic_received(heard)
        outbound = tunnel.flow.outbound
        if sent and line.initiator.traffic_sent(sent, outbound.octets, outbound.sequence):
            line.pump.flush()

    # The control socket.

    def _answer(self, call: str) -> dict[str, Any]:
        if call == "status":
            return {"status": self._current().document() if self._status else None, "state": str(self._state())}
        if call == "disconnect":
            asyncio.get_running_loop().call_soon(self._end, "disconnect")
            return {"ending": True}
        return {"error": f"the call {call!r:.40} is not known"}

    def _state(self) -> State:
        return self._line.initiator.state if self._line else State.IDLE

    def _current(self) -> TunnelStatus:
        status, path, tunnel = self._status, self._path, self._tunnel
        if status is None or path is None or tunnel is None:
            raise GatewayError("there is no tunnel yet")
        flow = tunnel.flow
        sent, received = flow.outbound.counters, flow.inbound.counters
        return replace(
            status,
            seconds_up=round(asyncio.get_running_loop().time() - status.seconds_up, 1),
            packets_in=received.packets,
            packets_out=sent.packets,
            octets_in=received.octets,
            octets_out=sent.octets,
            rejected=received.rejected + path.unknown,
            turned_away=path.turned_away,
            renewals=self._renewals,
            returns=self._returns,
            moves=self._moves,
            mtu=self._mtu,
            loops=path.loops.said,
            sign_ins_repeated=self._sign_ins,
            standing=self._state() is State.ESTABLISHED,
        )
