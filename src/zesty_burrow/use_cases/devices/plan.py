"""What one device gets, and what is read once for a whole run of handing over."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.errors import Malformed, UsageError
from zesty_burrow.fleet.keys import ADMINISTRATOR, OwnKeys, PublicKey, make_secret
from zesty_burrow.fleet.standing import TIME
from zesty_burrow.records import dataclass, field
from zesty_burrow.store.devices import FAILED, Device, Handover
from zesty_burrow.use_cases.devices.request import HandOverRequest, HandOverRow
from zesty_burrow.use_cases.devices.standing import read_all
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.core.credentials import Credentials
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.store.store import CredentialsRow, Store


@dataclass(slots=True)
class Plan:
    """``row``: why it cannot be; None where it can."""

    device: Device
    name: str
    form: str = ""
    to: str = ""
    digest: str = ""
    entered: str = ""
    profile: Profile | None = None
    credentials: dict[str, tuple[CredentialsRow, Credentials]] = field(default_factory=dict)
    row: HandOverRow | None = None
    changes: tuple[str, ...] = ()
    """What the edition that is sent changes there."""

    def fails(self, cause: str, detail: str, remedy: str) -> Plan:
        """It cannot be, for this reason."""
        self.row = HandOverRow(self.device.name, self.name, self.form, FAILED, cause, detail, remedy)
        return self


def report_to(request: HandOverRequest) -> tuple[str, str]:
    """Where devices are to report to, and the authority of the server there."""
    if request.report_authority is None:
        return request.report, ""
    from cryptography import x509

    from zesty_burrow.host.files import read_bounded

    text = read_bounded(request.report_authority, 1 << 16)[0].decode("ascii", "replace")
    try:
        x509.load_pem_x509_certificates(text.encode())
    except ValueError as problem:
        raise Malformed(f"{request.report_authority} is no certificate", why=str(problem)) from None
    return request.report, text


class Work:
    """What is read once for a whole run."""

    def __init__(self, store: Store, workspace: Workspace, request: HandOverRequest) -> None:
        self.store, self.fleet = store, store.fleet
        self._report = report_to(request)
        self._workspace = workspace
        self._kept = store.list_credentials()
        self.digests = store.digests()
        self._profiles: dict[str, Profile] = {}
        self._opened: dict[CredentialsRow, Credentials] = {}
        self._all: list[Profile] = []
        self._own: OwnKeys | None = None

    def now(self) -> str:
        """RFC 3339."""
        return self._workspace.now().strftime(TIME)

    def with_credentials(self, plan: Plan, profile: Profile) -> Plan:
        """With the credentials that the profile needs there, or the reason why they are missing."""
        from zesty_burrow.store.store import choose_among

        chosen = choose_among(self._kept, profile.credentials_label, profile.name, plan.device.name)
        missing = [kind for kind in profile.needs if kind not in chosen]
        if missing:
            label = profile.credentials_label
            step = f"Enter them: zesty credentials change {label!r}"
            return plan.fails("device-no-credentials", f"{', '.join(missing)} for {label}", step)
        wanted = {*profile.needs, *profile.useful}
        for kind, row in chosen.items():
            if kind in wanted:
                if row not in self._opened:
                    self._opened[row] = self.store.open_credentials(row)
                plan.credentials[kind] = (row, self._opened[row])
        return plan

    def all_profiles(self) -> list[Profile]:
        """Every profile of the store."""
        self._all = self._all or read_all(self.store)
        return self._all

    def profile(self, name: str) -> Profile:
        """One profile. Raises :class:`NotFound`."""
        if name not in self._profiles:
            self._profiles[name] = self.store.find_profile(name)[0]
        return self._profiles[name]

    def bundle(self, plan: Plan, key: PublicKey) -> bytes:
        """For the device with that key."""
        return self.numbered(plan, key)[1]

    def numbered(self, plan: Plan, key: PublicKey) -> tuple[int, bytes]:
        """The same, with its number."""
        from zesty_burrow.fleet.bundle import Bundle, seal_bundle
        from zesty_burrow.profiles.text import write_profile

        if plan.profile is None:
            raise UsageError(f"there is no profile for {plan.device.name}")
        if self._own is None:
            self._own = OwnKeys(self.fleet.own_key(ADMINISTRATOR, make_secret))
        number = self.fleet.next_number(plan.device.name, int(self._workspace.now().timestamp() * 1000))
        kept = tuple((row.scope, value) for row, value in plan.credentials.values())
        texts = {plan.profile.name: write_profile(plan.profile)}
        bundle = Bundle(number, plan.device.name, self.now(), texts, kept, None, *self._report)
        return number, seal_bundle(bundle, key, self._own)

    def files(self, plan: Plan) -> dict[str, bytes]:
        """For a device without this program."""
        from zesty_burrow.fleet.parts import files_of

        if plan.profile is None:
            raise UsageError(f"there is no profile for {plan.device.name}")
        return files_of(plan.profile, {kind: value for kind, (_, value) in plan.credentials.items()})

    def note(self, plan: Plan, row: HandOverRow, *, with_detail: bool) -> None:
        """Record a device's result, for the list and for the next run."""
        from zesty_burrow.fleet.parts import earliest_end

        if plan.profile is None:
            return
        expires = earliest_end(plan.profile, [value for _, value in plan.credentials.values()])
        cells = (row.device, row.profile, plan.digest, row.form, row.state, self.now())
        self.fleet.note_handover(
            Handover(
                *cells,
                row.cause,
                row.detail if row.cause or with_detail else "",
                expires,
                plan.entered,
            )
        )
