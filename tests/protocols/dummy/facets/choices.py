"""What ``zesty choose`` can set: the motto and the port."""

from dataclasses import replace

from zesty_burrow.protocols.facets.choices import ChoiceOption, Kind


class DummyChoices:
    options = (
        ChoiceOption("motto", "what is sent with the sign-in", Kind.WORD, ("seabirds", "seals")),
        ChoiceOption("port", "the gateway's port", Kind.NUMBER),
    )
    takes_suite = False

    def apply(self, profile, choices, policy):
        own = profile.settings
        return replace(own, motto=choices.text("motto", own.motto), port=choices.number("port", own.port))

    def summary(self, profile):
        return [f"motto {profile.settings.motto}", f"port {profile.settings.port}"]


FACET = DummyChoices()
