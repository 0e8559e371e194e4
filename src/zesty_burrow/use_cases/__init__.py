"""What the program can do, one module per piece of work: a request goes in, a result comes out.

Requests and results are frozen and typed. Nothing here parses options, prints, or reads the environment. Questions and
progress go through :class:`zesty_burrow.use_cases.interaction.Interaction`.

This package is the program's Python interface (docs/python.md): every name below can be imported from it, and is loaded
when it is first used. Names are kept, and requests only grow, as long as the first number of ``VERSION`` is the same.
"""

from __future__ import annotations

import importlib

TYPE_CHECKING = False
if TYPE_CHECKING:
    from zesty_burrow.use_cases.codes import explain
    from zesty_burrow.use_cases.credentials.manage import (
        Accepted,
        ChangedCredentials,
        CredentialsOf,
        KeptCredentials,
        TryRequest,
        change_credentials,
        forget_credentials,
        list_credentials,
        try_credentials,
    )
    from zesty_burrow.use_cases.devices.device_list import (
        DeviceFilter,
        DeviceValues,
        ImportedDevices,
        ShownDevice,
        add_device,
        change_devices,
        import_devices,
        list_devices,
        remove_devices,
        show_device,
    )
    from zesty_burrow.use_cases.devices.enrol import Enrolled, EnrolRequest, enrol
    from zesty_burrow.use_cases.devices.enrolments import (
        WaitingDevice,
        accept_enrolments,
        administrator_key,
        list_enrolments,
    )
    from zesty_burrow.use_cases.devices.hand_over import hand_over
    from zesty_burrow.use_cases.devices.receive import Received, ReceiveRequest, receive
    from zesty_burrow.use_cases.devices.report import Reported, report
    from zesty_burrow.use_cases.devices.request import HandedOver, HandOverRequest, HandOverRow
    from zesty_burrow.use_cases.devices.rules import AssignRequest, CountedRule, assign_profile, list_rules, remove_rule
    from zesty_burrow.use_cases.devices.serve_links import (
        ListedLinks,
        ServeRequest,
        list_links,
        serve_links,
        withdraw_link,
    )
    from zesty_burrow.use_cases.interaction import Interaction, Unattended
    from zesty_burrow.use_cases.kits.differing import DifferingRequest
    from zesty_burrow.use_cases.kits.import_kit import ComparedKit, ImportRequest, import_kit, inspect_kit
    from zesty_burrow.use_cases.kits.portal import PortalPlaces, PortalRequest, list_places
    from zesty_burrow.use_cases.kits.read import KitRequest
    from zesty_burrow.use_cases.kits.settle import SettleRequest
    from zesty_burrow.use_cases.profiles.advise import Advised, AdviseRequest, advise_profiles
    from zesty_burrow.use_cases.profiles.choose import ChooseRequest, ReachChoices, choose
    from zesty_burrow.use_cases.profiles.create import Created, CreateRequest, create
    from zesty_burrow.use_cases.profiles.edit import (
        ChangedProfile,
        ChangeRequest,
        Removed,
        RemoveRequest,
        TakenBack,
        change_profiles,
        forget_changes,
        list_changes,
        remove_profiles,
        rename_profile,
        tag_profiles,
        take_back,
    )
    from zesty_burrow.use_cases.profiles.export import Exported, ExportRequest, export
    from zesty_burrow.use_cases.profiles.find import (
        ListedProfile,
        ProfileFilter,
        ShownProfile,
        UsedCredentials,
        list_profiles,
        show_profile,
    )
    from zesty_burrow.use_cases.tunnel.connect import Connected, Ended, connect
    from zesty_burrow.use_cases.tunnel.connect_request import ConnectRequest
    from zesty_burrow.use_cases.tunnel.disconnect import Disconnected, RestoredMachine, disconnect, restore_machine
    from zesty_burrow.use_cases.tunnel.guard import OpenedGuard, close_guard, confirm_guard, open_guard, open_portal
    from zesty_burrow.use_cases.tunnel.ready import look_whether_ready
    from zesty_burrow.use_cases.tunnel.rehearse import Rehearsed, RehearseRequest, rehearse
    from zesty_burrow.use_cases.tunnel.startup import (
        AddedUnit,
        RemovedUnit,
        StartedUnit,
        StartupRequest,
        add_startup,
        list_startup,
        remove_startup,
        startup_text,
    )
    from zesty_burrow.use_cases.tunnel.status import Condition, StatusRequest, StatusSeen, look
    from zesty_burrow.use_cases.verification.audit import AuditRequest, check_audit, make_audit
    from zesty_burrow.use_cases.verification.history import (
        History,
        HistoryRequest,
        changed_runs,
        check_history,
        list_history,
    )
    from zesty_burrow.use_cases.verification.transitions import TransitionsRequest, cause_transitions
    from zesty_burrow.use_cases.verification.verified import Verified
    from zesty_burrow.use_cases.verification.verify import VerifyRequest, verify
    from zesty_burrow.use_cases.workspace import Workspace

VERSION = (1, 0)
_NAMES = {
    "workspace": ("Workspace",),
    "interaction": ("Interaction", "Unattended"),
    "kits.read": ("KitRequest",),
    "kits.portal": ("PortalRequest", "PortalPlaces", "list_places"),
    "kits.settle": ("SettleRequest",),
    "kits.differing": ("DifferingRequest",),
    "kits.import_kit": ("ComparedKit", "ImportRequest", "import_kit", "inspect_kit"),
    "profiles.find": (
        "ListedProfile",
        "ProfileFilter",
        "ShownProfile",
        "UsedCredentials",
        "list_profiles",
        "show_profile",
    ),
    "profiles.edit": (
        "ChangeRequest",
        "ChangedProfile",
        "RemoveRequest",
        "Removed",
        "TakenBack",
        "change_profiles",
        "forget_changes",
        "list_changes",
        "remove_profiles",
        "rename_profile",
        "tag_profiles",
        "take_back",
    ),
    "profiles.choose": ("ChooseRequest", "ReachChoices", "choose"),
    "profiles.advise": ("AdviseRequest", "Advised", "advise_profiles"),
    "profiles.create": ("CreateRequest", "Created", "create"),
    "profiles.export": ("ExportRequest", "Exported", "export"),
    "credentials.manage": (
        "Accepted",
        "ChangedCredentials",
        "CredentialsOf",
        "KeptCredentials",
        "TryRequest",
        "change_credentials",
        "forget_credentials",
        "list_credentials",
        "try_credentials",
    ),
    "tunnel.ready": ("look_whether_ready",),
    "tunnel.rehearse": ("RehearseRequest", "Rehearsed", "rehearse"),
    "tunnel.connect_request": ("ConnectRequest",),
    "tunnel.connect": ("Connected", "Ended", "connect"),
    "tunnel.status": ("Condition", "StatusRequest", "StatusSeen", "look"),
    "tunnel.startup": (
        "AddedUnit",
        "RemovedUnit",
        "StartedUnit",
        "StartupRequest",
        "add_startup",
        "list_startup",
        "remove_startup",
        "startup_text",
    ),
    "tunnel.guard": ("OpenedGuard", "close_guard", "confirm_guard", "open_guard", "open_portal"),
    "verification.audit": ("AuditRequest", "check_audit", "make_audit"),
    "verification.transitions": ("TransitionsRequest", "cause_transitions"),
    "verification.history": ("History", "HistoryRequest", "changed_runs", "check_history", "list_history"),
    "verification.verified": ("Verified",),
    "verification.verify": ("VerifyRequest", "verify"),
    "tunnel.disconnect": ("Disconnected", "RestoredMachine", "disconnect", "restore_machine"),
    "devices.request": ("HandOverRequest", "HandOverRow", "HandedOver"),
    "devices.hand_over": ("hand_over",),
    "devices.enrol": ("EnrolRequest", "Enrolled", "enrol"),
    "devices.receive": ("ReceiveRequest", "Received", "receive"),
    "devices.report": ("Reported", "report"),
    "devices.device_list": (
        "DeviceFilter",
        "DeviceValues",
        "ImportedDevices",
        "ShownDevice",
        "add_device",
        "change_devices",
        "import_devices",
        "list_devices",
        "remove_devices",
        "show_device",
    ),
    "devices.rules": ("AssignRequest", "CountedRule", "assign_profile", "list_rules", "remove_rule"),
    "devices.enrolments": ("WaitingDevice", "accept_enrolments", "administrator_key", "list_enrolments"),
    "devices.serve_links": ("ListedLinks", "ServeRequest", "list_links", "serve_links", "withdraw_link"),
    "codes": ("explain",),
}
_MODULE_OF = {name: module for module, names in _NAMES.items() for name in names}
__all__ = [
    "VERSION",
    "Accepted",
    "AddedUnit",
    "AdviseRequest",
    "Advised",
    "AssignRequest",
    "AuditRequest",
    "ChangeRequest",
    "ChangedCredentials",
    "ChangedProfile",
    "ChooseRequest",
    "ComparedKit",
    "Condition",
    "ConnectRequest",
    "Connected",
    "CountedRule",
    "CreateRequest",
    "Created",
    "CredentialsOf",
    "DeviceFilter",
    "DeviceValues",
    "DifferingRequest",
    "Disconnected",
    "Ended",
    "EnrolRequest",
    "Enrolled",
    "ExportRequest",
    "Exported",
    "HandOverRequest",
    "HandOverRow",
    "HandedOver",
    "History",
    "HistoryRequest",
    "ImportRequest",
    "ImportedDevices",
    "Interaction",
    "KeptCredentials",
    "KitRequest",
    "ListedLinks",
    "ListedProfile",
    "OpenedGuard",
    "PortalPlaces",
    "PortalRequest",
    "ProfileFilter",
    "ReachChoices",
    "ReceiveRequest",
    "Received",
    "RehearseRequest",
    "Rehearsed",
    "RemoveRequest",
    "Removed",
    "RemovedUnit",
    "Reported",
    "RestoredMachine",
    "ServeRequest",
    "SettleRequest",
    "ShownDevice",
    "ShownProfile",
    "StartedUnit",
    "StartupRequest",
    "StatusRequest",
    "StatusSeen",
    "TakenBack",
    "TransitionsRequest",
    "TryRequest",
    "Unattended",
    "UsedCredentials",
    "Verified",
    "VerifyRequest",
    "WaitingDevice",
    "Workspace",
    "accept_enrolments",
    "add_device",
    "add_startup",
    "administrator_key",
    "advise_profiles",
    "assign_profile",
    "cause_transitions",
    "change_credentials",
    "change_devices",
    "change_profiles",
    "changed_runs",
    "check_audit",
    "check_history",
    "choose",
    "close_guard",
    "confirm_guard",
    "connect",
    "create",
    "disconnect",
    "enrol",
    "explain",
    "export",
    "forget_changes",
    "forget_credentials",
    "hand_over",
    "import_devices",
    "import_kit",
    "inspect_kit",
    "list_changes",
    "list_credentials",
    "list_devices",
    "list_enrolments",
    "list_history",
    "list_links",
    "list_places",
    "list_profiles",
    "list_rules",
    "list_startup",
    "look",
    "look_whether_ready",
    "make_audit",
    "open_guard",
    "open_portal",
    "receive",
    "rehearse",
    "remove_devices",
    "remove_profiles",
    "remove_rule",
    "remove_startup",
    "rename_profile",
    "report",
    "restore_machine",
    "serve_links",
    "show_device",
    "show_profile",
    "startup_text",
    "tag_profiles",
    "take_back",
    "try_credentials",
    "verify",
    "withdraw_link",
]


def __getattr__(name: str) -> object:
    """A name of the interface, loaded now."""
    if name not in _MODULE_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = getattr(importlib.import_module(f"{__name__}.{_MODULE_OF[name]}"), name)
    globals()[name] = value
    return value
