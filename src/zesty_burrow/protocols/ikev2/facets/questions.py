"""What ``zesty create`` asks about IKEv2."""

from __future__ import annotations

from collections.abc import Callable

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import SignIn
from zesty_burrow.errors import BurrowError
from zesty_burrow.protocols.facets.questions import Answers, Question
from zesty_burrow.protocols.ikev2.facets.choices import read_list, with_algorithms
from zesty_burrow.protocols.ikev2.facets.sheet import METHODS
from zesty_burrow.protocols.ikev2.settings import PORTS, TRANSPORTS, IkeSettings

ALGORITHMS = (
    ("encryption", "Encryption", "ENCR_AES_GCM_16 256"),
    ("integrity", "Integrity, where the encryption has none of its own", "AUTH_HMAC_SHA2_256_128"),
    ("key_exchange", "Key exchange", "curve25519"),
)


def _check(kind: str) -> Callable[[str], str]:
    def check(text: str) -> str:
        try:
            read_list(kind, text, Policy())
        except BurrowError as problem:
            raise ValueError(str(problem)) from None
        return text

    return check


def _is_listed(answers: Answers) -> bool:
    return answers.get("algorithms") == "listed"


class IkeQuestions:
    """Algorithms, if the sheet demands certain ones."""

    introduction = "IKEv2 is what phones and desktops have built in"
    sign_ins = METHODS
    why_no_other = "it has all of them (RFC 7296, RFC 7427, RFC 7670)"
    transports = TRANSPORTS
    ports = PORTS
    questions = (
        Question(
            "algorithms",
            "Algorithms: recommended or listed",
            "Which ciphers are offered to the gateway. The recommended ones suit every current gateway.",
            "Leave it, unless the sheet demands certain ones.",
            choices=("recommended", "listed"),
            default=lambda answers: "recommended",
        ),
        *(
            Question(
                name.replace("_", "-"),
                f"{words}: IANA names with commas",
                "In the order of preference.",
                f"On the sheet, for example {example}.",
                _check(name),
                applies=_is_listed,
                optional=name == "integrity",
            )
            for name, words, example in ALGORITHMS
        ),
    )

    def settings(self, answers: Answers, identity: Identity) -> IkeSettings:
        """With the listed algorithms for both SAs, or the defaults."""
        transport = answers.get("transport") or TRANSPORTS[0]
        port = int(answers.get("port") or PORTS[transport])
        settings = IkeSettings(identity=identity, transport=transport, port=port)
        if not _is_listed(answers):
            return settings
        chosen = {
            name: read_list(name, words, Policy())
            for name, _, _ in ALGORITHMS
            if (words := answers.get(name.replace("_", "-")))
        }
        return with_algorithms(settings, chosen, "both")

    def sign_in(self, answers: Answers) -> SignIn:
        """A shared key proves both sides; else the gateway has a certificate."""
        method = METHODS[answers["sign-in"]]
        return SignIn("pre-shared-key" if method == "pre-shared-key" else "certificate", method)


FACET = IkeQuestions()
