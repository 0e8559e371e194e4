"""Single questions to the outside, as packets: padded STUN, ICMP echo, a connection from outside, a plain request."""

from __future__ import annotations

import errno
import http.client
import json
import secrets
import select
import socket
import struct
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from zesty_burrow.core.dns.question import Reply, build_query, read_reply_untrusted, with_signatures
from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks.check import PlainExchange
from zesty_burrow.core.outside.echo import INBOUND_MARK, echo_request, is_reply
from zesty_burrow.errors import Malformed
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.observe.channel import MAX_BODY

FAMILIES = {4: socket.AF_INET, 6: socket.AF_INET6}
HEADERS = {4: 28, 6: 48}
"""Octets of the IP header and UDP's (RFC 791, RFC 8200, RFC 768)."""
STUN_TRIES = 3
WAIT = 1.0
"""Seconds that an answer may take."""
BETWEEN, BETWEEN_FRAGMENTED = 0.005, 0.1
"""Seconds between two datagrams of a series; fragmented ones, whose first may only teach the other end the path's MTU
(RFC 8201 §4), wait for an answer.
"""
_MTU_DISCOVER = {4: (socket.IPPROTO_IP, 10), 6: (socket.IPPROTO_IPV6, 23)}
_DONT, _PROBE = 0, 3
"""IP_PMTUDISC_DONT and IP_PMTUDISC_PROBE of Linux: fragments allowed; never, whatever MTU is known."""
_SO_TIMESTAMPNS, TIMESPEC = 35, struct.Struct("@ll")
LISTEN_STATE = "0A"


def own_addresses() -> list[str]:
    """Addresses of all devices that are up, but for the loopback's and those of one link."""
    rows: list[str] = []
    with suppress(OSError), Netlink() as netlink:
        for link in netlink.links():
            if link.name != "lo" and netlink.is_up(link.name):
                rows += [one.partition("/")[0] for one in netlink.addresses(link.name)]
    return [one for one in dict.fromkeys(rows) if not one.startswith(("fe80:", "169.254."))]


def real_time(
    version: int,
    endpoint: Any,
    credential: stun.Credential | None,
    source: str = "",
    *,
    wait: float = WAIT,
    tries: int = STUN_TRIES,
) -> str:
    """This machine's address as STUN tells it to a socket with that source; empty if there is no answer."""
    with suppress(OSError), socket.socket(FAMILIES[version], socket.SOCK_DGRAM) as channel:
        if source:
            channel.bind((source, 0))
        channel.connect(endpoint)
        channel.settimeout(wait)
        for _ in range(tries):
            request, transaction = stun.binding_request(secrets.token_bytes, credential)
            channel.send(request)
            with suppress(TimeoutError, Malformed):
                return stun.read_response_untrusted(channel.recv(2048), transaction, credential)[0]
    return ""


def padded(
    version: int, endpoint: Any, credential: stun.Credential | None, sizes: Sequence[int], *, whole: bool
) -> list[float | None]:
    """Seconds until STUN requests of these sizes were answered, as IP packets in octets; None for those that were not.

    ``whole``: no router may fragment them, and this machine does not (RFC 1191 §3, RFC 8201 §4).
    """
    waiting: dict[bytes, tuple[int, float]] = {}
    seconds: list[float | None] = [None] * len(sizes)
    with suppress(OSError), socket.socket(FAMILIES[version], socket.SOCK_DGRAM) as channel:
        level, option = _MTU_DISCOVER[version]
        channel.setsockopt(level, option, _PROBE if whole else _DONT)
        channel.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPNS, 1)
        channel.connect(endpoint)

        def take(until: float) -> None:
            while waiting and select.select([channel], [], [], max(0.0, until - time.monotonic()))[0]:
                # An error of a packet before, by ICMP, says nothing of the others.
                with suppress(OSError, Malformed, KeyError):
                    data, more, _, _ = channel.recvmsg(65535, 64)
                    number, sent = waiting[data[8:20]]
                    stun.read_response_untrusted(data, data[8:20], credential)
                    if len(data) + HEADERS[version] >= sizes[number]:
                        seconds[number] = max(_arrived(more) - sent, 0.0)
                    del waiting[data[8:20]]

        for number, size in enumerate(sizes):
            request, transaction = stun.binding_request(secrets.token_bytes, credential, size - HEADERS[version])
            waiting[transaction] = number, time.time()
            try:
                channel.send(request)
            except OSError as problem:
                del waiting[transaction]
                if problem.errno != errno.EMSGSIZE:
                    break
            take(time.monotonic() + (BETWEEN if whole else BETWEEN_FRAGMENTED))
            if not whole and any(one is not None for one in seconds):
                # That fragments pass is known then.
                return seconds
        take(time.monotonic() + WAIT)
    return seconds


def _arrived(ancillary: Sequence[tuple[int, int, bytes]]) -> float:
    """When the kernel got a datagram: this process may have been busy with others (socket(7))."""
    for level, kind, value in ancillary:
        if (level, kind) == (socket.SOL_SOCKET, _SO_TIMESTAMPNS) and len(value) >= TIMESPEC.size:
            whole, nanoseconds = TIMESPEC.unpack_from(value)
            return float(whole + nanoseconds / 1e9)
    return time.time()


def echo(version: int, endpoint: Any, token: bytes) -> bool:
    """Whether an ICMP echo request with this token is answered; False where this user may not send one."""
    protocol = socket.IPPROTO_ICMP if version == 4 else socket.IPPROTO_ICMPV6
    for kind in (socket.SOCK_DGRAM, socket.SOCK_RAW):
        with suppress(OSError), socket.socket(FAMILIES[version], kind, protocol) as channel:
            channel.connect((endpoint[0], 0))
            channel.send(echo_request(version, token, secrets.randbits(16)))
            end = time.monotonic() + WAIT
            while (left := end - time.monotonic()) > 0:
                channel.settimeout(left)
                data = channel.recv(2048)
                if version == 4 and kind == socket.SOCK_RAW:
                    data = data[4 * (data[0] & 0x0F) :]
                if is_reply(data, version, token):
                    return True
            return False
    return False


def inbound(version: int, ask: Callable[[int, str], dict[str, Any] | None]) -> str:
    """Whether a connection from outside reaches a socket that listens here: "open", "elsewhere" where somebody else
    took it, "closed", or empty where nobody could try. ``ask``: has the outside connect to a port, and send a word.
    """
    with suppress(OSError), socket.socket(FAMILIES[version], socket.SOCK_STREAM) as listener:
        if version == 6:
            listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        listener.bind(("", 0))
        listener.listen(4)
        listener.settimeout(WAIT / 5)
        word = secrets.token_urlsafe(16)
        answer = ask(listener.getsockname()[1], word)
        if answer is None or not isinstance(answer.get("connected"), bool):
            return ""
        if not answer["connected"]:
            return "closed"
        with suppress(TimeoutError):
            while True:
                channel, _ = listener.accept()
                with channel:
                    channel.settimeout(WAIT / 5)
                    if secrets.compare_digest(channel.recv(128).strip(), INBOUND_MARK + word.encode()):
                        return "open"
        return "elsewhere"
    return ""


def listening_ports(version: int) -> list[int]:
    """TCP ports of this machine at which sockets listen to others, as the kernel lists them."""
    ports: set[int] = set()
    table = Path("/proc/net/tcp" if version == 4 else "/proc/net/tcp6")
    with suppress(OSError, ValueError, IndexError):
        for line in table.read_text("ascii").splitlines()[1:]:
            words = line.split()
            address, _, port = words[1].partition(":")
            here = address == "00000000000000000000000001000000" or (version == 4 and address.endswith("7F"))
            if words[3] == LISTEN_STATE and not here:
                ports.add(int(port, 16))
    return sorted(ports)


def plain_request(endpoint: Any, host: str) -> PlainExchange | None:
    """One request over HTTP without TLS, with its fields, and the answer; None where there was none."""
    connection = http.client.HTTPConnection(endpoint[0], endpoint[1], timeout=2 * WAIT)
    target = f"/v1/request?nonce={secrets.token_urlsafe(16)}"
    sent = (
        ("Host", host),
        ("Accept", "application/json"),
        ("Accept-Encoding", "identity"),
        ("User-Agent", f"observer {secrets.token_hex(4)}"),
        ("X-Word", secrets.token_hex(8)),
    )
    try:
        connection.putrequest("GET", target, skip_host=True, skip_accept_encoding=True)
        for name, value in sent:
            connection.putheader(name, value)
        connection.endheaders()
        response = connection.getresponse()
        body = response.read(MAX_BODY)
    except (OSError, http.client.HTTPException, ValueError):
        return None
    finally:
        connection.close()
    answered = tuple((name, value) for name, value in response.getheaders())
    document: Any = None
    with suppress(ValueError, RecursionError):
        document = json.loads(body)
    return PlainExchange(target, sent, document if isinstance(document, dict) else {}, answered)


def name_servers(settings: Path = Path("/etc/resolv.conf")) -> list[str]:
    """The addresses that the resolver's settings name, in their order (resolv.conf(5))."""
    with suppress(OSError):
        rows = [line.split() for line in settings.read_text("utf-8", "replace").splitlines()]
        return [row[1] for row in rows if len(row) > 1 and row[0] == "nameserver"]
    return []


def ask_name_server(server: str, name: str, kind: int, over_tcp: bool) -> Reply | None:
    """One question with the wish for signatures, over UDP (twice) or TCP (RFC 7766); None where there is no answer."""
    query = with_signatures(build_query(secrets.randbits(16), name, kind))
    for _ in range(1 if over_tcp else 2):
        with suppress(OSError, Malformed):
            family, _, _, _, endpoint = socket.getaddrinfo(server, 53, flags=socket.AI_NUMERICHOST)[0]
            with socket.socket(family, socket.SOCK_STREAM if over_tcp else socket.SOCK_DGRAM) as channel:
                channel.settimeout(WAIT)
                channel.connect(endpoint)
                channel.sendall(len(query).to_bytes(2) + query if over_tcp else query)
                data = _stream_message(channel) if over_tcp else channel.recv(4096)
                return read_reply_untrusted(data, query)
    return None


def _stream_message(channel: socket.socket) -> bytes:
    """A message with its length in front (RFC 1035 §4.2.2). Raises ``OSError`` where a part is missing."""
    with channel.makefile("rb") as stream:
        size = int.from_bytes(stream.read(2))
        data = stream.read(size)
    if len(data) < size:
        raise OSError("the answer is not whole")
    return data
