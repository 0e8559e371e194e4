"""Where each device stands: which profile it should have, which it has, and what is wrong; the worst first."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from enum import IntEnum
from typing import TYPE_CHECKING

from zesty_burrow.records import dataclass
from zesty_burrow.store.devices import CONFIRMED, FAILED, WAITING, Device, Handover, Report, Rule, Rules

if TYPE_CHECKING:
    from zesty_burrow.store.store import CredentialsRow

SOON = timedelta(days=30)
NONE_GO = "none"
TIME = "%Y-%m-%dT%H:%M:%SZ"


class DeviceState(IntEnum):
    """The worst first."""

    LEAKING = 0
    FAILED = 1
    PROFILE_GONE = 2
    EXPIRED = 3
    OUT_OF_DATE = 4
    NEVER_SET_UP = 5
    WAITING = 6
    EXPIRES_SOON = 7
    NOT_CONFIRMED = 8
    NO_PROFILE = 9
    IN_DATE = 10

    @property
    def words(self) -> str:
        return self.name.lower().replace("_", " ")


LEFT = frozenset({DeviceState.FAILED, DeviceState.OUT_OF_DATE, DeviceState.NEVER_SET_UP, DeviceState.WAITING})
"""Something is left to be handed over, or to be heard of."""


class Entered:
    """Which credentials go to a device with a profile, by when each was entered: no secrets.

    ``labels``: under which each profile looks for credentials, by the profile's name.
    """

    def __init__(self, rows: Iterable[CredentialsRow], labels: Mapping[str, str]) -> None:
        self._labels = labels
        self._rows: dict[str, list[CredentialsRow]] = {}
        for row in rows:
            self._rows.setdefault(row.device, []).append(row)
        self._of_all: dict[str, list[CredentialsRow]] = {}

    def of(self, device: str, profile: str) -> str:
        """The same text as long as the same go there; :data:`NONE_GO` where none do."""
        from zesty_burrow.store.store import choose_among

        label = self._labels[profile]
        if profile not in self._of_all:
            rows = self._rows.get("", ())
            self._of_all[profile] = [row for row in rows if row.scope.fits(label, profile, "")]
        chosen = choose_among([*self._of_all[profile], *self._rows.get(device, ())], label, profile, device)
        texts = (f"{kind} {row.scope} {row.imported_at}" for kind, row in sorted(chosen.items()))
        return hashlib.sha256("\n".join(texts).encode()).hexdigest()[:16] if chosen else NONE_GO


@dataclass(frozen=True, slots=True)
class Standing:
    """``wanted``: the profile that the rules say, empty where none does; ``last``: the last handing over.

    ``report``: the device's newest. ``entered``: which credentials go there now, as :class:`Entered` says it.
    ``handover_state``: the state by what was handed over alone, whether it leaks or not.
    """

    device: Device
    wanted: str
    state: DeviceState
    handover_state: DeviceState
    last: Handover | None = None
    report: Report | None = None
    entered: str = ""

    @property
    def is_left(self) -> bool:
        """Whether a run still has something to do for it."""
        return self.handover_state in LEFT

    @property
    def has_another(self) -> bool:
        """Whether the device has another edition of the profile that it should have, or other credentials with it."""
        last = self.last
        return self.handover_state is DeviceState.OUT_OF_DATE and last is not None and last.profile == self.wanted

    @property
    def has_other_credentials(self) -> bool:
        """Whether credentials were changed since it was handed over."""
        return self.last is not None and _others(self.last, self.entered)

    @property
    def why(self) -> str:
        """What is behind the state, in a few words."""
        if self.state is DeviceState.LEAKING and self.report is not None:
            codes = ", ".join(self.report.codes)
            also = self._why_of_handover if self.handover_state is not DeviceState.NOT_CONFIRMED else ""
            return f"{codes}; {also}" if also else codes
        return self._why_of_handover

    @property
    def _why_of_handover(self) -> str:
        last, state = self.last, self.handover_state
        if state is DeviceState.PROFILE_GONE:
            return f"there is no profile {self.wanted}"
        if last is None or state in (DeviceState.NEVER_SET_UP, DeviceState.NO_PROFILE):
            return ""
        if state is DeviceState.FAILED:
            return last.detail or last.cause
        if state is DeviceState.OUT_OF_DATE:
            if last.profile != self.wanted:
                return f"has {last.profile}"
            return "has other credentials" if self.has_other_credentials else "has another edition"
        if state in (DeviceState.EXPIRED, DeviceState.EXPIRES_SOON):
            return f"a certificate ends {last.expires[:10]}"
        if state is DeviceState.NOT_CONFIRMED:
            return last.detail
        return "its owner has to agree" if state is DeviceState.WAITING else ""


def standings(
    devices: Iterable[Device],
    rules: Iterable[Rule],
    digests: Mapping[str, str],
    handovers: Mapping[str, Handover],
    now: datetime,
    reports: Mapping[str, Report] | None = None,
    entered: Entered | None = None,
) -> list[Standing]:
    """The worst first, then by name. ``digests``: of the profiles that exist, by name."""
    reports = reports or {}
    known = Rules(rules)
    soon, today = (now + SOON).strftime(TIME), now.strftime(TIME)
    found = []
    for device in devices:
        rule = known.of(device)
        wanted = rule.profile if rule is not None else ""
        last = handovers.get(device.name)
        report = reports.get(device.name)
        leaks = report is not None and report.verdict == "leaking"
        there = entered.of(device.name, wanted) if entered is not None and wanted in digests else ""
        handed = _state(wanted, last, digests, there, (today, soon))
        found.append(Standing(device, wanted, DeviceState.LEAKING if leaks else handed, handed, last, report, there))
    return sorted(found, key=lambda one: (one.state, one.device.name))


def _others(last: Handover, entered: str) -> bool:
    return bool(entered and last.credentials) and entered != last.credentials


def _state(
    wanted: str, last: Handover | None, digests: Mapping[str, str], entered: str, times: tuple[str, str]
) -> DeviceState:
    now, soon = times
    if not wanted:
        return DeviceState.NO_PROFILE
    if wanted not in digests:
        return DeviceState.PROFILE_GONE
    if last is None:
        return DeviceState.NEVER_SET_UP
    if last.state == FAILED:
        return DeviceState.FAILED
    if last.profile != wanted or last.digest != digests[wanted] or _others(last, entered):
        return DeviceState.OUT_OF_DATE
    if last.expires and last.expires <= soon:
        return DeviceState.EXPIRED if last.expires <= now else DeviceState.EXPIRES_SOON
    if last.state == WAITING:
        return DeviceState.WAITING
    return DeviceState.IN_DATE if last.state == CONFIRMED else DeviceState.NOT_CONFIRMED
