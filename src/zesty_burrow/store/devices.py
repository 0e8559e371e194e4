"""A device that profiles are handed to, a rule that says which profile, and what was handed over; values only."""

from __future__ import annotations

import re
from collections.abc import Iterable
from unicodedata import normalize

from zesty_burrow.core.profile import TAG
from zesty_burrow.records import dataclass, fields

KINDS = ("workstation", "laptop", "phone", "tablet", "box")
PROGRAM = "program"
"""As a client: this program."""
CLIENT_OF = {"workstation": PROGRAM, "laptop": PROGRAM, "phone": "phone", "tablet": "tablet", "box": "box"}
"""What connects on each kind of device by default: this program, or the built-in client."""
CLIENTS = (PROGRAM, "phone", "tablet", "box")
NAME = re.compile(r"[A-Za-z0-9]([A-Za-z0-9._-]{0,62}[A-Za-z0-9])?")
LONGEST = 200
MAX_TAGS = 16


@dataclass(frozen=True, slots=True)
class Device:
    """``client``: what connects there. ``protocols``, ``sign_ins``: what that can do, where it differs from its kind.

    ``reach``: where it is reached by SSH, as ``ssh://USER@HOST:PORT``, empty where it is not; ``folder``: where files
    are put on a device without this program. ``key``: its public keys, as it has enrolled (:mod:`fleet.keys`).
    ``number``: of the newest bundle that was made for it.
    """

    name: str
    kind: str
    owner: str = ""
    place: str = ""
    client: str = ""
    protocols: tuple[str, ...] = ()
    sign_ins: tuple[str, ...] = ()
    reach: str = ""
    folder: str = ""
    tags: tuple[str, ...] = ()
    key: str = ""
    number: int = 0

    @property
    def connects_by(self) -> str:
        """Its client: as was said, else as its kind has it."""
        return self.client or CLIENT_OF[self.kind]

    @property
    def runs_program(self) -> bool:
        """Whether this program is there to import what comes."""
        return self.connects_by == PROGRAM and not self.folder

    @property
    def words(self) -> str:
        """Everything that it may be found by, without case."""
        return " ".join((self.name, self.kind, self.owner, self.place, self.reach, *self.tags)).casefold()

    def matches(self, words: Iterable[str], **where: str) -> bool:
        """Whether all of ``words`` occur in it, and what is named (kind, owner, place, tag) is so."""
        for key, value in where.items():
            wanted = value.casefold()
            has = wanted in self.tags if key == "tag" else str(getattr(self, key)).casefold() == wanted
            if not has:
                return False
        known = self.words
        return all(word.casefold() in known for word in words)


@dataclass(frozen=True, slots=True)
class Rule:
    """Which profile devices get: those of a ``kind``, ``owner``, ``place``, with a ``tag``, or one ``device`` by name.

    What is empty counts for all. ``profile``: its name.
    """

    number: int
    profile: str
    kind: str = ""
    owner: str = ""
    place: str = ""
    tag: str = ""
    device: str = ""

    @property
    def conditions(self) -> dict[str, str]:
        """What a device must have."""
        rows = {"name": self.device, "owner": self.owner, "tag": self.tag, "place": self.place, "kind": self.kind}
        return {key: value for key, value in rows.items() if value}

    @property
    def rank(self) -> tuple[bool, int, int]:
        """What sorts later is followed: one for a device by name, then with more conditions, then the newer."""
        return bool(self.device), len(self.conditions), self.number

    def fits(self, device: Device) -> bool:
        """Whether it is for a device."""
        return device.matches((), **self.conditions)


@dataclass(frozen=True, slots=True)
class Handover:
    """What has become of handing a profile over. ``form``: how; ``state``: one of :data:`STATES`.

    ``cause``: why it failed, by a word that is the same for all of a kind; ``detail``: in words. ``digest``: of the
    profile's content; ``expires``: the earliest end of a certificate in it (RFC 3339), or empty. ``credentials``: which
    went along, as :class:`Entered` says it; empty where that is not known.
    """

    device: str
    profile: str
    digest: str
    form: str
    state: str
    at: str
    cause: str = ""
    detail: str = ""
    expires: str = ""
    credentials: str = ""


@dataclass(frozen=True, slots=True)
class Report:
    """What a device has verified. ``number`` rises with each; ``taken_at``: RFC 3339; ``digest``: of its profile.

    ``exits``: public addresses with where they are, in words; ``codes``: of findings that are not mere notes.
    """

    device: str
    number: int
    taken_at: str
    verdict: str
    profile: str
    digest: str
    exits: tuple[str, ...] = ()
    codes: tuple[str, ...] = ()


CONFIRMED, HANDED, WAITING, FAILED = "confirmed", "handed over", "waiting", "failed"
STATES = (CONFIRMED, HANDED, WAITING, FAILED)
"""The device has it; it was handed over, and nobody has confirmed it; the owner has not agreed yet; it did not work."""


class Rules:
    """Rules as they are followed. Devices that are alike in all that rules ask for are looked at once."""

    def __init__(self, rules: Iterable[Rule]) -> None:
        ranked = sorted(rules, key=lambda one: one.rank, reverse=True)
        self._own = {one.device.casefold(): one for one in reversed(ranked) if one.device}
        self._shared = [one for one in ranked if not one.device]
        self._known: dict[tuple[object, ...], Rule | None] = {}

    def of(self, device: Device) -> Rule | None:
        """The one that is followed for a device; None where none is for it."""
        own = self._own.get(device.name.casefold())
        if own is not None:
            return own
        alike = device.kind, device.owner, device.place, device.tags
        if alike not in self._known:
            self._known[alike] = next((one for one in self._shared if one.fits(device)), None)
        return self._known[alike]


def check_device(device: Device) -> str:
    """What is wrong with it, and where; empty where nothing is."""
    if not NAME.fullmatch(device.name):
        return f"name {device.name!r:.80}: letters, digits, dots and hyphens are needed, 64 at most"
    if device.kind not in KINDS:
        return f"kind {device.kind!r:.40} is not one of {', '.join(KINDS)}"
    if device.client and device.client not in CLIENTS:
        return f"client {device.client!r:.40} is not one of {', '.join(CLIENTS)}"
    for key in ("owner", "place", "reach", "folder"):
        value = getattr(device, key)
        if len(value) > LONGEST or not value.isprintable():
            return f"{key}: at most {LONGEST} printable letters"
    if len(device.tags) > MAX_TAGS:
        return f"more than {MAX_TAGS} tags"
    wrong = next((tag for tag in device.tags if not TAG.fullmatch(tag)), None)
    if wrong is not None:
        return f"tag {wrong!r:.40}: letters, digits and hyphens, up to 32"
    if device.folder and not device.folder.startswith("/"):
        return f"folder {device.folder!r:.80} does not begin with /"
    return ""


COLUMNS = tuple(field.name for field in fields(Device) if field.name not in ("key", "number"))
LISTS = ("protocols", "sign_ins", "tags")


def from_texts(values: dict[str, str]) -> Device:
    """From a table's row: lists with spaces or commas between their words. ``ValueError`` names what is wrong."""
    unknown = [key for key in values if key not in COLUMNS]
    if unknown:
        raise ValueError(f"column {unknown[0]!r:.40} is not one of {', '.join(COLUMNS)}")
    given = {key: normalize("NFC", value.strip()) for key, value in values.items()}
    for key in ("name", "kind"):
        if not given.get(key):
            raise ValueError(f"{key} is missing")
    lists = {key: tuple(dict.fromkeys(re.split(r"[\s,]+", given[key].lower()))) for key in LISTS if given.get(key)}
    rest = {key: value for key, value in given.items() if key not in LISTS and value}
    made = Device(**{**rest, "kind": given["kind"].lower()}, **lists)  # type: ignore[arg-type]
    if why := check_device(made):
        raise ValueError(why)
    return made
