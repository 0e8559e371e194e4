"""A device asks to be in an administrator's list, and says that it has what waited for it: signed with its own key."""

from __future__ import annotations

import base64
import binascii
import json

from zesty_burrow.errors import Malformed
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, PublicKey, read_key
from zesty_burrow.store.devices import Device, check_device

LONGEST = 2048
ASKS, TAKEN = b"zesty-burrow enrolment 1", b"zesty-burrow taken 1"


def ask(own: OwnKeys, name: str, kind: str) -> bytes:
    content = json.dumps({"name": name, "kind": kind}).encode()
    return _signed(own, ASKS, content)


def say_taken(own: OwnKeys, number: int) -> bytes:
    """As it is sent: the bundle of that number was imported."""
    return _signed(own, TAKEN, json.dumps({"number": number}).encode())


def _signed(own: OwnKeys, label: bytes, content: bytes) -> bytes:
    document = {
        "device": own.public(DEVICE).text,
        "content": base64.b64encode(content).decode(),
        "signature": base64.b64encode(own.sign(label + content)).decode(),
    }
    return json.dumps(document).encode()


def _open(data: bytes, label: bytes) -> tuple[PublicKey, dict[str, object]]:
    """Whose it is, and what it says. Raises only :class:`Malformed`."""
    try:
        document = json.loads(data) if len(data) <= LONGEST else None
        if not isinstance(document, dict):
            raise Malformed("this is no message of a device")
        content = base64.b64decode(str(document.get("content")), validate=True)
        signature = base64.b64decode(str(document.get("signature")), validate=True)
        found = json.loads(content)
    except (ValueError, RecursionError, binascii.Error):
        raise Malformed("this is no message of a device", why="it is not JSON with base64 in it") from None
    key = read_key(str(document.get("device")), DEVICE)
    key.verify(signature, label + content)
    if not isinstance(found, dict):
        raise Malformed("this message is not whole")
    return key, found


def read_ask(data: bytes) -> tuple[PublicKey, str, str]:
    """Key, name and kind. Raises only :class:`Malformed`."""
    key, found = _open(data, ASKS)
    name, kind = str(found.get("name")), str(found.get("kind"))
    if why := check_device(Device(name, kind)):
        raise Malformed("this device cannot be in a list", why=why)
    return key, name, kind


def read_taken(data: bytes) -> tuple[PublicKey, int]:
    """Key and number. Raises only :class:`Malformed`."""
    key, found = _open(data, TAKEN)
    number = found.get("number")
    if not isinstance(number, int) or isinstance(number, bool) or not 0 < number < 1 << 63:
        raise Malformed("this message is not whole", why="its number is missing or not a whole number")
    return key, number
