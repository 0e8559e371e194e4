"""Method calls over D-Bus, each of which has to be answered in time, whatever the bus sends."""

from __future__ import annotations

import socket
import time
from collections.abc import Sequence
from typing import Any

from zesty_burrow.records import dataclass

TIMEOUT = 3.0
"""Seconds for one call."""


@dataclass(frozen=True, slots=True)
class Service:
    """An object of a service that has a name on the bus, and one of its interfaces."""

    name: str
    path: str
    interface: str


Call = tuple[str, str, Sequence[Any]]
"""A method, the signature of its arguments, the arguments."""


def call_service(bus: str, service: Service, *calls: Call, timeout: float = TIMEOUT) -> None:
    """One after the other by one connection. ``bus``: SYSTEM, or a socket's path. Raises ``OSError`` with why."""
    from jeepney import DBusAddress, Parser, message_bus, new_method_call
    from jeepney.bus import get_bus
    from jeepney.io.blocking import prep_socket

    address = DBusAddress(service.path, bus_name=service.name, interface=service.interface)
    messages = [message_bus.Hello()]
    messages += [new_method_call(address, method, signature or None, tuple(body)) for method, signature, body in calls]
    try:
        with prep_socket(bus if "/" in bus else get_bus(bus), timeout=timeout) as channel:
            parser = Parser()
            for serial, message in enumerate(messages, start=1):
                channel.settimeout(timeout)
                channel.sendall(message.serialise(serial))
                _await_reply(channel, parser, serial, timeout)
    except Exception as problem:
        # Whatever a bus may send, and whatever the library makes of it.
        raise OSError(str(problem) or type(problem).__name__) from None


def _await_reply(channel: socket.socket, parser: Any, serial: int, timeout: float) -> None:
    """The reply to a message; an error is raised as an ``OSError`` with its words."""
    from jeepney import HeaderFields, MessageType

    until = time.monotonic() + timeout
    while True:
        reply = parser.get_next_message()
        if reply is not None and reply.header.fields.get(HeaderFields.reply_serial) == serial:
            if reply.header.message_type is MessageType.error:
                raise OSError(" ".join(str(one) for one in reply.body))
            return
        if reply is None:
            channel.settimeout(max(until - time.monotonic(), 0.001))
            data = channel.recv(4096)
            if not data:
                raise EOFError("the bus has closed the connection")
            parser.add_data(data)
