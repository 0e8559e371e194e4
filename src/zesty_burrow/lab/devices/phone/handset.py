"""A phone of the lab, as its owner's hand finds it: form, trust store, switch. Calls by plain documents."""

from __future__ import annotations

import base64
from pathlib import Path
from typing import Any

from zesty_burrow.errors import StateError
from zesty_burrow.lab import story
from zesty_burrow.lab.devices import faults as every_device
from zesty_burrow.lab.devices.phone.built_in_client import BuiltInClient
from zesty_burrow.lab.devices.phone.settings_form import IKE, L2TP, SettingsForm
from zesty_burrow.lab.devices.phone.trust_store import TrustStore
from zesty_burrow.protocols.session import Secrets

Document = dict[str, Any]


class Handset:
    """``home``: where its own files lie. The old phone's client knows L2TP over IPsec alone."""

    def __init__(self, name: str, home: Path) -> None:
        self._name, self._home = name, home
        self._types = (L2TP,) if name == story.OLD_PHONE else (IKE, L2TP)
        self.faults: frozenset[str] = frozenset()
        self.client = BuiltInClient(lambda: every_device.now(self.faults))
        self._saved: tuple[Any, Secrets] | None = None
        self._last_link = ""
        self.forget({})

    def forget(self, _: Document) -> Document:
        """As a new phone, of which nothing is set up; its owner still has the link from before."""
        self.client.switch_off()
        self.form = SettingsForm(self._types)
        self.trust = TrustStore(lambda: every_device.now(self.faults))
        self._saved = None
        return self.status()

    def set_faults(self, request: Document) -> Document:
        """Inject these faults from now on, and no others."""
        before, self.faults = self.faults, frozenset(request["faults"])
        every_device.set_network(self._name, before, self.faults)
        return self.status()

    def scan(self, request: Document) -> Document:
        """The link that the camera reads, which with a fault is the one from before; and what the owner is like."""
        link, before = str(request["link"]), self._last_link
        self._last_link = link
        scanned = before if "old-code" in self.faults and before else link
        return {"link": scanned, "faults": sorted(self.faults)}

    def open_certificate(self, request: Document) -> Document:
        """What the trust store asks."""
        return dict(self.trust.open(base64.b64decode(request["octets"])))

    def answer(self, request: Document) -> Document:
        """The owner's answer to it."""
        self.trust.answer(agreed=bool(request["agreed"]))
        return {"trusted": len(self.trust.authorities)}

    def install_key(self, request: Document) -> Document:
        """A key of the phone's own."""
        return {"subject": self.trust.install_key(base64.b64decode(request["octets"]), str(request["passphrase"]))}

    def fill(self, request: Document) -> Document:
        """One field of the form."""
        self.form.fill(str(request["field"]), str(request["value"]))
        return {"fields": list(self.form.fields())}

    def save(self, _: Document) -> Document:
        """What is filled, with those whom the phone trusts now."""
        self._saved = self.form.saved(self.trust.authorities, self.trust.own)
        return self.status()

    async def switch(self, request: Document) -> Document:
        """The tunnel, on or off."""
        if not request["on"]:
            self.client.switch_off()
            self.client.why = ""
            return self.status()
        if "lost" in self.faults:
            raise StateError(f"{self._name} is lost", why="nobody who could set it up has it")
        if self._saved is None:
            raise StateError(f"nothing is saved in the form of {self._name}", next_step="Have its owner open a link.")
        await self.client.switch_on(*self._saved)
        return self.status()

    def status(self) -> Document:
        """As its screen shows it; secrets as dots."""
        return {
            "faults": sorted(self.faults),
            "note": self.client.why,
            "types": list(self._types),
            "form": self.form.shown(),
            "saved": self._saved is not None,
            "trusted": len(self.trust.authorities),
            "on": self.client.is_on,
        }

    def calls(self) -> dict[str, Any]:
        """By their names."""
        return {
            "faults": self.set_faults,
            "status": lambda _: self.status(),
            "screen": lambda _: self.status(),
            "forget": self.forget,
            "scan": self.scan,
            "open-certificate": self.open_certificate,
            "answer": self.answer,
            "install-key": self.install_key,
            "fill": self.fill,
            "save": self.save,
            "switch": self.switch,
        }
