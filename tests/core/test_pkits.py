"""The path judgement against a public suite: PKITS (NIST), without its tests of policies.

Every disagreement is listed here and explained in docs/rfc-coverage.md; the test holds the list exactly.
"""

from __future__ import annotations

from datetime import UTC, datetime
from functools import cache
from pathlib import Path

import cryptography_vectors
import pytest
from cryptography import x509

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.names import canonical
from zesty_burrow.core.certificates.revocation import load_revocation_list_untrusted
from zesty_burrow.core.finding import Severity
from zesty_burrow.errors import Malformed

DATA = Path(cryptography_vectors.__file__).parent / "x509" / "PKITS_data"
POLICIES = ("polic", "mapping", "inhibitany", "requireexplicit", "cpspointer", "usernotice", "allcertificates")
NOW = datetime(2020, 6, 1, tzinfo=UTC)
DISAGREE = {
    "ValidDSASignaturesTest4EE": "DSA is not used for IKE",
    "ValidDSAParameterInheritanceTest5EE": "DSA is not used for IKE",
    "ValidIDPwithindirectCRLTest22EE": "indirect lists are not taken",
    "ValidIDPwithindirectCRLTest24EE": "indirect lists are not taken",
    "ValidIDPwithindirectCRLTest25EE": "indirect lists are not taken",
    "ValidcRLIssuerTest28EE": "indirect lists are not taken",
    "ValidcRLIssuerTest29EE": "indirect lists are not taken",
    "ValidcRLIssuerTest30EE": "indirect lists are not taken",
    "ValidcRLIssuerTest33EE": "indirect lists are not taken",
    "ValidonlySomeReasonsTest18EE": "lists for some reasons only are not taken",
    "ValidonlySomeReasonsTest19EE": "lists for some reasons only are not taken",
    "ValiddeltaCRLTest5EE": "delta lists are not taken",
    "InvaliddeltaCRLTest4EE": "delta lists are not taken",
}
"""Of these only the last one is trusted where the suite says no."""


def is_about_policies(name):
    return any(word in name.casefold() for word in POLICIES)


TESTS = sorted(
    path.stem for path in (DATA / "certs").glob("*EE.crt") if path.stem.startswith(("Valid", "Invalid"))
    and not is_about_policies(path.stem)
)  # fmt: skip


@cache
def authorities():
    """All certificates of authorities that can be read, by subject."""
    found = {}
    for path in sorted((DATA / "certs").glob("*.crt")):
        if path.stem.endswith("EE"):
            continue
        try:
            one = trust.load_certificate_untrusted(path.read_bytes())
        except Malformed:
            continue
        found.setdefault(canonical(one.subject), []).append(one)
    return found


@cache
def lists():
    """All revocation lists that can be read, by issuer."""
    found = {}
    for path in sorted((DATA / "crls").glob("*.crl")):
        try:
            one = load_revocation_list_untrusted(path.read_bytes())
        except Malformed:
            continue
        found.setdefault(canonical(one.issuer), []).append(one)
    return found


def surroundings(leaf):
    """What a relying party would have been handed: the certificates and lists of everybody above the leaf."""
    names, waiting = set(), [canonical(leaf.issuer)]
    others, known = [], []
    while waiting:
        name = waiting.pop()
        if name in names:
            continue
        names.add(name)
        known += lists().get(name, [])
        for one in authorities().get(name, []):
            others.append(one)
            waiting.append(canonical(one.issuer))
    return others, known


def verdict(name):
    """Whether the judgement trusts an end entity's certificate."""
    anchor = x509.load_der_x509_certificate((DATA / "certs" / "TrustAnchorRootCertificate.crt").read_bytes())
    try:
        leaf = trust.load_certificate_untrusted((DATA / "certs" / f"{name}.crt").read_bytes())
    except Malformed:
        return False
    others, known = surroundings(leaf)
    found = trust.judge_path(leaf, [one for one in others if one != anchor], [anchor], NOW, known, need_status=True)
    return not any(
        entry.severity is Severity.SERIOUS or entry.code.slug == "certificate-status-unknown" for entry in found
    )


@pytest.mark.parametrize("name", TESTS)
def test_a_path(name):
    """As the suite says, or in the list of disagreements."""
    agrees = verdict(name) == name.startswith("Valid")
    assert agrees != (name in DISAGREE), name


def test_the_count():
    """How many there are, and how many agree."""
    assert (len(TESTS), len(DISAGREE)) == (161, 13)
    text = (Path(__file__).parents[2] / "docs" / "rfc-coverage.md").read_text()
    assert "148 of 161" in text
    for name in DISAGREE:
        assert name.removesuffix("EE") in text
