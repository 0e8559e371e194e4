"""Carries one tunnel from the first name look-up until this machine is as it was."""

from __future__ import annotations

import asyncio
import importlib
import os
import signal
import socket
from collections.abc import Callable
from contextlib import suppress
from dataclasses import astuple, dataclass, replace
from datetime import UTC, datetime
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from zesty_burrow.carrier.configuring import Secrets, initiator_config, look_up, resolve, try_each
from zesty_burrow.carrier.control import ControlServer
from zesty_burrow.carrier.datapath import Flow, PacketPath
from zesty_burrow.carrier.keyfile import write_key_file
from zesty_burrow.carrier.pump import Pump, udp_socket
from zesty_burrow.carrier.status import IPV6_STATES, STEPS, StepDone, TunnelStatus, suite_in_words
from zesty_burrow.carrier.steps import step_of
from zesty_burrow.core.esp.association import InboundSa, OutboundSa
from zesty_burrow.core.ike.events import (
    ChildEstablished,
    ChildGone,
    ChildRekeyed,
    Closed,
    Event,
    Failed,
    IkeRekeyed,
    InnerNetwork,
    Moved,
    Negotiated,
    Redirected,
    SignInLimit,
)
from zesty_burrow.core.ike.initiator import Initiator
from zesty_burrow.core.ike.initiator_table import State
from zesty_burrow.core.ike.redirect import sent_elsewhere
from zesty_burrow.core.ip import Address, AddressRange, Network
from zesty_burrow.core.profile.model import Profile
from zesty_burrow.errors import BurrowError, GatewayError, GatewayUnreachable
from zesty_burrow.host.journal import Journal, Restored
from zesty_burrow.host.movement import drain, open_watch, source_towards
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.plan import RoutingPlan, plan_routes
from zesty_burrow.host.resolver import use_name_servers
from zesty_burrow.host.tun import TunDevice, open_tun

SIGN_IN_SHARE = 0.9
"""Of the time that a gateway gives before a sign-in has to be repeated (RFC 4478), how much is used."""
SHORTEST_STAND = 5.0
"""Seconds that a tunnel stands at least before a sign-in is repeated, whatever the gateway says."""
SETTLE = 0.3
"""Seconds after a change of the network until it is looked at."""
FIRST_WAIT, LONGEST_WAIT = 1.0, 60.0
"""Seconds before a lost tunnel is tried again: at first, and at most; each wait is twice the one before."""


@dataclass(frozen=True, slots=True)
class CarrierOptions:
    """``patience``: seconds to wait for a silent gateway; ``export_keys``: a file for an analyser, or None.

    ``keep_trying``: a tunnel that is lost is set up anew; until it stands again nothing leaves.
    """

    journal: Path
    control: Path
    patience: float = 15.0
    export_keys: Path | None = None
    keep_trying: bool = False


@dataclass(frozen=True, slots=True)
class CarrierEnd:
    """How the tunnel ended, and what was put back."""

    reason: str
    restored: Restored


class _SignInAgain(Exception):
    """The sign-in is to be repeated."""


def _names_of(child: ChildEstablished) -> tuple[tuple[Address, ...], tuple[str, ...]]:
    return child.inner.name_servers, child.inner.suffixes


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
        self._initiator: Initiator | None = None
        self._pump: Pump[Event] | None = None
        self._path: PacketPath | None = None
        self._renewals = 0
        self._status: TunnelStatus | None = None
        self._outcome: asyncio.Future[str] | None = None
        self._asked_to_end = ""
        self._last_step = 0.0
        self._next_step = ""
        self._negotiated: Negotiated | None = None
        self._addresses: list[str] = []
        self._inner: InnerNetwork | None = None
        self._plan = RoutingPlan((), (), "")
        self._returns = 0
        self._ending: asyncio.Event | None = None
        self._carried: list[Network] = []
        self._servers: tuple[Address, ...] = ()
        self._source = ""
        self._away = False
        self._settling: asyncio.TimerHandle | None = None
        self._moves = 0
        self._sign_in_timer: asyncio.TimerHandle | None = None
        self._following: asyncio.Task[None] | None = None

    def run(self) -> CarrierEnd:
        """Carry the tunnel until it ends. Raises a ``BurrowError`` if it could not be set up or was lost."""
        importlib.import_module("pyroute2")  # slow to load: before the steps whose time is shown
        self._journal = Journal(self._options.journal, self._profile.name)
        try:
            self._device = open_tun()
            self._journal.note_device(self._device.name)
            reason = asyncio.run(self._carry())
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
        watch = open_watch()
        loop.add_reader(watch.fileno(), self._network_changed, watch)
        try:
            self._addresses = await asyncio.to_thread(resolve, self._profile)
            self._step("resolve", ", ".join(self._addresses))
            return await self._again_and_again()
        finally:
            loop.remove_reader(watch.fileno())
            watch.close()
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
            except _SignInAgain:
                continue
            except GatewayError:
                if not self._options.keep_trying or self._status is None or self._asked_to_end:
                    raise
            wait = FIRST_WAIT if self._returns > returns else min(wait * 2, LONGEST_WAIT)
            with suppress(TimeoutError):
                await asyncio.wait_for(self._ending.wait(), wait)
                return self._asked_to_end

    async def _try(self, address: str, origin: str) -> str:
        loop = asyncio.get_running_loop()
        if self._inner is not None:
            # The tunnel's routes are in force: a gateway that they do not know yet must be reached beside it.
            with Netlink() as netlink:
                self._apply(netlink, self._plan_for(address))
        now, patience = datetime.now(UTC), self._options.patience
        config = initiator_config(self._profile, address, self._secrets, now, patience, origin)
        self._outcome = loop.create_future()
        if self._asked_to_end:
            return self._asked_to_end
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        with udp_socket(family) as channel:
            initiator = self._initiator = Initiator(config, os.urandom)
            # One socket serves both of the gateway's ports; what comes from 4500 and has no marker is ESP.
            self._pump = Pump(initiator, {config.local_port: channel}, self._receive, self._on_event)
            self._channel = channel
            try:
                initiator.start(self._pump.now())
                self._pump.flush()
                return await self._outcome
            finally:
                if self._device is not None:
                    loop.remove_reader(self._device.descriptor)
                self._pump.close()
                self._pump = None
                if self._sign_in_timer is not None:
                    self._sign_in_timer.cancel()

    def _network_changed(self, watch: socket.socket) -> None:
        """Many small changes belong to one: look once they have settled."""
        drain(watch)
        if self._settling is None:
            self._settling = asyncio.get_running_loop().call_later(SETTLE, self._look_where_we_are)

    def _look_where_we_are(self) -> None:
        self._settling = None
        if self._initiator is None or self._pump is None:
            return
        source = source_towards(self._initiator.peer[0])
        # Also when the way was lost and is back: an address translator may have forgotten us.
        if source and (self._away or (self._source and source != self._source)):
            self._initiator.moved(self._pump.now())
            self._pump.flush()
        self._away = not source
        self._source = source or self._source

    async def _follow(self, to: str) -> None:
        """To another gateway from a standing tunnel: look it up while names still come through, then take leave."""
        try:
            found = await asyncio.to_thread(look_up, [to], self._profile.gateway.port)
        except GatewayUnreachable as problem:
            self._finish(problem)
            return
        here = self._initiator.peer[0] if self._initiator else ""
        self._say_goodbye()
        self._finish(sent_elsewhere(here, found[0]))

    def _sign_in_again(self) -> None:
        """Before the gateway's limit (RFC 4478): take leave and set the tunnel up anew; nothing leaves meanwhile."""
        if not self._asked_to_end:
            self._say_goodbye()
            self._finish(_SignInAgain())

    def _end(self, reason: str) -> None:
        """Somebody wants the tunnel to end."""
        self._asked_to_end = self._asked_to_end or reason
        if self._ending is not None:
            self._ending.set()
        if self._initiator is None or self._pump is None:
            return
        self._initiator.close(self._pump.now())
        self._pump.flush()

    def _receive(self, data: bytes, source: tuple[str, int], _: int, now: float) -> None:
        initiator = self._initiator
        if initiator is None or source[0] != initiator.peer[0]:
            return
        is_ike = source[1] != initiator.config.encapsulation_port or data[:4] == bytes(4)
        if is_ike:
            initiator.receive(data, source, now)
        elif self._path is not None and len(data) > 1 and self._path.inbound(data):
            initiator.traffic_received(now)

    def _on_event(self, event: Event) -> None:
        peer = self._initiator.peer[0] if self._initiator else ""
        step = step_of(event, peer, self._profile.credentials_label)
        if isinstance(event, Negotiated):
            self._negotiated = event
        if step is not None:
            self._step(*step)
        elif isinstance(event, ChildEstablished):
            self._guarded(lambda: self._establish(event))
        elif isinstance(event, ChildRekeyed) and self._path is not None:
            self._path.add(self._flow_of(event.child), by_peer=event.by_peer)
            self._renewals += 1
        elif isinstance(event, IkeRekeyed):
            self._renewals += 1
        elif isinstance(event, Moved):
            self._moves += 1
        elif isinstance(event, SignInLimit):
            wait = max(SIGN_IN_SHARE * event.seconds, SHORTEST_STAND)
            self._sign_in_timer = asyncio.get_running_loop().call_later(wait, self._sign_in_again)
        elif isinstance(event, Redirected):
            self._following = asyncio.get_running_loop().create_task(self._follow(event.to))
        elif isinstance(event, ChildGone) and self._path is not None:
            self._path.drop(event.spi_in)
        elif isinstance(event, Failed):
            self._finish(event.error)
        elif isinstance(event, Closed):
            self._on_closed(event)

    def _guarded(self, action: Callable[[], None]) -> None:
        """Run something inside a callback; its error becomes the outcome instead of the event loop's."""
        try:
            action()
        except Exception as problem:
            self._say_goodbye()
            self._finish(problem)

    def _say_goodbye(self) -> None:
        """Tell a gateway that has just granted a tunnel that it is not used; nobody waits for its answer."""
        if self._initiator is not None and self._pump is not None and self._initiator.state is State.ESTABLISHED:
            self._initiator.close(self._pump.now())
            for datagram in self._initiator.send(self._pump.now()):
                with suppress(OSError):
                    self._channel.sendto(datagram.data, datagram.destination)

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

    def _establish(self, child: ChildEstablished) -> None:
        if self._device is None or self._initiator is None or self._pump is None or self._journal is None:
            return
        if self._options.export_keys is not None:
            write_key_file(self._options.export_keys, self._initiator.export_keys())
        flow, before = self._flow_of(child), self._status
        self._source = source_towards(self._initiator.peer[0])
        if self._path is None:
            self._path = PacketPath(self._device.descriptor, flow, self._send_esp)
        else:
            self._path.restart(flow)
        with Netlink() as netlink:
            plan, servers = self._configure(netlink, child)
        asyncio.get_running_loop().add_reader(self._device.descriptor, self._outbound)
        self._status = self._describe(child, plan, servers)
        if before is None:
            self._on_up(self._status)
        else:
            self._returns += 1
            self._status = replace(self._status, since=before.since, seconds_up=before.seconds_up)

    @staticmethod
    def _flow_of(child: ChildEstablished) -> Flow:
        outbound = OutboundSa(child.spi_out, child.outbound(os.urandom), extended=child.extended)
        inbound = InboundSa(child.spi_in, child.inbound(os.urandom), extended=child.extended)
        own = tuple(AddressRange(one.ip.packed, one.ip.packed) for one in child.inner.addresses)
        return Flow(outbound, inbound, own, child.remote)

    def _configure(self, netlink: Netlink, child: ChildEstablished) -> tuple[RoutingPlan, tuple[str, ...]]:
        device, journal, profile = self._device, self._journal, self._profile
        if device is None or journal is None or self._initiator is None:
            raise GatewayError("the tunnel ended while it was being set up")
        before = self._inner.addresses if self._inner else ()
        if not before:
            netlink.set_link(device.name, mtu=profile.tunnel.mtu, state="up")
        for entry in child.inner.addresses:
            if entry not in before:
                netlink.add_address(device.name, f"{entry.ip}/{entry.ip.max_prefixlen}")
        for entry in before:
            if entry not in child.inner.addresses:
                netlink.remove_address(device.name, f"{entry.ip}/{entry.ip.max_prefixlen}")
        self._step("address", ", ".join(str(entry.ip) for entry in child.inner.addresses))
        versions = {entry.version for entry in child.inner.addresses}
        carried: list[Network] = [
            network for entry in child.remote if entry.version in versions for network in entry.networks()
        ]
        own_servers = profile.traffic.name_servers
        # A server that the gateway names and carries nothing to would only make every name fail.
        servers = own_servers or tuple(
            one
            for one in child.inner.name_servers
            if one.version in versions and any(one.packed in entry for entry in child.remote)
        )
        self._carried, self._servers = carried, servers
        plan = self._plan_for(self._initiator.peer[0])
        self._apply(netlink, plan)
        shown = ", ".join(str(network) for network in carried)
        self._step("routes", f"{shown}; IPv6 {IPV6_STATES[plan.ipv6]}")
        suffixes = profile.traffic.suffixes or child.inner.suffixes
        known = self._inner
        if servers and (known is None or (known.name_servers, known.suffixes) != _names_of(child)):
            use_name_servers(journal, servers, suffixes)
        self._inner = child.inner
        self._step("name servers", ", ".join(map(str, servers)) or "unchanged")
        return plan, tuple(map(str, servers))

    def _plan_for(self, gateway: str) -> RoutingPlan:
        """What the tunnel needs while it leads to this gateway."""
        name = self._device.name if self._device else ""
        return plan_routes(name, ip_address(gateway), self._carried, self._servers, self._profile.traffic)

    def _apply(self, netlink: Netlink, plan: RoutingPlan) -> None:
        """What of a plan is not in force yet. Nothing is taken back before the end: that could open a gap."""
        if self._journal is None:
            return
        for route in plan.routes:
            if route not in self._plan.routes:
                self._journal.add_route(netlink, route)
        for rule in plan.rules:
            if rule not in self._plan.rules:
                self._journal.add_rule(netlink, rule)
        routes = tuple(dict.fromkeys((*self._plan.routes, *plan.routes)))
        self._plan = RoutingPlan(routes, tuple(dict.fromkeys((*self._plan.rules, *plan.rules))), plan.ipv6)

    def _describe(self, child: ChildEstablished, plan: RoutingPlan, servers: tuple[str, ...]) -> TunnelStatus:
        profile, device, initiator = self._profile, self._device, self._initiator
        if device is None or initiator is None or self._negotiated is None:
            raise GatewayError("the tunnel ended while it was being set up")
        return TunnelStatus(
            profile=profile.name,
            provider=profile.provider,
            country=profile.country,
            city=profile.city,
            gateway=profile.gateway_identity.value,
            gateway_address=initiator.peer[0],
            protocol="IKEv2, ESP in UDP",
            since=datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
            device=device.name,
            addresses=tuple(str(entry.ip) for entry in child.inner.addresses),
            name_servers=servers,
            suffixes=profile.traffic.suffixes or child.inner.suffixes,
            netbios_name_servers=tuple(
                map(str, profile.traffic.netbios_name_servers or child.inner.netbios_name_servers)
            ),
            ike_algorithms=suite_in_words(self._negotiated.suite),
            esp_algorithms=suite_in_words(child.keys.suite),
            ike_suite=astuple(self._negotiated.suite),
            esp_suite=astuple(child.keys.suite),
            ipv6=plan.ipv6,
            process=os.getpid(),
            seconds_up=asyncio.get_running_loop().time(),
        )

    def _send_esp(self, data: bytes) -> None:
        if self._initiator is not None:
            with suppress(OSError):
                self._channel.sendto(data, self._initiator.peer)

    def _outbound(self) -> None:
        if self._path is not None and self._initiator is not None and self._pump is not None:

            def carry() -> None:
                if self._path is None or not self._path.outbound_ready() or self._initiator is None:
                    return
                sent = self._path.flow.outbound
                now = asyncio.get_running_loop().time()
                if self._initiator.traffic_sent(now, sent.octets, sent.sequence) and self._pump is not None:
                    self._pump.flush()

            self._guarded(carry)

    # The control socket.

    def _answer(self, call: str) -> dict[str, Any]:
        if call == "status":
            return {"status": self._current().document() if self._status else None, "state": str(self._state())}
        if call == "disconnect":
            asyncio.get_running_loop().call_soon(self._end, "disconnect")
            return {"ending": True}
        return {"error": f"the call {call!r:.40} is not known"}

    def _state(self) -> State:
        return self._initiator.state if self._initiator else State.IDLE

    def _current(self) -> TunnelStatus:
        status, path = self._status, self._path
        if status is None or path is None:
            raise GatewayError("there is no tunnel yet")
        flow = path.flow
        sent, received = flow.outbound.counters, flow.inbound.counters
        return replace(
            status,
            seconds_up=round(asyncio.get_running_loop().time() - status.seconds_up, 1),
            packets_in=received.packets,
            packets_out=sent.packets,
            octets_in=received.octets,
            octets_out=sent.octets,
            rejected=received.rejected,
            turned_away=path.turned_away,
            renewals=self._renewals,
            returns=self._returns,
            moves=self._moves,
            standing=self._state() is State.ESTABLISHED,
        )
