"""``zesty devices``: the list of devices, which profile each should have, and where each stands."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.core.outside.runs.tables import csv_table
from zesty_burrow.fleet.standing import DeviceState
from zesty_burrow.host.replace_file import write_file
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.devices import DeviceResult, DevicesResult, EnrolmentsResult, KeyResult, RulesResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.devices import CLIENTS, KINDS
from zesty_burrow.use_cases.devices import device_list, enrolments, rules
from zesty_burrow.use_cases.devices.device_list import DeviceFilter, DeviceValues
from zesty_burrow.use_cases.devices.rules import AssignRequest
from zesty_burrow.use_cases.verification.monitor import attention_words, watch_ahead

EXAMPLE = "zesty devices add plover --kind phone --owner 'Marit Aune' --tag boats"
STATES = [state.words.replace(" ", "-") for state in DeviceState]


def add_arguments(parser: ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")

    def action(name: str, text: str) -> ArgumentParser:
        return actions.add_parser(name, help=text, description=f"{text[:1].upper()}{text[1:]}.")

    words = action("list", "list devices, the worst first")
    add_selection(words)
    words.add_argument("--state", choices=STATES, help="only those that stand so")
    text = "show what needs attention in their profiles, as `zesty monitor` finds it; takes longer"
    words.add_argument("--attention", action="store_true", help=text)
    words.add_argument("--csv", type=Path, metavar="FILE", help="write the devices to FILE (CSV)")
    action("show", "show one device: its profile and why, and whether it can use it").add_argument("name")
    words = action("add", "add a device")
    words.add_argument("name")
    _add_values(words, needed=True)
    text = "add the devices of a table: CSV with a heading; those that are there already are changed"
    action("import", text).add_argument("file", type=Path, metavar="FILE")
    words = action("change", "change devices")
    words.add_argument("name", nargs="+")
    _add_values(words, needed=False)
    words.add_argument("--drop", action="append", default=[], metavar="TAG", help="take this tag from them")
    action("remove", "remove devices from the list").add_argument("name", nargs="+")
    words = action("assign", "say which profile devices get")
    words.add_argument("profile", help="a profile's name, or a place that only one profile has")
    add_selection(words, words=False)
    words.add_argument("--device", default="", metavar="NAME", help="for this device only")
    action("rules", "list which profile which devices get")
    action("unassign", "remove a rule").add_argument("number", type=int)
    action("enrolments", "list devices that ask to be in the list, with their codes")
    text = "take a device that asks into the list: by the code that it shows; without one each is asked about"
    words = action("accept", text)
    words.add_argument("code", nargs="?", default="", help="as the device shows it")
    _add_values(words, needed=False)
    words = action("key", "show this administrator's public key, for the owners of devices to accept")
    words.add_argument("--to", type=Path, metavar="FILE", help="write it to a new file")


def add_selection(parser: ArgumentParser, *, words: bool = True) -> None:
    """The words that say which devices are meant."""
    if words:
        text = "devices with all of these in name, kind, owner, place, reach or tags"
        parser.add_argument("word", nargs="*", help=text)
    parser.add_argument("--kind", choices=KINDS, help="of this kind")
    parser.add_argument("--owner", help="of this owner")
    parser.add_argument("--place", help="in this place")
    parser.add_argument("--tag", help="with this tag")


def selection(args: Namespace) -> dict[str, str]:
    """What the options of :func:`add_selection` ask for."""
    return {key: value for key in ("kind", "owner", "place", "tag") if (value := getattr(args, key))}


def _add_values(parser: ArgumentParser, *, needed: bool) -> None:
    parser.add_argument("--kind", choices=KINDS, required=needed)
    parser.add_argument("--owner", help="who uses it")
    parser.add_argument("--place", help="where it is")
    parser.add_argument("--client", choices=CLIENTS, help="what connects there; by default as its kind has it")
    parser.add_argument("--protocols", metavar="LIST", help="protocols that its client knows, where it is other ones")
    parser.add_argument("--sign-ins", metavar="LIST", help="ways to sign in that its client knows")
    parser.add_argument("--reach", metavar="URL", help="by SSH: ssh://USER@HOST:PORT, or a host of your SSH settings")
    parser.add_argument("--folder", help="put files there, on a device without this program")
    parser.add_argument("--tag", action="append", default=[], help="give it this tag")
    parser.add_argument("--key", type=Path, metavar="FILE", help="its public key, as `zesty enrol` has shown it there")


def _list(text: str | None) -> tuple[str, ...] | None:
    return None if text is None else tuple(dict.fromkeys(text.replace(",", " ").split()))


def _values(args: Namespace) -> DeviceValues:
    return DeviceValues(
        args.kind,
        args.owner,
        args.place,
        args.client,
        _list(args.protocols),
        _list(args.sign_ins),
        args.reach,
        args.folder,
        tuple(args.tag),
        tuple(getattr(args, "drop", ())),
        args.key,
    )


def run(args: Namespace, context: Context) -> Result:
    """List, show, add, import, change, remove, assign."""
    result: Result = _ACTIONS[args.action](args, context)
    return result


def _list_devices(args: Namespace, context: Context) -> Result:
    wanted = DeviceFilter(tuple(args.word), selection(args), (args.state or "").replace("-", " "))
    attention = attention_words(watch_ahead(context)) if args.attention else {}
    result = DevicesResult(device_list.list_devices(wanted, context), wanted != DeviceFilter(), attention)
    if args.csv is not None:
        write_file(args.csv, csv_table(*result.table()))
    return result


def _show(args: Namespace, context: Context) -> Result:
    shown = device_list.show_device(args.name, context)
    return DeviceResult(shown.standing, shown.rule, shown.misfits, shown.near, shown.code)


def _add(args: Namespace, context: Context) -> Result:
    added = device_list.add_device(args.name, _values(args), context)
    told = f" It gets {added.wanted}." if added.wanted else " No rule says which profile it gets: zesty devices assign"
    return MessageResult(f"{added.device.name} was added.{told}")


def _import(args: Namespace, context: Context) -> Result:
    done = device_list.import_devices(args.file, context)
    return MessageResult(f"Devices: {done.new} new, {done.changed} changed, {done.unchanged} unchanged.")


def _change(args: Namespace, context: Context) -> Result:
    changed = device_list.change_devices(tuple(args.name), _values(args), context)
    return MessageResult("\n".join(f"{name}: {'changed' if new else 'unchanged'}." for name, new in changed.items()))


def _remove(args: Namespace, context: Context) -> Result:
    names = device_list.remove_devices(tuple(args.name), context)
    return MessageResult(
        f"Removed from the list: {', '.join(names)}. What they have received stays on them; "
        "change their credentials where they are lost: zesty credentials change. To have them here again: zesty undo"
    )


def _assign(args: Namespace, context: Context) -> Result:
    made = rules.assign_profile(AssignRequest(args.profile, selection(args), args.device), context)
    whom = ", ".join(f"{key} {value}" for key, value in made.rule.conditions.items()) or "all devices"
    return MessageResult(f"{made.rule.profile} for {whom}: {made.devices} at present.")


def _list_rules(args: Namespace, context: Context) -> Result:
    return RulesResult(rules.list_rules(context))


def _unassign(args: Namespace, context: Context) -> Result:
    rules.remove_rule(args.number, context)
    return MessageResult(f"Rule {args.number} was removed.")


def _enrolments(args: Namespace, context: Context) -> Result:
    return EnrolmentsResult(enrolments.list_enrolments(context))


def _accept(args: Namespace, context: Context) -> Result:
    taken = enrolments.accept_enrolments(args.code, _values(args), context)
    return MessageResult(f"Taken into the list: {', '.join(taken)}.")


def _key(args: Namespace, context: Context) -> Result:
    public = enrolments.administrator_key(args.to, context)
    return KeyResult("administrator", context.device(), public.text, public.code)


_ACTIONS = {
    "list": _list_devices,
    "show": _show,
    "add": _add,
    "import": _import,
    "change": _change,
    "remove": _remove,
    "assign": _assign,
    "rules": _list_rules,
    "unassign": _unassign,
    "enrolments": _enrolments,
    "accept": _accept,
    "key": _key,
}
