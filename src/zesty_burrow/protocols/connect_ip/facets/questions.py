"""What ``zesty create`` asks about CONNECT-IP."""

from __future__ import annotations

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.connect_ip.settings import BASIC, CERTIFICATE, PORT, TRANSPORTS, ConnectIpSettings
from zesty_burrow.protocols.connect_ip.wire.template import WELL_KNOWN, check_template
from zesty_burrow.protocols.facets.questions import Answers, Question


def _path(text: str) -> str:
    if why := check_template(text.strip()):
        raise ValueError(why)
    return text.strip()


class ConnectIpQuestions:
    """Where the gateway's server has the tunnel."""

    introduction = "CONNECT-IP uses HTTPS and passes nearly every network"
    sign_ins = {"password": BASIC, "certificate": CERTIFICATE}  # noqa: RUF012
    why_no_other = "it has password and certificate (RFC 9484, RFC 7617)"
    transports = TRANSPORTS
    ports = dict.fromkeys(TRANSPORTS, PORT)
    questions = (
        Question(
            "path",
            "Path of the tunnel",
            "Where the gateway's server has the tunnel: a URI template (RFC 9484 §3).",
            "On the sheet, if it is not the well-known one.",
            _path,
            lambda answers: WELL_KNOWN,
        ),
    )

    def settings(self, answers: Answers, identity: Identity) -> ConnectIpSettings:
        port, path = int(answers.get("port") or PORT), answers.get("path") or WELL_KNOWN
        return ConnectIpSettings(answers.get("transport") or TRANSPORTS[0], port, path, identity=identity)

    def sign_in(self, answers: Answers) -> SignIn:
        """The gateway always has a certificate."""
        return SignIn("certificate", self.sign_ins[answers["sign-in"]])


FACET = ConnectIpQuestions()
