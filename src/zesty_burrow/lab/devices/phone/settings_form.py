"""The settings form of a phone's built-in client: filled field by field, in the order in which it asks."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.credentials import ClientKey, Credentials, NamePassword, PreSharedKey
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.policy.algorithms import BY_NUMBER
from zesty_burrow.core.profile import Gateway, Profile, ProtocolSettings, SignIn, TunnelSettings
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError
from zesty_burrow.profiles.advising.clients import PHONE
from zesty_burrow.protocols.ikev2.settings import AlgorithmChoice, IkeSettings, ProposalChoice
from zesty_burrow.protocols.l2tp_ipsec.settings import L2tpSettings
from zesty_burrow.protocols.session import Secrets
from zesty_burrow.records import dataclass, field, replace

IKE, L2TP = "IKEv2", "L2TP/IPsec"
ACCOUNT = ("account", "password")
FIELDS: dict[tuple[str, str], tuple[str, ...]] = {
    (IKE, "EAP-MSCHAPv2"): ACCOUNT,
    (IKE, "pre-shared key"): ("shared-key",),
    (IKE, "certificate"): (),
    (L2TP, "MS-CHAPv2"): (*ACCOUNT, "shared-key"),
}
"""What is asked for at the end, by type and sign-in."""
FIRST = ("name", "type", "server")
IDENTIFIERS = {IKE: ("remote-identifier", "local-identifier"), L2TP: ()}
SECRETS = frozenset(("password", "shared-key"))
OPTIONAL = frozenset(("local-identifier",))
LONGEST = 255
"""Characters of a value."""


def _refused(what: str, why: str) -> InputError:
    return InputError(what, why=why)


@dataclass(slots=True)
class SettingsForm:
    """``types``: those that the phone's client knows."""

    types: tuple[str, ...] = (IKE, L2TP)
    values: dict[str, str] = field(default_factory=dict, repr=False)

    def fields(self) -> tuple[str, ...]:
        """Those that it shows now, in their order: what comes after a choice follows from it."""
        kind = self.values.get("type", "")
        if not kind:
            return FIRST
        shown = (*FIRST, *IDENTIFIERS[kind], "sign-in")
        return (*shown, *FIELDS.get((kind, self.values.get("sign-in", "")), ()))

    def fill(self, key: str, value: str) -> None:
        """Put a value into a field. Raises :class:`InputError` where the form does not take it; it is unchanged."""
        if key not in self.fields():
            raise _refused(f"the form has no field {key!r:.40} here", f"it has {', '.join(self.fields())}")
        if not value.strip() or len(value) > LONGEST or not value.isprintable():
            raise _refused(f"the field {key} does not take this", f"it takes 1 to {LONGEST} printable characters")
        choices = self._choices(key)
        if choices and value not in choices:
            # A choice is no secret.
            raise _refused(f"the field {key} has no choice {value!r:.40}", f"it has {', '.join(choices)}")
        self.values[key] = value
        self.values = {one: self.values[one] for one in self.fields() if one in self.values}

    def _choices(self, key: str) -> tuple[str, ...]:
        if key == "type":
            return self.types
        if key == "sign-in":
            return tuple(one for kind, one in FIELDS if kind == self.values["type"])
        return ()

    def missing(self) -> tuple[str, ...]:
        """The fields that have to be filled before it can be saved."""
        return tuple(one for one in self.fields() if one not in self.values and one not in OPTIONAL)

    def shown(self) -> dict[str, str]:
        """As the screen shows it: secrets as dots."""
        return {key: "•" * 8 if key in SECRETS else value for key, value in self.values.items()}

    def saved(self, authorities: Sequence[str], own: ClientKey | None) -> tuple[Profile, Secrets]:
        """What the client connects by. ``authorities``: PEM, those that are trusted; ``own``: an installed key.

        Raises :class:`InputError` for what is not filled.
        """
        if missing := self.missing():
            raise _refused("the form cannot be saved", f"not filled: {', '.join(missing)}")
        values = self.values
        if "certificate" in values.get("sign-in", "") and own is None:
            raise _refused("the form cannot be saved", "no certificate of this phone's own is installed")
        profile = Profile(values["name"], Gateway((values["server"],)), authorities=tuple(authorities))
        secrets: dict[CredentialsKind, Credentials] = {}
        if "account" in values:
            secrets[CredentialsKind.NAME_PASSWORD] = NamePassword(values["account"], Secret(values["password"]))
        if "shared-key" in values:
            secrets[CredentialsKind.PRE_SHARED_KEY] = PreSharedKey(Secret(values["shared-key"]))
        if own is not None:
            secrets[CredentialsKind.CLIENT_KEY] = own
        if values["type"] == L2TP:
            tunnel, sign_in = TunnelSettings("l2tp-ipsec"), SignIn("pre-shared-key", "ms-chap-v2")
            return replace(profile, tunnel=tunnel, sign_in=sign_in, settings=L2tpSettings()), secrets
        method = values["sign-in"].lower().replace(" ", "-")
        proof = method if method == "pre-shared-key" else "certificate"
        return replace(profile, sign_in=SignIn(proof, method), settings=self._ike_settings()), secrets

    def _ike_settings(self) -> ProtocolSettings:
        own = self.values.get("local-identifier", "")
        plain = IkeSettings(
            identity=Identity.of(self.values["remote-identifier"]), own_identity=Identity.of(own) if own else None
        )
        return replace(plain, ike=_known(plain.proposals("ike")), esp=_known(plain.proposals("esp")))


def _known(proposals: Sequence[ProposalChoice]) -> tuple[ProposalChoice, ...]:
    """Of what this program offers, what a phone's client is counted on for; nobody chooses algorithms in a form."""

    def keep(entries: tuple[AlgorithmChoice, ...]) -> tuple[AlgorithmChoice, ...]:
        return tuple(entry for entry in entries if PHONE.knows(BY_NUMBER[entry.type, entry.number]))

    kept = [
        replace(proposal, encryption=keep(proposal.encryption), integrity=keep(proposal.integrity),
                prf=keep(proposal.prf), key_exchange=keep(proposal.key_exchange), additional_key_exchange=())
        for proposal in proposals
    ]  # fmt: skip
    return tuple(one for one in kept if one.encryption)
