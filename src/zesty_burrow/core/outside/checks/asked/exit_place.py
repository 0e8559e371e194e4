"""Where the tunnel's exit is, beside where the profile says."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.addresses import exits
from zesty_burrow.core.outside.checks.check import Check, Facts

CODES = (
    Code("exit-elsewhere", Severity.SERIOUS, "The exit is in another country than the profile says.",
         "Law and content depend on the real place.", "Choose another gateway, and ask the provider about this one."),
    Code("exit-as-promised", Severity.NOTE, "The exit is in the country that the profile names.", "",
         "Nothing to do."),
    Code("exit-place-unknown", Severity.WARNING, "The location of the exit is unknown.",
         "The observatory's geofeed has no entry for the address.", "Ask the provider for its geofeed.", "RFC 8805"),
)  # fmt: skip
ON_PAGE = {
    "en": {"exit-elsewhere": "The tunnel ends in another country than it should."},
    "de": {"exit-elsewhere": "Der Tunnel endet in einem anderen Land, als er soll."},
    "es": {"exit-elsewhere": "El túnel termina en otro país del que debería."},
    "fr": {"exit-elsewhere": "Le tunnel aboutit dans un autre pays que prévu."},
}


def _judge(facts: Facts) -> Iterator[Finding]:
    promise = facts.promise
    if not facts.is_whole or not promise.country:
        return
    wanted = ", ".join(part for part in (promise.city, promise.country) if part)
    for label, seen in exits(facts.before, facts.after):
        if not seen.country:
            yield finding("exit-place-unknown", label, seen.address)
        elif seen.country != promise.country:
            yield finding("exit-elsewhere", label, f"{seen.place} instead of {wanted}")
        else:
            yield finding("exit-as-promised", label, seen.place)


CHECK = Check("exit_place", CODES, frozenset({"exit-place-unknown"}), judge=_judge, on_page=ON_PAGE)
