"""Which profile which devices get."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from zesty_burrow.errors import UsageError
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.store.devices import Rule, Rules
from zesty_burrow.use_cases.workspace import Workspace


@dataclass(frozen=True, slots=True)
class AssignRequest:
    """``profile``: its name, or a place that one profile has. For one ``device``, or for those with the values of
    ``where`` (kind, owner, place, tag); with neither for all.
    """

    profile: str
    where: Mapping[str, str] = field(default_factory=dict)
    device: str = ""


@dataclass(frozen=True, slots=True)
class CountedRule:
    """A rule, and how many devices get their profile by it at present."""

    rule: Rule
    devices: int


def assign_profile(request: AssignRequest, workspace: Workspace) -> CountedRule:
    """Add a rule. Raises :class:`NotFound` for a profile or device that is not there, and :class:`UsageError`."""
    with workspace.store() as store:
        if request.device:
            store.fleet.find_device(request.device)
            if request.where:
                raise UsageError("--device names one device; --kind, --owner, --place and --tag are for many")
        profile = store.find_profile(request.profile)[0].name
        rule = Rule(0, profile, **{**dict.fromkeys(("kind", "owner", "place", "tag"), ""), **request.where})
        store.fleet.add_rule(replace(rule, device=request.device))
        rules = store.fleet.list_rules()
        made, followed = rules[-1], Rules(rules)
        fitting = sum(followed.of(device) == made for device in store.fleet.list_devices())
    return CountedRule(made, fitting)


def list_rules(workspace: Workspace) -> tuple[CountedRule, ...]:
    """All rules, the strongest first."""
    with workspace.store() as store:
        rules = store.fleet.list_rules()
        counts = Counter(map(Rules(rules).of, store.fleet.list_devices()))
    return tuple(CountedRule(rule, counts[rule]) for rule in sorted(rules, key=lambda rule: rule.rank, reverse=True))


def remove_rule(number: int, workspace: Workspace) -> None:
    """Remove the rule with this number. Raises :class:`NotFound`."""
    with workspace.store() as store:
        store.fleet.remove_rule(number)
