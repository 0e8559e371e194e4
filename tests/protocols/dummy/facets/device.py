"""What built-in clients know."""

from zesty_burrow.protocols.facets.device import BuiltIn


class DummyDevice:
    title = "Dummy"
    built_in = {"phone": BuiltIn(("password",), ("password",))}

    labels = {"en": {"motto": "Motto"}}

    def misfits(self, settings, client):
        return ["its motto is too long for a phone"] if len(settings.motto) > 20 else []


FACET = DummyDevice()
