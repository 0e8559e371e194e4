"""Where devices stand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.fleet.standing import Entered, Standing, standings
from zesty_burrow.store.devices import Device

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.store.store import Store
    from zesty_burrow.use_cases.workspace import Workspace


def stand(workspace: Workspace, store: Store, devices: list[Device]) -> list[Standing]:
    """Where devices stand now."""
    fleet, profiles = store.fleet, store.list_profiles()
    entered = Entered(store.list_credentials(), {profile.name: profile.label for profile in profiles})
    digests = {profile.name: profile.digest for profile in profiles}
    known = fleet.handovers(), workspace.now(), fleet.reports()
    return standings(devices, fleet.list_rules(), digests, *known, entered)


def read_all(store: Store) -> list[Profile]:
    """Every profile, to look for one that fits."""
    from zesty_burrow.profiles.text import read_profile

    names = [row.name for row in store.list_profiles()]
    return [read_profile(text, name) for name, text in zip(names, store.profile_texts(names), strict=True)]
