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
    Code("observatory-unproven", Severity.WARNING, "Nothing proves that it was the observatory who answered.",
         "Anybody on the way can answer in its name, and claim that all is well.",
         "Ask it by https://, or write the key that it signs with into the settings: observatory_key."),
    Code("observatory-forged", Severity.WARNING, "Somebody answered in the observatory's name who could not prove it.",
         "Its certificate or its signature does not hold.",
         "Look at who answers for its name (/etc/hosts, name servers, proxies), and at observatory_authority and "
         "observatory_key in the settings."),
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
    elif facts.after.more.get("unproven"):
        yield finding("observatory-forged", "the observatory", str(facts.after.more["unproven"]))
    elif not facts.after.reached:
        yield finding("observatory-silent", "the observatory")
    elif facts.after.more.get("proof", "certificate") == "none":
        yield finding("observatory-unproven", str(facts.after.more.get("observatory", "the observatory")))


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    yield "taken", before.taken_at or "never", after.taken_at


CHECK = Check(
    "conditions",
    CODES,
    frozenset(
        {
            "no-baseline",
            "no-tunnel",
            "no-observatory",
            "observatory-silent",
            "observatory-unproven",
            "observatory-forged",
        }
    ),
    judge=_judge,
    rows=_rows,
    on_page=ON_PAGE,
)
