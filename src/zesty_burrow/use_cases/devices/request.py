"""What is asked of :func:`zesty_burrow.use_cases.devices.hand_over.hand_over`, and what comes of it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from zesty_burrow.records import dataclass, field


@dataclass(frozen=True, slots=True)
class HandOverRequest:
    """Devices that match ``words`` and ``where`` (kind, owner, place, tag), or ``everything``.

    ``again``: also those that have their profile already. ``dry_run``: plan only. ``to``: a folder for bundles,
    archives and links. ``pickup``: devices with a key fetch theirs. ``link``: the URL of the server of links, ``hours``
    until one ends. ``card``: a new .pdf or .html file, ``paper`` A4 or A6, ``language`` en, de, es, fr.
    ``passphrase_file``: for archives, else asked for. ``report``, ``report_authority``: where devices report to.
    ``check``: the URL of the check page. ``at_once``: devices at one time. ``timeout``: seconds for each.
    ``ssh_config``, ``ssh_known_hosts``, ``ssh_keys``: files instead of the user's own. ``program``: this program's
    command on the devices.
    """

    words: tuple[str, ...] = ()
    where: Mapping[str, str] = field(default_factory=dict)
    everything: bool = False
    again: bool = False
    dry_run: bool = False
    to: Path | None = None
    pickup: bool = False
    link: str = ""
    hours: int = 48
    card: Path | None = None
    paper: str = "A4"
    language: str = "en"
    passphrase_file: Path | None = None
    report: str = ""
    report_authority: Path | None = None
    check: str = ""
    at_once: int = 20
    timeout: float = 20.0
    ssh_config: str = ""
    ssh_known_hosts: str = ""
    ssh_keys: tuple[str, ...] = ()
    program: str = "zesty"


@dataclass(frozen=True, slots=True)
class HandOverRow:
    """What a run has come to for one device: ``cause`` empty where it went well.

    ``changes``: what another edition changes there, before it is sent.
    """

    device: str
    profile: str
    form: str
    state: str
    cause: str = ""
    detail: str = ""
    remedy: str = ""
    to: str = ""
    changes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class HandedOver:
    """``left``: how many devices had nothing left to do. ``code``: the only link as a QR code in text."""

    rows: tuple[HandOverRow, ...]
    left: int
    code: str = ""
