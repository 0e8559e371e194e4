"""When it is preferred: never."""

from zesty_burrow.protocols.facets.advice import Preference


class DummyAdvice:
    source = "the tests"
    preferences = (Preference(1, "UDP", "the tests want it", "the tests"),)

    def advise(self, profile, policy, client, costs, known):
        return None


FACET = DummyAdvice()
