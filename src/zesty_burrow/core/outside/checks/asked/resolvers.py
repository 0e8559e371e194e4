"""Who resolves names: one-time names are looked up, and the observatory tells who asked for them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.addresses import exits
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row, paired
from zesty_burrow.core.outside.observation import Observation, Sighting
from zesty_burrow.core.outside.strangers import resolvers_in

STANDARD_NAMES, EXTENDED_NAMES = 6, 36
MAX_NAMES = 64
CODES = (
    Code("dns-leak", Severity.SERIOUS, "A resolver from before the tunnel still sees the names that you look up.",
         "Its operator learns every name that you use, though the traffic goes through the tunnel.",
         "Set traffic.name_servers in the profile to resolvers inside the tunnel, or choose another gateway."),
    Code("dns-inside", Severity.NOTE, "Only resolvers on the tunnel's side asked for the test's names.", "",
         "Nothing to do."),
    Code("dns-silent", Severity.WARNING, "No resolver asked for the test's names.",
         "Name resolution does not work, or another server answers for the observatory.",
         "Check the name servers that `zesty status` shows."),
    Code("dns-foreign", Severity.WARNING, "A resolver of a third party asked for the test's names.",
         "It belongs neither to the exit's operator nor to your provider before the tunnel.",
         "Find out whose it is; set traffic.name_servers if you do not want it."),
)  # fmt: skip
ON_PAGE = {
    "en": {"dns-leak": "Your internet provider still resolves names, and so sees which sites you open."},
    "de": {"dns-leak": "Ihr Internetanbieter löst weiter Namen auf und sieht so, welche Seiten Sie öffnen."},
    "es": {"dns-leak": "Su proveedor de internet sigue resolviendo los nombres y ve qué sitios abre."},
    "fr": {"dns-leak": "Votre fournisseur d’accès résout toujours les noms et voit donc quels sites vous ouvrez."},
}


def one_time_names(zone: str, count: int, random: Callable[[int], bytes]) -> tuple[str, list[str]]:
    """A run's token, and names that nobody has asked for before. ``random``: gives so many octets."""
    token = random(12).hex()
    return token, [f"n{number}-{random(4).hex()}.{token}.{zone}" for number in range(1, count + 1)]


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    zone = questions.about.get("probe_zone")
    if not isinstance(zone, str) or not zone:
        return {}
    token, names = one_time_names(zone, EXTENDED_NAMES if questions.extended else STANDARD_NAMES, questions.random)
    answered = questions.look_up(names)
    document = questions.get(f"/v1/names/{token}") or {}
    return {"names_asked": len(names), "names_answered": answered, "resolvers": resolvers_in(document)}


def _read(document: Mapping[str, Any]) -> Evidence:
    names = document.get("names")
    questions = names.get("questions") if isinstance(names, dict) else None
    rows = [row for row in questions[:MAX_NAMES] if isinstance(row, dict)] if isinstance(questions, list) else []
    asked = document.get("asked")
    count = asked if isinstance(asked, int) and not isinstance(asked, bool) and 0 <= asked <= MAX_NAMES else 0
    return {
        "resolvers": resolvers_in({"questions": rows}),
        "names_asked": count,
        "names_answered": min(len({str(row.get("name")) for row in rows}), count),
    }


def _judge(facts: Facts) -> Iterable[Finding]:
    return judge_resolvers(facts) if facts.is_whole else ()


def judge_resolvers(facts: Facts) -> list[Finding]:
    """The findings on resolvers, also where there is no look from before."""
    before, after = facts.before, facts.after
    if not after.resolvers:
        asked = f"{after.names_asked} names, {after.names_answered} answers"
        return [finding("dns-silent", "name resolution", asked)]
    exit_operators = {seen.operator for _, seen in exits(before, after) if seen.operator}
    old = before.resolvers if before else ()
    old_addresses = {seen.address for seen in old}
    old_operators = {seen.operator for seen in old if seen.operator}
    if before:
        old_operators |= {seen.operator for seen in (before.ipv4, before.ipv6) if seen.operator}
    findings: list[Finding] = []
    for seen in after.resolvers:
        shown = f"{seen.address} ({', '.join(part for part in (seen.operator, seen.country) if part) or 'unknown'})"
        if seen.address in old_addresses or (seen.operator in old_operators and seen.operator not in exit_operators):
            findings.append(finding("dns-leak", seen.address, shown))
        elif seen.operator not in exit_operators:
            findings.append(finding("dns-foreign", seen.address, shown))
    return findings or [finding("dns-inside", "name resolution", _names(after.resolvers))]


def _names(resolvers: Sequence[Sighting]) -> str:
    return ", ".join(sorted({f"{seen.address} ({seen.operator})" for seen in resolvers}))


def _rows(before: Observation, after: Observation) -> list[Row]:
    old, new = ([seen.words for seen in side.resolvers] for side in (before, after))
    answered, answers = (f"{side.names_answered} of {side.names_asked}" for side in (before, after))
    return [*paired("resolvers", old, new), ("names answered", answered, answers)]


CHECK = Check(
    "resolvers",
    CODES,
    frozenset({"dns-silent"}),
    judge=_judge,
    looks_at="resolvers",
    ask=_ask,
    rows=_rows,
    script=(__package__, "resolvers.js"),
    read=_read,
    on_page=ON_PAGE,
)
