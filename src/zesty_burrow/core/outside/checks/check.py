"""What a check of a verification is: what it asks, how it is judged, and how it is shown."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import zip_longest
from typing import Any, Protocol, TypeVar

from zesty_burrow.core.codes.code import Code
from zesty_burrow.core.dns.question import Reply
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.outside.intent import Intent
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, RouteSeen
from zesty_burrow.core.outside.reach import Reached
from zesty_burrow.core.ways_out.names_seen import NamesSeen
from zesty_burrow.core.ways_out.seen import WatchSeen, WaysSeen
from zesty_burrow.records import dataclass, field

T = TypeVar("T")
Row = tuple[str, str, str]
"""For the table: label, before, after."""
Evidence = Mapping[str, Any]
"""Fields of an :class:`Observation`, and others."""


@dataclass(frozen=True, slots=True)
class PlainExchange:
    """A request over HTTP without TLS: its target and fields, what the other end says of it, and the answer's fields.
    ``told`` and ``answered`` are a stranger's.
    """

    target: str
    sent: tuple[tuple[str, str], ...]
    told: Mapping[str, Any]
    answered: tuple[tuple[str, str], ...] = ()


class Questions(Protocol):
    """One look at an observatory, the way an application's traffic goes."""

    @property
    def about(self) -> Mapping[str, Any]:
        """What the observatory tells of itself: a stranger's values."""

    @property
    def extended(self) -> bool:
        """Whether more than usual is to be asked."""

    def random(self, octets: int) -> bytes:
        """Random octets."""

    def get(self, path: str, version: int = 0) -> dict[str, Any] | None:
        """A JSON object over IPv4 or IPv6, by default over either; None where it cannot be had."""

    def look_up(self, names: list[str]) -> int:
        """How many of these names the system's resolver can resolve."""

    def resolve(self, name: str) -> list[str]:
        """The addresses that the system's resolver has for a name, perhaps none."""

    def together(self, questions: Sequence[Callable[[], T]]) -> list[T]:
        """What several questions are answered that are asked at one time."""

    def real_time(self, version: int, port: int) -> str:
        """This machine's address as STUN (RFC 8489) tells it; empty if there is no answer."""

    def real_time_by_source(self, port: int) -> Mapping[str, str]:
        """The same for sockets that are bound to this machine's addresses, each that has an answer."""

    def ask_name_server(self, questions: Sequence[tuple[str, int, bool]]) -> list[Reply | None] | None:
        """What the first of this machine's name servers answers, each by name, type and whether over TCP, all at once;
        None where it names none.
        """

    def padded(self, version: int, port: int, sizes: Sequence[int], *, whole: bool) -> list[float | None]:
        """Seconds until STUN requests that are padded (RFC 5780 §7.6) to these IP packets' octets were answered, each
        None if it was not; ``whole``: never in fragments.
        """

    def echo(self, version: int, token: bytes) -> bool:
        """Whether an ICMP echo request with a token is answered."""

    def inbound(self, version: int) -> str:
        """Of a connection from outside to a socket that listens here: "open", "elsewhere", "closed" or empty."""

    def listening(self, version: int) -> list[int]:
        """TCP ports at which this machine listens to others."""

    def plain_request(self, version: int, port: int) -> PlainExchange | None:
        """A request over HTTP without TLS, and what the observatory saw of it; None: no answer."""


@dataclass(frozen=True, slots=True)
class Facts:
    """What is judged. ``routes``: where the kernel sends packets that belong in the tunnel; ``ways``: the map of all
    ways out, None where nobody has looked; ``guarded``: the guard was seen to hold all that belongs in the tunnel, by
    ``guard_evidence``. ``intents``: of the tunnels that are up; ``no_observatory``: nobody was asked from outside.
    ``names``: who is asked for names; ``relied_on``: names of hosts that the verification relies on. ``others``: what
    further observatories saw.
    """

    before: Observation | None
    after: Observation
    promise: ExpectedExit
    routes: tuple[RouteSeen, ...] = ()
    ways: WaysSeen | None = None
    watch: WatchSeen | None = None
    guarded: bool = False
    guard_evidence: str = ""
    intents: tuple[Intent, ...] = ()
    no_observatory: bool = False
    names: NamesSeen | None = None
    tunnel_devices: tuple[str, ...] = ()
    relied_on: tuple[str, ...] = ()
    others: tuple[tuple[str, Observation], ...] = ()
    reach: tuple[Reached, ...] = ()

    @property
    def is_whole(self) -> bool:
        """Whether a tunnel for all traffic is up and the observatory answered."""
        return self.after.reached and self.promise.everything and self.promise.tunnel_up


def paired(label: str, before: Iterable[str], after: Iterable[str]) -> list[Row]:
    """Rows of what may be there several times: the label stands before the first."""
    pairs = list(zip_longest(before, after, fillvalue="")) or [("", "")]
    return [("" if number else label, *pair) for number, pair in enumerate(pairs)]


def _nothing(_facts: Facts) -> Iterable[Finding]:
    return ()


def _no_rows(_before: Observation, _after: Observation) -> Iterable[Row]:
    return ()


@dataclass(frozen=True, slots=True)
class Check:
    """``codes``: its own; ``unclear``: those with which the verdict is unclear, if nothing leaks.

    ``looks_at``: for people, what is asked now; ``ask``: asks, at the same time as the others.
    ``rows``: of the table, before and after. ``script``: its part of the check page, as package and file (it
    sets ``checks.NAME``); ``read``: what of the page's document belongs to it, a stranger's. ``on_page``: by
    language and code, what the page says of a finding.
    """

    name: str
    codes: tuple[Code, ...] = ()
    unclear: frozenset[str] = frozenset()
    judge: Callable[[Facts], Iterable[Finding]] = _nothing
    looks_at: str = ""
    ask: Callable[[Questions, Observation], Evidence] | None = None
    rows: Callable[[Observation, Observation], Iterable[Row]] = _no_rows
    script: tuple[str, str] | None = None
    read: Callable[[Mapping[str, Any]], Evidence] | None = None
    on_page: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
