"""What connects on a device."""

from __future__ import annotations

from zesty_burrow.profiles.advising.clients import DEVICES
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.records import replace
from zesty_burrow.store.devices import PROGRAM, Device


def client_of(device: Device) -> Client:
    """What a device's client can do: as its kind, but for what was said of it."""
    found = DEVICES["workstation" if device.connects_by == PROGRAM else device.connects_by]
    if device.protocols:
        found = replace(found, protocols=device.protocols, is_special=True)
    return replace(found, methods=device.sign_ins, is_special=True) if device.sign_ins else found
