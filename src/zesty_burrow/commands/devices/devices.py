"""``zesty devices``: the list of devices, which profile each should have, and where each stands."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING
from unicodedata import normalize

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import Clash, Malformed, NotFound, UsageError
from zesty_burrow.fleet.standing import State
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.devices import DeviceResult, DevicesResult, EnrolmentsResult, KeyResult, RulesResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.devices import CLIENTS, KINDS, Device, Rule, Rules, check_device
from zesty_burrow.use_cases.devices.standing import read_all, stand

if TYPE_CHECKING:
    from zesty_burrow.store.store import Store

EXAMPLE = "zesty devices add plover --kind phone --owner 'Marit Aune' --tag boats"
STATES = [state.words.replace(" ", "-") for state in State]
LONGEST_TABLE = 16 << 20
TEXTS = ("owner", "place", "client", "reach", "folder")


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")

    def action(name: str, text: str) -> ArgumentParser:
        return actions.add_parser(name, help=text, description=f"{text[:1].upper()}{text[1:]}.")

    one = action("list", "list devices, the worst first")
    add_selection(one)
    one.add_argument("--state", choices=STATES, help="only those that stand so")
    action("show", "show one device: its profile and why, and whether it can use it").add_argument("name")
    one = action("add", "add a device")
    one.add_argument("name")
    _add_content(one, needed=True)
    text = "add the devices of a table: CSV with a heading; those that are there already are changed"
    action("import", text).add_argument("file", type=Path, metavar="FILE")
    one = action("change", "change devices")
    one.add_argument("name", nargs="+")
    _add_content(one, needed=False)
    one.add_argument("--drop", action="append", default=[], metavar="TAG", help="take this tag from them")
    action("remove", "remove devices from the list").add_argument("name", nargs="+")
    one = action("assign", "say which profile devices get")
    one.add_argument("profile", help="a profile's name, or a place that only one profile has")
    add_selection(one, words=False)
    one.add_argument("--device", default="", metavar="NAME", help="for this device only")
    action("rules", "list which profile which devices get")
    action("unassign", "remove a rule").add_argument("number", type=int)
    action("enrolments", "list devices that ask to be in the list, with their codes")
    text = "take a device that asks into the list: by the code that it shows; without one each is asked about"
    one = action("accept", text)
    one.add_argument("code", nargs="?", default="", help="as the device shows it")
    _add_content(one, needed=False)
    one = action("key", "show this administrator's public key, for the owners of devices to accept")
    one.add_argument("--to", type=Path, metavar="FILE", help="write it to a new file")


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


def _add_content(parser: ArgumentParser, *, needed: bool) -> None:
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


def run(args: Namespace, context: Context) -> Result:
    """List, show, add, import, change, remove, assign."""
    with context.store() as store:
        actions = {
            "list": _list,
            "show": _show,
            "add": _add,
            "import": _import,
            "change": _change,
            "remove": _remove,
            "assign": _assign,
            "rules": _rules,
            "unassign": _unassign,
            "enrolments": _enrolments,
            "accept": _accept,
            "key": _key,
        }
        return actions[args.action](args, context, store)


def _list(args: Namespace, context: Context, store: Store) -> Result:
    found = stand(context, store, store.fleet.list_devices(args.word, **selection(args)))
    if args.state:
        found = [one for one in found if one.state.words == args.state.replace("-", " ")]
    return DevicesResult(tuple(found), asked=bool(args.word or selection(args) or args.state))


def _show(args: Namespace, context: Context, store: Store) -> Result:
    from zesty_burrow.fleet.client import client_of
    from zesty_burrow.fleet.keys import DEVICE, read_key
    from zesty_burrow.profiles.advising.clients import misfits, nearest

    device = store.fleet.find_device(args.name)
    (standing,) = stand(context, store, [device])
    why: list[str] = []
    near = ""
    if standing.wanted and standing.handover_state is not State.PROFILE_GONE:
        profile = store.find_profile(standing.wanted)[0]
        client = client_of(device)
        why = misfits(profile, client)
        if why:
            near = nearest(profile, client, read_all(store))
    code = read_key(device.key, DEVICE).code if device.key else ""
    return DeviceResult(standing, Rules(store.fleet.list_rules()).of(device), tuple(why), near, code)


def _words(text: str) -> tuple[str, ...]:
    return tuple(dict.fromkeys(text.replace(",", " ").split()))


def _with_content(device: Device, args: Namespace) -> Device:
    """The device with the options' values. Raises :class:`UsageError` for an impossible value."""
    given = {key: normalize("NFC", value) for key in TEXTS if (value := getattr(args, key)) is not None}
    lists = {key: _words(value) for key in ("protocols", "sign_ins") if (value := getattr(args, key)) is not None}
    tags = [normalize("NFC", tag).lower() for tag in args.tag]
    dropped = [normalize("NFC", tag).lower() for tag in getattr(args, "drop", [])]
    kept = tuple(tag for tag in dict.fromkeys((*device.tags, *tags)) if tag not in dropped)
    changed = replace(device, tags=kept, **given, **lists)  # type: ignore[arg-type]
    if args.kind:
        changed = replace(changed, kind=args.kind)
    if args.key is not None:
        changed = replace(changed, key=_read_key_file(args.key))
    if why := check_device(changed):
        raise UsageError(f"device {device.name}: {why}")
    return changed


def _read_key_file(path: Path) -> str:
    from zesty_burrow.fleet.keys import DEVICE, read_key
    from zesty_burrow.host.files import read_bounded

    data, _ = read_bounded(path, 1 << 16)
    lines = [line for line in data.decode("utf-8", "replace").splitlines() if line.startswith(DEVICE)]
    if len(lines) != 1:
        why = f"a line that begins with {DEVICE!r} is needed"
        raise Malformed(f"{path} has no device's key in it", why=why, next_step="Take what `zesty enrol` shows there.")
    return read_key(lines[0], DEVICE).text


def _add(args: Namespace, context: Context, store: Store) -> Result:
    device = _with_content(Device(normalize("NFC", args.name), args.kind), args)
    if any(one.name == device.name for one in store.fleet.list_devices()):
        raise Clash(f"there is a device {device.name} already", next_step="Change it: zesty devices change NAME …")
    store.fleet.put_devices([device])
    (now,) = stand(context, store, [device])
    told = f" It gets {now.wanted}." if now.wanted else " No rule says which profile it gets: zesty devices assign"
    return MessageResult(f"{device.name} was added.{told}")


def _import(args: Namespace, context: Context, store: Store) -> Result:
    from zesty_burrow.fleet.table import read_devices
    from zesty_burrow.host.files import read_bounded

    data, _ = read_bounded(args.file, LONGEST_TABLE)
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Malformed(f"{args.file} is not UTF-8", next_step="Save it as CSV in UTF-8.") from None
    found = read_devices(text, str(args.file))
    known = {one.name: one for one in store.fleet.list_devices()}
    fresh = [one for one in found if one.name not in known]
    changed = []
    for one in found:
        if one.name in known:
            before = known[one.name]
            after = replace(one, key=before.key, number=before.number)
            changed += [after] if after != before else []
    store.fleet.put_devices(fresh, changed)
    same = len(found) - len(fresh) - len(changed)
    return MessageResult(f"Devices: {len(fresh)} new, {len(changed)} changed, {same} unchanged.")


def _change(args: Namespace, context: Context, store: Store) -> Result:
    before = [store.fleet.find_device(name) for name in dict.fromkeys(args.name)]
    after = [_with_content(one, args) for one in before]
    changed = [one for one, other in zip(after, before, strict=True) if one != other]
    store.fleet.put_devices([], changed)
    names = {one.name for one in changed}
    return MessageResult("\n".join(f"{one.name}: {'changed' if one.name in names else 'unchanged'}." for one in after))


def _remove(args: Namespace, context: Context, store: Store) -> Result:
    names = [store.fleet.find_device(name).name for name in dict.fromkeys(args.name)]
    store.fleet.remove_devices(names)
    return MessageResult(
        f"Removed from the list: {', '.join(names)}. What they have received stays on them; "
        "change their credentials where they are lost: zesty credentials change. To have them here again: zesty undo"
    )


def _assign(args: Namespace, context: Context, store: Store) -> Result:
    if args.device:
        store.fleet.find_device(args.device)
        if selection(args):
            raise UsageError("--device names one device; --kind, --owner, --place and --tag are for many")
    profile = store.find_profile(args.profile)[0].name
    rule = Rule(0, profile, **{**dict.fromkeys(("kind", "owner", "place", "tag"), ""), **selection(args)})
    store.fleet.add_rule(replace(rule, device=args.device))
    rules = store.fleet.list_rules()
    made, followed = rules[-1], Rules(rules)
    fitting = [one for one in store.fleet.list_devices() if followed.of(one) == made]
    whom = ", ".join(f"{key} {value}" for key, value in made.conditions.items()) or "all devices"
    return MessageResult(f"{profile} for {whom}: {len(fitting)} at present.")


def _rules(args: Namespace, context: Context, store: Store) -> Result:
    rules = store.fleet.list_rules()
    counts = Counter(map(Rules(rules).of, store.fleet.list_devices()))
    return RulesResult(tuple((one, counts[one]) for one in sorted(rules, key=lambda one: one.rank, reverse=True)))


def _unassign(args: Namespace, context: Context, store: Store) -> Result:
    store.fleet.remove_rule(args.number)
    return MessageResult(f"Rule {args.number} was removed.")


def _enrolments(args: Namespace, context: Context, store: Store) -> Result:
    from zesty_burrow.fleet.keys import DEVICE, read_key

    rows = store.fleet.enrolments.waiting()
    return EnrolmentsResult(tuple((one, read_key(one.key, DEVICE).code) for one in rows))


def _accept(args: Namespace, context: Context, store: Store) -> Result:
    from zesty_burrow.fleet.keys import DEVICE, read_key, same_code

    accepted = []
    known = {one.name for one in store.fleet.list_devices()}
    for one in store.fleet.enrolments.waiting():
        code = read_key(one.key, DEVICE).code
        if args.code:
            wanted = same_code(args.code, code)
        else:
            wanted = sys.stdin.isatty() and context.reporter.ask(
                f"{one.name}, {one.kind}, asked {one.at}. Does it show {code}? y or n [n] "
            ).casefold() in ("y", "yes")
        if not wanted:
            continue
        if one.name in known:
            what, why = f"there is a device {one.name} already", "its key is another one"
            if args.code:
                again = f"If it was set up again: zesty devices change {one.name} --key FILE"
                raise Clash(what, why=why, next_step=f"{again}; else have it ask by another name.")
            # The others are asked about all the same.
            context.reporter.note(f"Not taken: {what}; {why}.", style="yellow")
            continue
        store.fleet.put_devices([_with_content(Device(one.name, one.kind, key=one.key), args)])
        store.fleet.enrolments.forget(one.key)
        accepted.append(one.name)
    if not accepted:
        why = "no device that asks shows this code" if args.code else "none was accepted"
        raise NotFound("no device was taken into the list", why=why, next_step="See `zesty devices enrolments`.")
    return MessageResult(f"Taken into the list: {', '.join(accepted)}.")


def _key(args: Namespace, context: Context, store: Store) -> Result:
    from zesty_burrow.fleet.keys import ADMINISTRATOR, OwnKeys, make_secret
    from zesty_burrow.store.seal import write_private

    public = OwnKeys(store.fleet.own_key(ADMINISTRATOR, make_secret)).public(ADMINISTRATOR)
    if args.to is not None:
        try:
            write_private(args.to, f"{public.text}\n".encode())
        except FileExistsError:
            raise Clash(f"{args.to} exists already", next_step="Name a new file.") from None
        except FileNotFoundError:
            raise NotFound(
                f"there is no folder {args.to.parent}", next_step="Name a file in one that exists."
            ) from None
    return KeyResult("administrator", context.device(), public.text, public.code)
