"""For an administrator: devices that ask to be in the list, and the key by which their owners know who sends."""

from __future__ import annotations

from pathlib import Path

from zesty_burrow.errors import Clash, NotFound
from zesty_burrow.fleet.keys import ADMINISTRATOR, DEVICE, OwnKeys, PublicKey, make_secret, read_key, same_code
from zesty_burrow.records import dataclass
from zesty_burrow.store.devices import Device
from zesty_burrow.store.fleet.enrolment_store import Enrolment
from zesty_burrow.use_cases.devices.device_list import DeviceValues, with_values
from zesty_burrow.use_cases.workspace import Workspace


@dataclass(frozen=True, slots=True)
class WaitingDevice:
    """A device that asks, and the code of its key, which its owner reads from its screen."""

    enrolment: Enrolment
    code: str


def list_enrolments(workspace: Workspace) -> tuple[WaitingDevice, ...]:
    """All devices that ask to be in the list."""
    with workspace.store() as store:
        waiting = store.fleet.enrolments.waiting()
    return tuple(WaitingDevice(enrolment, read_key(enrolment.key, DEVICE).code) for enrolment in waiting)


def accept_enrolments(code: str, values: DeviceValues, workspace: Workspace) -> tuple[str, ...]:
    """Take the device with this code into the list; without a code each one is asked about. The names of those taken.

    Raises :class:`Clash` if a device with another key has the name, and :class:`NotFound` if none was taken.
    """
    accepted = []
    with workspace.store() as store:
        known = {device.name for device in store.fleet.list_devices()}
        for enrolment in store.fleet.enrolments.waiting():
            own_code = read_key(enrolment.key, DEVICE).code
            if not _is_wanted(enrolment, own_code, code, workspace):
                continue
            if enrolment.name in known:
                _refuse(enrolment.name, workspace, end=bool(code))
                continue
            device = Device(enrolment.name, enrolment.kind, key=enrolment.key)
            store.fleet.put_devices([with_values(device, values)])
            store.fleet.enrolments.forget(enrolment.key)
            accepted.append(enrolment.name)
    if not accepted:
        why = "no device that asks shows this code" if code else "none was accepted"
        raise NotFound("no device was taken into the list", why=why, next_step="See `zesty devices enrolments`.")
    return tuple(accepted)


def _is_wanted(enrolment: Enrolment, own_code: str, code: str, workspace: Workspace) -> bool:
    if code:
        return same_code(code, own_code)
    interaction = workspace.interaction
    question = f"{enrolment.name}, {enrolment.kind}, asked {enrolment.at}. Does it show {own_code}? y or n [n] "
    return interaction.can_ask and interaction.ask(question).casefold() in ("y", "yes")


def _refuse(name: str, workspace: Workspace, *, end: bool) -> None:
    what, why = f"there is a device {name} already", "its key is another one"
    if end:
        again = f"If it was set up again: zesty devices change {name} --key FILE"
        raise Clash(what, why=why, next_step=f"{again}; else have it ask by another name.")
    # The others are asked about all the same.
    workspace.interaction.note(f"Not taken: {what}; {why}.", style="yellow")


def administrator_key(to: Path | None, workspace: Workspace) -> PublicKey:
    """This administrator's public key, made at first use; also written to a new file if ``to`` names one.

    Raises :class:`Clash` if there is such a file, and :class:`NotFound` if there is no such folder.
    """
    from zesty_burrow.store.seal import write_private

    with workspace.store() as store:
        public = OwnKeys(store.fleet.own_key(ADMINISTRATOR, make_secret)).public(ADMINISTRATOR)
    if to is not None:
        try:
            write_private(to, f"{public.text}\n".encode())
        except FileExistsError:
            raise Clash(f"{to} exists already", next_step="Name a new file.") from None
        except FileNotFoundError:
            raise NotFound(f"there is no folder {to.parent}", next_step="Name a file in one that exists.") from None
    return public
