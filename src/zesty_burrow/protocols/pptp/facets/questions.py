"""What ``zesty create`` asks about PPTP."""

from __future__ import annotations

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.facets.questions import Answers, Question
from zesty_burrow.protocols.pptp.control import PORT
from zesty_burrow.protocols.pptp.settings import GATEWAY_PROOFS, SIGN_IN_METHODS, PptpSettings


class PptpQuestions:
    """None of its own."""

    introduction = "PPTP protects next to nothing: take it only to get off it"
    sign_ins = {"password": SIGN_IN_METHODS[0]}  # noqa: RUF012
    why_no_other = "it has a name and a password alone (RFC 2759)"
    transports = ("tcp",)
    ports = {"tcp": PORT}  # noqa: RUF012
    questions: tuple[Question, ...] = ()

    def settings(self, answers: Answers, identity: Identity) -> PptpSettings:
        return PptpSettings()

    def sign_in(self, answers: Answers) -> SignIn:
        """The gateway shows that it knows the password."""
        return SignIn(GATEWAY_PROOFS[0], self.sign_ins[answers["sign-in"]])


FACET = PptpQuestions()
