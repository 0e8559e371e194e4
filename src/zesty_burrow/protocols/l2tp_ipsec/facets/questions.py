"""What ``zesty create`` asks about L2TP/IPsec."""

from __future__ import annotations

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.facets.questions import Answers, Question
from zesty_burrow.protocols.l2tp_ipsec.settings import PORT, SHARED_KEY, SIGN_IN_METHODS, L2tpSettings


class L2tpQuestions:
    """None of its own."""

    introduction = "L2TP over IPsec is retired, for gateways that have nothing else"
    sign_ins = {"password": SIGN_IN_METHODS[0]}  # noqa: RUF012
    why_no_other = "it has password, and the gateway's shared key besides (RFC 3193)"
    transports = ("udp",)
    ports = {"udp": PORT}  # noqa: RUF012
    questions: tuple[Question, ...] = ()

    def settings(self, answers: Answers, identity: Identity) -> L2tpSettings:
        return L2tpSettings(int(answers.get("port") or PORT), identity)

    def sign_in(self, answers: Answers) -> SignIn:
        """The gateway proves itself by the shared key."""
        return SignIn(SHARED_KEY, self.sign_ins[answers["sign-in"]])


FACET = L2tpQuestions()
