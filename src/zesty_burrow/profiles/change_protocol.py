"""The same gateway by another protocol: what both have is kept, the rest has the other protocol's defaults."""

from __future__ import annotations

from zesty_burrow.core.profile import Profile, SignIn
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.registry import TunnelProtocol, protocol
from zesty_burrow.records import replace


def with_protocol(profile: Profile, name: str) -> Profile:
    """Gateway, place, trust, traffic and credentials stay; :class:`ProfileInvalid` where no sign-in fits these."""
    if name == profile.tunnel.protocol:
        return profile
    changed = with_settings_of(profile, name)
    return replace(changed, sign_in=_sign_in(profile, changed, protocol(name)))


def with_settings_of(profile: Profile, name: str) -> Profile:
    """Another protocol's default settings with the profile's gateway identity; the sign-in is still the old one."""
    identity = profile.settings.gateway_identity
    table = {"gateway_identity": {"type": identity.type.name, "value": identity.value}} if identity else {}
    settings = protocol(name).read_settings(Table(name, table, f"profile {profile.name}"))
    return replace(profile, tunnel=replace(profile.tunnel, protocol=name), settings=settings)


def _sign_in(before: Profile, after: Profile, other: TunnelProtocol) -> SignIn:
    """The same words where both know them; else the first way that needs the same credentials, or more.

    A pre-shared key that all callers have does not prove a gateway: it is left out where the other credentials suffice.
    """
    old, kept = before.sign_in, set(before.settings.needs(before.sign_in))
    proofs, methods = (
        [old_word, *words] if old_word in words else list(words)
        for old_word, words in ((old.gateway, other.gateway_proofs), (old.method, other.sign_in_methods))
    )
    ways = [SignIn(proof, method, old.credentials) for proof in proofs for method in methods]
    ways = [way for way in ways if not other.refuse_sign_in(way)]
    same = [way for way in ways if set(after.settings.needs(way)) == kept]
    rest = kept - {CredentialsKind.PRE_SHARED_KEY}
    without = [way for way in ways if set(after.settings.needs(way)) == rest != kept and rest]
    # What is missing then is asked for, as for any profile.
    more = [way for way in ways if set(after.settings.needs(way)) > kept]
    for wanted in (*without, *same, *sorted(more, key=lambda one: one.gateway != other.gateway_proofs[0])):
        return wanted
    raise ProfileInvalid(
        f"profile {before.name} cannot go over {other.name}",
        why=f"{other.name} has no way to sign in with what {old.method} needs",
        next_step="Import or create a profile for it with its own credentials.",
    )
