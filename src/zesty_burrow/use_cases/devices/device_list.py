"""The list of devices: show, add, import, change, remove."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from unicodedata import normalize

from zesty_burrow.errors import Clash, Malformed, UsageError
from zesty_burrow.fleet.standing import DeviceState, Standing
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.store.devices import Device, Rule, Rules, check_device
from zesty_burrow.use_cases.devices.standing import read_all, stand
from zesty_burrow.use_cases.workspace import Workspace

LONGEST_TABLE = 16 << 20


@dataclass(frozen=True, slots=True)
class DeviceFilter:
    """Devices that have all ``words`` in name, kind, owner, place, reach or tags.

    ``where``: values of kind, owner, place and tag. ``state``: how they stand, as the list shows it.
    """

    words: tuple[str, ...] = ()
    where: Mapping[str, str] = field(default_factory=dict)
    state: str = ""


@dataclass(frozen=True, slots=True)
class ShownDevice:
    """``rule``: by which it gets its profile. ``misfits``: why its client cannot use it; ``near``: a profile that it
    could use instead. ``code``: of its key.
    """

    standing: Standing
    rule: Rule | None
    misfits: tuple[str, ...]
    near: str
    code: str


@dataclass(frozen=True, slots=True)
class DeviceValues:
    """What a device's entry gets; None leaves a value as it is.

    ``client``: what connects there. ``protocols``, ``sign_ins``: what that client can do. ``reach``: ssh://USER@HOST.
    ``folder``: where files are put. ``add_tags``, ``drop_tags``. ``key``: a file with its public key.
    """

    kind: str | None = None
    owner: str | None = None
    place: str | None = None
    client: str | None = None
    protocols: tuple[str, ...] | None = None
    sign_ins: tuple[str, ...] | None = None
    reach: str | None = None
    folder: str | None = None
    add_tags: tuple[str, ...] = ()
    drop_tags: tuple[str, ...] = ()
    key: Path | None = None


TEXTS = ("kind", "owner", "place", "client", "reach", "folder")


@dataclass(frozen=True, slots=True)
class ImportedDevices:
    """How many devices of a table were new, changed and as before."""

    new: int
    changed: int
    unchanged: int


def list_devices(wanted: DeviceFilter, workspace: Workspace) -> tuple[Standing, ...]:
    """Each device that matches, with its profile and where it stands."""
    with workspace.store() as store:
        devices = stand(workspace, store, store.fleet.list_devices(wanted.words, **wanted.where))
    return tuple(entry for entry in devices if not wanted.state or entry.state.words == wanted.state)


def show_device(name: str, workspace: Workspace) -> ShownDevice:
    """One device: its profile, why it gets this one, and whether its client can use it. Raises :class:`NotFound`."""
    from zesty_burrow.fleet.client import client_of
    from zesty_burrow.fleet.keys import DEVICE, read_key
    from zesty_burrow.profiles.advising.clients import misfits, nearest

    with workspace.store() as store:
        device = store.fleet.find_device(name)
        (standing,) = stand(workspace, store, [device])
        why: list[str] = []
        near = ""
        if standing.wanted and standing.handover_state is not DeviceState.PROFILE_GONE:
            profile = store.find_profile(standing.wanted)[0]
            client = client_of(device)
            why = misfits(profile, client)
            if why:
                near = nearest(profile, client, read_all(store))
        code = read_key(device.key, DEVICE).code if device.key else ""
        return ShownDevice(standing, Rules(store.fleet.list_rules()).of(device), tuple(why), near, code)


def add_device(name: str, values: DeviceValues, workspace: Workspace) -> Standing:
    """Add a device; ``values`` names its kind at least. Raises :class:`UsageError`, :class:`Clash`."""
    if values.kind is None:
        raise UsageError(f"device {name}: of what kind is it?")
    device = with_values(Device(normalize("NFC", name), values.kind), values)
    with workspace.store() as store:
        if any(known.name == device.name for known in store.fleet.list_devices()):
            raise Clash(f"there is a device {device.name} already", next_step="Change it: zesty devices change NAME …")
        store.fleet.put_devices([device])
        (standing,) = stand(workspace, store, [device])
    return standing


def import_devices(file: Path, workspace: Workspace) -> ImportedDevices:
    """Add the devices of a table (CSV with a heading); change those that are there, but for their keys.

    Raises :class:`Malformed` with the line that is wrong; nothing is stored then.
    """
    from zesty_burrow.fleet.table import read_devices
    from zesty_burrow.host.files import read_bounded

    data, _ = read_bounded(file, LONGEST_TABLE)
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Malformed(f"{file} is not UTF-8", next_step="Save it as CSV in UTF-8.") from None
    devices = read_devices(text, str(file))
    with workspace.store() as store:
        known = {device.name: device for device in store.fleet.list_devices()}
        fresh = [device for device in devices if device.name not in known]
        changed = []
        for device in devices:
            if (before := known.get(device.name)) is not None:
                after = replace(device, key=before.key, number=before.number)
                changed += [after] if after != before else []
        store.fleet.put_devices(fresh, changed)
    return ImportedDevices(len(fresh), len(changed), len(devices) - len(fresh) - len(changed))


def change_devices(names: tuple[str, ...], values: DeviceValues, workspace: Workspace) -> Mapping[str, bool]:
    """Change devices; says for each name whether it changed. All of them or none.

    Raises :class:`NotFound` and :class:`UsageError`.
    """
    with workspace.store() as store:
        before = [store.fleet.find_device(name) for name in dict.fromkeys(names)]
        after = [with_values(device, values) for device in before]
        changed = [new for new, old in zip(after, before, strict=True) if new != old]
        store.fleet.put_devices([], changed)
    return {device.name: device in changed for device in after}


def remove_devices(names: tuple[str, ...], workspace: Workspace) -> tuple[str, ...]:
    """Take devices off the list; what they have received stays on them. Raises :class:`NotFound`."""
    with workspace.store() as store:
        removed = tuple(store.fleet.find_device(name).name for name in dict.fromkeys(names))
        store.fleet.remove_devices(removed)
    return removed


def with_values(device: Device, values: DeviceValues) -> Device:
    """The device with these values. Raises :class:`UsageError` for an impossible value."""
    texts = {key: normalize("NFC", value) for key in TEXTS if (value := getattr(values, key)) is not None}
    lists = {key: value for key in ("protocols", "sign_ins") if (value := getattr(values, key)) is not None}
    dropped = {normalize("NFC", tag).lower() for tag in values.drop_tags}
    tags = dict.fromkeys((*device.tags, *(normalize("NFC", tag).lower() for tag in values.add_tags)))
    kept = tuple(tag for tag in tags if tag not in dropped)
    changed = replace(device, tags=kept, **texts, **lists)  # type: ignore[arg-type]
    if values.key is not None:
        changed = replace(changed, key=_key_in(values.key))
    if why := check_device(changed):
        raise UsageError(f"device {device.name}: {why}")
    return changed


def _key_in(path: Path) -> str:
    from zesty_burrow.fleet.keys import DEVICE, read_key
    from zesty_burrow.host.files import read_bounded

    data, _ = read_bounded(path, 1 << 16)
    lines = [line for line in data.decode("utf-8", "replace").splitlines() if line.startswith(DEVICE)]
    if len(lines) != 1:
        why = f"a line that begins with {DEVICE!r} is needed"
        raise Malformed(f"{path} has no device's key in it", why=why, next_step="Take what `zesty enrol` shows there.")
    return read_key(lines[0], DEVICE).text
