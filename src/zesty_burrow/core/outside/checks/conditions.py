"""Whether there is anything to judge: a tunnel, a look from before, an answer from the observatory."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.check import Check, Facts, Row
from zesty_burrow.core.outside.observation import Observation

CODES = (
    Code("no-baseline", Severity.WARNING, "There is no observation from before the tunnel to compare with.",
         "Without it a leak cannot be recognised.", "Disconnect, run `zesty verify --before`, connect again."),
    Code("no-tunnel", Severity.WARNING, "No tunnel is up.", "There is nothing to verify.",
         "Connect first: `zesty connect NAME`."),
    Code("no-observatory", Severity.WARNING, "No observatory is configured: nobody looked from outside.",
         "Public addresses, resolvers and the exit's place were not observed.",
         'Name one with --observatory URL, or write observatory = "URL" into the settings; you can run your own: '
         "`zesty observatory serve`."),
    Code("observatory-silent", Severity.WARNING, "The observatory did not answer.",
         "Nothing could be observed from the outside.", "Check --observatory and that it is running."),
)  # fmt: skip
ON_PAGE = {
    "en": {
        "no-baseline": "There is no observation without the tunnel to compare with.",
        "observatory-silent": "The observatory did not answer.",
    },
    "de": {
        "no-baseline": "Es gibt keine Beobachtung ohne Tunnel zum Vergleichen.",
        "observatory-silent": "Die Beobachtungsstelle hat nicht geantwortet.",
    },
    "es": {
        "no-baseline": "No hay ninguna observación sin el túnel para comparar.",
        "observatory-silent": "El observatorio no respondió.",
    },
    "fr": {
        "no-baseline": "Il n’y a pas d’observation sans tunnel pour comparer.",
        "observatory-silent": "L’observatoire n’a pas répondu.",
    },
}


def _judge(facts: Facts) -> Iterator[Finding]:
    if not facts.promise.tunnel_up:
        yield finding("no-tunnel", "this machine")
    if facts.promise.everything and not facts.no_observatory and (facts.before is None or not facts.before.reached):
        yield finding("no-baseline", "this machine")
    if facts.no_observatory:
        yield finding("no-observatory", "this machine")
    elif not facts.after.reached:
        yield finding("observatory-silent", "the observatory")


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    yield "taken", before.taken_at or "never", after.taken_at


CHECK = Check(
    "conditions",
    CODES,
    frozenset({"no-baseline", "no-tunnel", "no-observatory", "observatory-silent"}),
    judge=_judge,
    rows=_rows,
    on_page=ON_PAGE,
)
