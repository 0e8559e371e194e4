"""What tests build on: a provider's authority, configurations, and a network of seeded mischief between two machines."""

from __future__ import annotations

import heapq
import importlib
import itertools
import json
import logging
import os
import pkgutil
import random
import signal
import sys
import tempfile
import time
import traceback
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from ipaddress import IPv4Interface, IPv6Interface, ip_address

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.secret import Secret
from zesty_burrow.host import namespaces
from zesty_burrow.lab.authority import issue, make_authority, make_key
from zesty_burrow.protocols.ikev2.events import Closed, Failed
from zesty_burrow.protocols.ikev2.initiator.config import InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.initiator import Initiator
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.responder.gateway import IkeGateway
from zesty_burrow.protocols.ikev2.responder.table import ResponderConfig
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.session import Down, NetworkSettings, StepDone, Up

HOST = "lisbon.quillwort.example"
GATEWAY = ("198.51.100.18", 500)
CALLER = ("192.0.2.77", 40000)
PASSWORD = "kelp-Forest_42"
GCM, GCM128 = (Offer(((20, 256),), (), (5,), (31,)),), (Offer(((20, 128),), (), (5,), (31,)),)
ESP_GCM = (Offer(((20, 256),), esn=(0,)),)
WHOLE = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))
AUTHORITY = make_authority("Quillwort Relay")
KEY = make_key("ecdsa")
CERTIFICATE = issue(AUTHORITY, KEY, HOST)
OTHER = make_key("ecdsa")
"""A key that nobody vouches for."""
INNER = NetworkSettings(
    (IPv4Interface("10.66.1.10/32"), IPv6Interface("fd66:1::a/64")),
    (ip_address("198.51.100.242"),),
    ("office.tidewrack.example",),
)


def seeded(seed):
    """Repeatable octets."""
    return random.Random(seed).randbytes


def initiator_config(**changes):
    """A caller's configuration that fits :func:`responder_config`."""
    config = InitiatorConfig(
        gateway=GATEWAY,
        gateway_identity=Identity.of(HOST),
        own_identity=Identity(IdType.ID_RFC822_ADDR, f"anonymous@{HOST}"),
        ike_offers=GCM,
        esp_offers=ESP_GCM,
        anchors=(AUTHORITY.certificate,),
        credentials=lambda: NamePassword("tidewrack_heron", Secret(PASSWORD)),
        wall_time=datetime.now(UTC),
        local=WHOLE,
        remote=WHOLE,
    )
    return replace(config, **changes)


def responder_config(**changes):
    """A gateway's configuration."""
    config = ResponderConfig(
        identity=Identity.of(HOST),
        certificates=(CERTIFICATE,),
        key=KEY,
        ike_offers=GCM,
        esp_offers=ESP_GCM,
        password_of=lambda name: PASSWORD if name == "tidewrack_heron" else None,
        assign=lambda name, _: INNER,
        remote=WHOLE,
    )
    return replace(config, **changes)


class Wire:
    """An initiator and a gateway, joined by a network that loses, doubles and delays by a seed."""

    def __init__(self, caller=None, gateway=None, seed=1, loss=0.0, doubling=0.0, delay=0.01, jitter=0.0):
        self.random = random.Random(seed)
        self.initiator = Initiator(caller or initiator_config(), seeded(seed))
        self.gateway = IkeGateway(gateway or responder_config(), seeded(seed + 1), GATEWAY[0])
        self.loss, self.doubling, self.delay, self.jitter = loss, doubling, delay, jitter
        self.now = 0.0
        self.flying = []
        self.counter = itertools.count()
        self.events = []
        self.gateway_events = []
        self.seen = []
        self.caller = CALLER
        self.tamper = lambda data, to_gateway: data

    def start(self):
        self.initiator.start(self.now)
        return self

    def _launch(self, data, to_gateway, port):
        data = self.tamper(data, to_gateway)
        if data is None:
            return
        self.seen.append((to_gateway, port, data))
        copies = 2 if self.random.random() < self.doubling else 1
        for _ in range(copies):
            if self.random.random() >= self.loss:
                due = self.now + self.delay + self.random.random() * self.jitter
                heapq.heappush(self.flying, (due, next(self.counter), data, to_gateway, port))

    def collect(self):
        """Let both machines send and tell."""
        for datagram in self.initiator.send(self.now):
            self._launch(datagram.data, True, datagram.destination[1])
        for datagram in self.gateway.send(self.now):
            self._launch(datagram.data, False, datagram.local_port)
        while (event := self.initiator.next_event()) is not None:
            self.events.append(event)
        while (event := self.gateway.next_event()) is not None:
            self.gateway_events.append(event.event)

    def run(self, until=120.0, stop=lambda wire: False):
        """Let time pass from event to event until ``until`` seconds, or until ``stop`` says so."""
        self.collect()
        while not stop(self):
            times = [entry[0] for entry in self.flying[:1]]
            times += [due for machine in (self.initiator, self.gateway) if (due := machine.next_timer()) is not None]
            if not times or min(times) > until:
                return self
            self.now = max(self.now, min(times))
            while self.flying and self.flying[0][0] <= self.now:
                _, _, data, to_gateway, port = heapq.heappop(self.flying)
                if to_gateway:
                    self.gateway.receive(data, self.caller, self.now, port)
                else:
                    self.initiator.receive(data, (GATEWAY[0], port), self.now)
            for machine in (self.initiator, self.gateway):
                due = machine.next_timer()
                if due is not None and due <= self.now:
                    machine.handle_timer(self.now)
            self.collect()
        return self

    def connect(self):
        """Run until the negotiation has an end."""
        done = (State.ESTABLISHED, State.CLOSED, State.CLOSING)
        return self.start().run(stop=lambda wire: wire.initiator.state in done and not wire.flying)

    def told(self, kind):
        """The first event of a kind that the initiator told."""
        return next((event for event in self.events if isinstance(event, kind)), None)

    @property
    def error(self):
        """The error that ended the negotiation, if one did."""
        failed = self.told(Failed)
        return failed.error if failed else None

    @property
    def closed(self):
        """Whether the initiator told of the end."""
        return self.told(Closed) is not None


class Reported:
    """What a session has reported so far, in ``events``."""

    @property
    def up(self):
        return next((one for one in self.events if isinstance(one, Up)), None)

    @property
    def down(self):
        return next((one for one in self.events if isinstance(one, Down)), None)

    @property
    def error(self):
        return self.down.error if self.down else None

    @property
    def steps(self):
        return [str(one.step) for one in self.events if isinstance(one, StepDone)]


@dataclass
class Ended:
    """How a run of the program ended."""

    code: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)

    @property
    def text(self):
        """Both streams, without line ends, as one reads it."""
        return " ".join((self.out + self.err).split())

    @property
    def codes(self):
        """The codes of the document's findings."""
        return {entry["code"] for entry in self.json["findings"]}


def in_a_network_of_its_own(act):
    """Call ``act`` in a process that has a network namespace of its own, and processes of its own, which end with it; what
    it raises fails the test.
    """
    if os.geteuid() != 0:
        raise AssertionError("the tests need the right to make network namespaces: run them as root")
    sys.stdout.flush()
    child = os.fork()
    if child == 0:
        code = 1
        try:
            namespaces.unshare(namespaces.CLONE_NEWNET | namespaces.CLONE_NEWPID | namespaces.CLONE_NEWNS)
            first = os.fork()
            if first == 0:
                namespaces.mount("none", "/", flags=namespaces.MS_REC | namespaces.MS_PRIVATE)
                namespaces.mount("proc", "/proc", "proc", namespaces.MS_NOSUID | namespaces.MS_NODEV)
                act()
                os._exit(0)
            code = os.waitstatus_to_exitcode(os.waitpid(first, 0)[1])
        except BaseException:
            traceback.print_exc()
        os._exit(code)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0


def until(holds, seconds=45):
    """Wait until something holds; it is an error where it does not come to that."""
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.1)


def preload():
    """Load the program once, so that no child has to do it again; but for the compiled loops, which few need."""
    import zesty_burrow

    for _, name, _ in pkgutil.walk_packages(zesty_burrow.__path__, "zesty_burrow."):
        if not name.startswith(("zesty_burrow.carrier.fast_path", "zesty_burrow.__main__")):
            importlib.import_module(name)


def forked(words, environment, stdin="", seconds=90):
    """The program's main in a child, which has its libraries loaded already; its exit code and both streams."""
    from zesty_burrow.cli import main

    with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        given.write(stdin.encode())
        given.seek(0)
        child = os.fork()
        if child == 0:
            code = 1
            try:
                for number, stream in enumerate((given, out, err)):
                    os.dup2(stream.fileno(), number)
                sys.stdin, sys.stdout, sys.stderr = (os.fdopen(number, "w" if number else "r") for number in range(3))
                # Those of the tests, which a process of its own would not have.
                logging.root.handlers.clear()
                signal.alarm(seconds)
                os.environ.clear()
                os.environ.update(environment)
                code = main(list(map(str, words)))
            except SystemExit as end:
                code = end.code if isinstance(end.code, int) else 1
            finally:
                sys.stdout.flush()
                sys.stderr.flush()
                os._exit(code)
        _, status = os.waitpid(child, 0)
        texts = []
        for stream in (out, err):
            stream.seek(0)
            texts.append(stream.read().decode())
    return Ended(os.waitstatus_to_exitcode(status), *texts)
