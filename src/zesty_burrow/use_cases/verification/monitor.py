"""What will need attention before it fails: for monitoring systems and for administrators."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime, timedelta

from zesty_burrow.core.certificates.validity import validity_findings
from zesty_burrow.core.finding import Finding, Severity, finding
from zesty_burrow.core.outside.runs.record import RunFacts
from zesty_burrow.core.rehearsal import Fitness
from zesty_burrow.fleet.standing import DeviceState, Standing
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.policy import judge_profile
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.records import dataclass
from zesty_burrow.store.verifications.run_store import RunFilter, RunRow
from zesty_burrow.use_cases.devices.standing import stand
from zesty_burrow.use_cases.tunnel.rehearse import latest_rehearsals
from zesty_burrow.use_cases.workspace import Workspace

OLD_CREDENTIALS = timedelta(days=365)
OLD_RUN = timedelta(days=7)
LOOKED_AT, MOST_DEVICES = 10, 20
"""Of the latest runs of a profile on each device, and on how many. If more of the later half were not sealed than
of the earlier, a finding says so.
"""
MOST_NAMED = 5
DEVICE_CODES = {
    DeviceState.LEAKING: "device-leaks",
    DeviceState.FAILED: "device-failed",
    DeviceState.PROFILE_GONE: "device-profile-gone",
    DeviceState.EXPIRED: "device-expired",
    DeviceState.OUT_OF_DATE: "device-out-of-date",
    DeviceState.EXPIRES_SOON: "device-expires",
}
"""States of devices that need somebody. One that was never set up is not yet anybody's fault."""


@dataclass(frozen=True, slots=True)
class Watched:
    """``profiles``: how many were looked at. ``findings``: warnings and worse, the worst first; ``runs``: the latest of
    each profile. ``by_profile``: the same findings by the profile that they are of.
    """

    profiles: int
    findings: tuple[Finding, ...]
    runs: tuple[RunRow, ...]
    by_profile: Mapping[str, tuple[Finding, ...]]

    @property
    def worst(self) -> Severity:
        """Of all findings; a note if there are no findings."""
        order = (Severity.NOTE, Severity.WARNING, Severity.SERIOUS)
        return max((entry.severity for entry in self.findings), key=order.index, default=Severity.NOTE)

    def metrics(self) -> str:
        """OpenMetrics text: findings by code, and how the latest run of each profile ended."""
        counts = Counter((entry.code.slug, str(entry.severity)) for entry in self.findings)
        found = [({"code": code, "severity": severity}, count) for (code, severity), count in sorted(counts.items())]
        sealed = [(_labels(row), int(row.verdict == "sealed")) for row in self.runs]
        taken = [(_labels(row), _seconds(row.taken_at)) for row in self.runs]
        lines = [
            *_family("zesty_findings", "What needs attention, by code.", found),
            *_family("zesty_profiles", "Profiles that were looked at.", [({}, self.profiles)]),
            *_family("zesty_sealed", "Whether a profile's latest verification was sealed.", sealed),
            *_family("zesty_verified_timestamp", "When a profile was verified last, seconds since 1970.", taken),
        ]
        return "\n".join([*lines, "# EOF"]) + "\n"


def _labels(row: RunRow) -> dict[str, str]:
    return {"profile": row.profile, "device": row.device}


def _family(name: str, text: str, rows: Iterable[tuple[dict[str, str], int]]) -> Iterator[str]:
    yield f"# TYPE {name} gauge"
    yield f"# HELP {name} {text}"
    for labels, value in rows:
        words = ",".join(f'{key}="{_escaped(word)}"' for key, word in labels.items())
        yield f"{name}{{{words}}} {value}" if words else f"{name} {value}"


def _escaped(words: str) -> str:
    return words.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")


def _seconds(stamp: str) -> int:
    return int(datetime.fromisoformat(stamp).timestamp())


def watch_ahead(workspace: Workspace) -> Watched:
    """Certificates, revocation lists, algorithms, credentials, gateways, devices, and what the last runs said."""
    now, policy = workspace.now(), workspace.policy()
    found: list[tuple[str, Finding]] = []
    with workspace.layered_store() as layered:
        rows = layered.list_profiles()
        for row, text, whom in layered.profile_texts(rows):
            profile = read_profile(text, f"profile {row.name} ({whom})")
            found += [(row.name, entry) for entry in check_profile(profile, now)]
            found += [(row.name, entry) for entry in judge_profile(policy, profile)]
        users = {known.label: known.name for _, known in rows}
        for _, kept in layered.list_credentials():
            if kept.imported_at and now - datetime.fromisoformat(kept.imported_at) > OLD_CREDENTIALS:
                words = f"{kept.kind} of {kept.imported_at[:10]}"
                owner = kept.profile or users.get(kept.label, "")
                found.append((owner, finding("credentials-old", kept.label or kept.profile, words)))
    taken_at, rehearsals = latest_rehearsals(workspace)
    found += [
        (rehearsal.profile, finding("gateway-failed", rehearsal.profile, f"tried {taken_at}"))
        for rehearsal in rehearsals
        if rehearsal.verdict is Fitness.FAILED
    ]
    latest = []
    with workspace.store() as store:
        for _, known in rows:
            by_device: dict[str, list[RunRow]] = {}
            for run in store.runs.list_runs(RunFilter(profile=known.name), LOOKED_AT * MOST_DEVICES):
                by_device.setdefault(run.device, []).append(run)
            for runs in by_device.values():
                latest += runs[:1]
                found += [(known.name, entry) for entry in _by_runs(runs[:LOOKED_AT], now)]
        found += _of_devices(stand(workspace, store, store.fleet.list_devices()))
    order = (Severity.SERIOUS, Severity.WARNING)
    serious_first = sorted(
        ((name, entry) for name, entry in found if entry.severity in order),
        key=lambda row: order.index(row[1].severity),
    )
    by_profile: dict[str, tuple[Finding, ...]] = {}
    for name, entry in serious_first:
        by_profile[name] = (*by_profile.get(name, ()), entry)
    return Watched(len(rows), tuple(entry for _, entry in serious_first), tuple(latest), by_profile)


def attention_words(watched: Watched) -> dict[str, str]:
    """By profile, the codes of what needs attention, for lists; what devices have is in their own list."""
    own = frozenset(DEVICE_CODES.values())
    words = {
        name: ", ".join(dict.fromkeys(entry.code.slug for entry in findings if entry.code.slug not in own))
        for name, findings in watched.by_profile.items()
    }
    return {name: codes for name, codes in words.items() if codes}


def _of_devices(standings: Iterable[Standing]) -> Iterator[tuple[str, Finding]]:
    """One finding for each state and profile, so that a thousand devices do not hide the rest."""
    named: dict[tuple[DeviceState, str], list[str]] = {}
    for standing in standings:
        named.setdefault((standing.state, standing.wanted), []).append(standing.device.name)
    for (state, profile), names in named.items():
        if state in DEVICE_CODES:
            more = f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else ""
            subject = ", ".join(names[:MOST_NAMED]) + more
            yield profile, finding(DEVICE_CODES[state], subject, f"{len(names)} with {profile}")


def _by_runs(runs: list[RunRow], now: datetime) -> Iterator[Finding]:
    if not runs:
        return
    newest = runs[0]
    where = f"{newest.profile} on {newest.device}"
    if newest.verdict != "sealed":
        yield finding("last-not-sealed", where, f"{newest.verdict} at {newest.taken_at}: {newest.headline}")
    half = len(runs) // 2
    failed = [row.verdict != "sealed" for row in runs]
    if half >= 2 and sum(failed[:half]) > sum(failed[half:]):
        yield finding("promise-fails", where, f"{sum(failed[:half])} of the last {half} verifications")
    if until := RunFacts.of(newest.facts).certificate:
        ends = datetime.fromisoformat(f"{until}T23:59:59+00:00")
        begins = datetime.fromisoformat(newest.taken_at)
        yield from validity_findings(f"the gateway of {where}, as seen at {newest.taken_at}", begins, ends, now)
    if now - datetime.fromisoformat(newest.taken_at) > OLD_RUN:
        yield finding("verified-long-ago", where, newest.taken_at)
