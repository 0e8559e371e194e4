"""What ``zesty create`` asks."""

from dummy.protocol import DummySettings
from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.facets.questions import Question


class DummyQuestions:
    introduction = "Dummy is for tests"
    sign_ins = {"password": "password"}
    why_no_other = "it has password alone"
    transports = ("udp",)
    ports = {"udp": 7777}
    questions = (
        Question("motto", "Motto", "Sent with the sign-in.", "You choose it.", default=lambda answers: "seals"),
    )

    def settings(self, answers, identity):
        return DummySettings(int(answers["port"]), answers["motto"])

    def sign_in(self, answers):
        return SignIn("password", "password")


FACET = DummyQuestions()
