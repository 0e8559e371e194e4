"""``zesty hand-over``: profiles to devices, many at once; a second run does only what is left."""

from __future__ import annotations

import asyncio
import os
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.devices.devices import add_selection, read_all, selection, stand
from zesty_burrow.errors import BurrowError, Clash, Malformed, NotFound, UsageError
from zesty_burrow.fleet.keys import ADMINISTRATOR, DEVICE, OwnKeys, PublicKey, make_secret, read_key
from zesty_burrow.fleet.standing import TIME, Standing, State
from zesty_burrow.report.results.devices import HandOverResult, HandOverRow
from zesty_burrow.store.devices import CONFIRMED, FAILED, HANDED, WAITING, Device, Handover

if TYPE_CHECKING:
    from zesty_burrow.core.credentials import Credentials
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.fleet.push import Receipt, SshOptions
    from zesty_burrow.store.store import CredentialsRow, Store

EXAMPLE = "zesty hand-over --all --dry-run"
PUSH, FILES, BUNDLE, LINK, CARD = "push", "files", "bundle", "link", "card"
LONGEST_LINK = 24 * 30
MOST_AT_ONCE = 200
STATE_OF = {"imported": CONFIRMED, "waiting": WAITING}


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    add_selection(parser)
    parser.add_argument("--all", action="store_true", help="to every device")
    parser.add_argument("--again", action="store_true", help="also to devices that have it already")
    parser.add_argument("--dry-run", action="store_true", help="show what would be done, and send nothing")
    text = "write what is for devices that are not reached by SSH to new files in FOLDER"
    parser.add_argument("--to", type=Path, metavar="FOLDER", help=text)
    text = "make a one-time link for each device without this program; the page is served at URL by `zesty links serve`"
    parser.add_argument("--link", metavar="URL", default="", help=text)
    parser.add_argument("--hours", type=int, default=48, help="for which a link can be opened (48)")
    text = "write cards to be printed, for devices without this program, to a new FILE: .pdf or .html"
    parser.add_argument("--card", type=Path, metavar="FILE", help=text)
    parser.add_argument("--paper", choices=("A4", "A6"), default="A4", help="four cards a page, or one (A4)")
    parser.add_argument("--language", choices=("en", "de", "es", "fr"), default="en", help="of the cards (en)")
    text = "have devices with this program report to URL, where `zesty links serve` answers"
    parser.add_argument("--report", metavar="URL", default="", help=text)
    text = "the authority of the server there, PEM, where it is not one of the system's"
    parser.add_argument("--report-authority", type=Path, metavar="FILE", help=text)
    text = "name this page at the end, where the owner can check the connection"
    parser.add_argument("--check", metavar="URL", default="", help=text)
    parser.add_argument("--at-once", type=int, default=20, metavar="NUMBER", help="devices at a time (20)")
    parser.add_argument("--timeout", type=float, default=20.0, metavar="SECONDS", help="for each device to answer (20)")
    parser.add_argument("--ssh-config", default="", metavar="FILE", help="in the place of your own SSH settings")
    parser.add_argument("--ssh-known-hosts", default="", metavar="FILE", help="in the place of your own known hosts")
    parser.add_argument("--ssh-key", action="append", default=[], metavar="FILE", help="sign in with this key")
    parser.add_argument("--program", default="zesty", help="this program's command on the devices (zesty)")


def run(args: Namespace, context: Context) -> HandOverResult:
    """Plan for each device, then do it: by SSH, or into files."""
    if not (args.word or selection(args) or args.all):
        raise UsageError("to which devices?", next_step="Name them, or use --kind, --owner, --place, --tag or --all.")
    if not 1 <= args.at_once <= MOST_AT_ONCE:
        raise UsageError(f"--at-once {args.at_once} is not between 1 and {MOST_AT_ONCE}")
    if not 1 <= args.hours <= LONGEST_LINK:
        raise UsageError(f"--hours {args.hours} is not between 1 and {LONGEST_LINK}")
    for option, url in (("--link", args.link), ("--check", args.check), ("--report", args.report)):
        if url and not url.startswith("https://"):
            raise UsageError(
                f"{option} {url!r:.80} is not a URL", next_step="It begins with https://, as browsers ask."
            )
    if args.card is not None and args.card.suffix.lower() not in (".pdf", ".html"):
        raise UsageError(f"{args.card}: cards are .pdf or .html")
    if args.card is not None and args.link:
        raise UsageError("--card and --link are two ways for the same devices", next_step="Choose one of them.")
    if args.to is not None and not args.to.is_dir():
        raise NotFound(f"there is no folder {args.to}", next_step="Name one that exists.")
    with context.store() as store:
        found = stand(context, store, store.fleet.list_devices(args.word, **selection(args)))
        if not found:
            raise NotFound("no device matches", next_step="See `zesty devices list`.")
        work = _Work(store, context, args)
        chosen = [one for one in found if one.is_left or (args.again and one.wanted)]
        plans = [work.plan(one) for one in chosen]
        # Their state says it as well, but a run that passes over them in silence would be taken for a success.
        gone = [_gone(one) for one in found if one.state is State.PROFILE_GONE]
        left = len(found) - len(chosen) - len(gone)
        if args.dry_run:
            rows = [
                plan.row or HandOverRow(plan.device.name, plan.name, plan.form, "ready", to=plan.to) for plan in plans
            ]
            return HandOverResult((*rows, *gone), left, dry=True)
        done = _run(args, context, work, plans)
    return HandOverResult((*done, *gone), left, code=_code(done))


def _report(args: Namespace) -> tuple[str, str]:
    """Where devices are to report to, and the authority of the server there."""
    if args.report_authority is None:
        return args.report, ""
    from cryptography import x509

    from zesty_burrow.host.files import read_bounded

    text = read_bounded(args.report_authority, 1 << 16)[0].decode("ascii", "replace")
    try:
        x509.load_pem_x509_certificates(text.encode())
    except ValueError as problem:
        raise Malformed(f"{args.report_authority} is no certificate", why=str(problem)) from None
    return args.report, text


def _code(rows: list[HandOverRow]) -> str:
    """To be scanned from the terminal, where there is one link and nothing else."""
    if len(rows) != 1 or rows[0].form != LINK or not rows[0].to.startswith("https://"):
        return ""
    from zesty_burrow.intake.readers.codes import drawn, make_codes

    return drawn(make_codes(rows[0].to)[0])


def _gone(one: Standing) -> HandOverRow:
    step = "Assign another: zesty devices assign PROFILE …"
    return HandOverRow(
        one.device.name, one.wanted, "", FAILED, "device-profile-gone", f"there is no {one.wanted}", step
    )


@dataclass(slots=True)
class _Plan:
    """``row``: why it cannot be; None where it can."""

    device: Device
    name: str
    form: str = ""
    to: str = ""
    digest: str = ""
    profile: Profile | None = None
    credentials: dict[str, tuple[CredentialsRow, Credentials]] = field(default_factory=dict)
    row: HandOverRow | None = None

    def fails(self, cause: str, detail: str, remedy: str) -> _Plan:
        """It cannot be, for this reason."""
        self.row = HandOverRow(self.device.name, self.name, self.form, FAILED, cause, detail, remedy)
        return self


class _Work:
    """What is read once for a whole run."""

    def __init__(self, store: Store, context: Context, args: Namespace) -> None:
        self.store, self.fleet = store, store.fleet
        self._folder, self._link, self._card, self._report = args.to, args.link, args.card, _report(args)
        self._context = context
        self._kept = store.list_credentials()
        self._digests = store.digests()
        self._profiles: dict[str, Profile] = {}
        self._opened: dict[CredentialsRow, Credentials] = {}
        self._all: list[Profile] = []
        self._own: OwnKeys | None = None

    def now(self) -> str:
        """RFC 3339."""
        return self._context.now().strftime(TIME)

    def plan(self, standing: Standing) -> _Plan:
        """How a device gets its profile, or why it cannot."""
        from zesty_burrow.fleet.client import client_of
        from zesty_burrow.profiles.advising.clients import misfits, nearest

        device = standing.device
        plan = _Plan(device, standing.wanted)
        profile = plan.profile = self._read(standing.wanted)
        plan.digest = self._digests[standing.wanted]
        why = misfits(profile, client_of(device))
        if why:
            self._all = self._all or read_all(self.store)
            near = nearest(profile, client_of(device), self._all)
            step = f"Assign the nearest that it can: zesty devices assign {near} --device {device.name}" if near else ""
            return plan.fails("device-does-not-fit", "; ".join(why), step or "Make a profile that its client can use.")
        if device.reach:
            plan.form, plan.to = PUSH if device.runs_program else FILES, device.reach
            if not device.runs_program and not device.folder:
                return plan.fails(
                    "device-no-folder", "it does not run this program", "zesty devices change NAME --folder PATH"
                )
        elif self._link and not device.runs_program:
            plan.form, plan.to = LINK, self._link
        elif self._card is not None and not device.runs_program:
            plan.form, plan.to = CARD, str(self._card)
        elif device.key and self._folder is not None:
            plan.form, plan.to = BUNDLE, str(self._folder / f"{device.name}.bundle")
        elif self._folder is not None:
            return plan.fails(
                "device-not-enrolled", "it has no key yet", "Run `zesty enrol` there, and add what it shows."
            )
        else:
            step = "Use --link URL, --card FILE or --to FOLDER, or zesty devices change --reach"
            return plan.fails("device-no-way", "it is not reached by SSH", step)
        return self._with_credentials(plan, profile)

    def _with_credentials(self, plan: _Plan, profile: Profile) -> _Plan:
        from zesty_burrow.store.store import choose_among

        chosen = choose_among(self._kept, profile, plan.device.name)
        missing = [kind for kind in profile.needs if kind not in chosen]
        if missing:
            label = profile.credentials_label
            step = f"Enter them: zesty credentials change {label!r}"
            return plan.fails("device-no-credentials", f"{', '.join(missing)} for {label}", step)
        wanted = {*profile.needs, *profile.useful}
        for kind, row in chosen.items():
            if kind in wanted:
                if row not in self._opened:
                    self._opened[row] = self.store.open_credentials(row)
                plan.credentials[kind] = (row, self._opened[row])
        return plan

    def _read(self, name: str) -> Profile:
        if name not in self._profiles:
            self._profiles[name] = self.store.find_profile(name)[0]
        return self._profiles[name]

    def bundle(self, plan: _Plan, key: PublicKey) -> bytes:
        """For the device with that key."""
        from zesty_burrow.fleet.bundle import Bundle, seal_bundle
        from zesty_burrow.profiles.text import write_profile

        if plan.profile is None:
            raise UsageError(f"there is no profile for {plan.device.name}")
        if self._own is None:
            self._own = OwnKeys(self.fleet.own_key(ADMINISTRATOR, make_secret))
        number = self.fleet.next_number(plan.device.name, int(self._context.now().timestamp() * 1000))
        kept = tuple((row.scope, value) for row, value in plan.credentials.values())
        texts = {plan.profile.name: write_profile(plan.profile)}
        bundle = Bundle(number, plan.device.name, self.now(), texts, kept, None, *self._report)
        return seal_bundle(bundle, key, self._own)

    def files(self, plan: _Plan) -> dict[str, bytes]:
        """For a device without this program."""
        from zesty_burrow.fleet.parts import files_of

        if plan.profile is None:
            raise UsageError(f"there is no profile for {plan.device.name}")
        return files_of(plan.profile, {kind: value for kind, (_, value) in plan.credentials.items()})

    def note(self, plan: _Plan, row: HandOverRow) -> None:
        """Write down what a device has come to, for the list and for the next run."""
        from zesty_burrow.fleet.parts import earliest_end

        if plan.profile is None:
            return
        expires = earliest_end(plan.profile, [value for _, value in plan.credentials.values()])
        cells = (row.device, row.profile, plan.digest, row.form, row.state, self.now())
        self.fleet.note_handover(
            Handover(*cells, row.cause, row.detail if row.cause or row.form in (LINK, CARD) else "", expires)
        )


def _run(args: Namespace, context: Context, work: _Work, plans: list[_Plan]) -> list[HandOverRow]:
    rows: list[HandOverRow] = []

    def ended(plan: _Plan, row: HandOverRow) -> None:
        if plan.row is None:
            # What was not even tried changes nothing of where a device stands.
            work.note(plan, row)
        rows.append(row)
        shown(len(rows), len(plans))

    with context.reporter.progress("handing over") as shown:
        for plan in plans:
            if plan.row is not None:
                ended(plan, plan.row)
            elif plan.form == BUNDLE:
                ended(plan, _to_file(plan, work))
            elif plan.form == LINK:
                ended(plan, _to_link(plan, work, args, context))
        for plan, row in _to_cards([plan for plan in plans if plan.row is None and plan.form == CARD], args):
            ended(plan, row)
        pushed = [plan for plan in plans if plan.row is None and plan.form in (PUSH, FILES)]
        if pushed:
            from zesty_burrow.fleet.push import SshOptions

            keys = tuple(args.ssh_key)
            options = SshOptions(args.timeout, args.ssh_config, args.ssh_known_hosts, keys, args.program)
            asyncio.run(_push_all(pushed, work, options, args.at_once, ended))
    return sorted(rows, key=lambda row: row.device)


async def _push_all(
    plans: list[_Plan], work: _Work, options: SshOptions, at_once: int, ended: Callable[[_Plan, HandOverRow], None]
) -> None:
    from zesty_burrow.fleet.many import run_all

    async def push(plan: _Plan) -> HandOverRow:
        try:
            return _received(plan, await _push(plan, work, options))
        except BurrowError as problem:
            cells = (problem.slug, str(problem), problem.next_step)
            return HandOverRow(plan.device.name, plan.name, plan.form, FAILED, *cells, to=plan.to)

    await run_all(plans, push, at_once, ended)


async def _push(plan: _Plan, work: _Work, options: SshOptions) -> Receipt:
    from zesty_burrow.fleet.push import Target, push_bundle, push_files

    target = Target.of(plan.device.reach)
    if plan.form == FILES:
        return await push_files(target, options, plan.device.folder, work.files(plan))
    key, receipt = await push_bundle(target, options, plan.device.key, lambda key: work.bundle(plan, key))
    if key.text != plan.device.key:
        work.fleet.put_devices([], [replace(work.fleet.find_device(plan.device.name), key=key.text)])
    return receipt


def _received(plan: _Plan, receipt: Receipt) -> HandOverRow:
    """Files are there, and nobody has said that they are used."""
    state = HANDED if plan.form == FILES else STATE_OF.get(receipt.state, FAILED)
    cells = (plan.device.name, plan.name, plan.form, state)
    if state == FAILED:
        return HandOverRow(*cells, "device-no-answer", receipt.state, "Update this program there.", plan.to)
    detail = "waiting for its owner to agree" if state == WAITING else receipt.detail if state == HANDED else "imported"
    return HandOverRow(*cells, detail=detail, to=plan.to)


def _to_file(plan: _Plan, work: _Work) -> HandOverRow:
    from zesty_burrow.store.seal import write_private

    cells = (plan.device.name, plan.name, plan.form)
    try:
        path = Path(plan.to)
        if path.exists():
            raise Clash(f"{path} exists already", next_step="Name another folder, or remove the file.")
        write_private(path, work.bundle(plan, read_key(plan.device.key, DEVICE)))
    except BurrowError as problem:
        return HandOverRow(*cells, FAILED, problem.slug, str(problem), problem.next_step, plan.to)
    except OSError as problem:
        step = "Check the folder's rights."
        return HandOverRow(*cells, FAILED, "device-write", problem.strerror or str(problem), step, plan.to)
    return HandOverRow(*cells, HANDED, detail="written", to=plan.to)


def _to_link(plan: _Plan, work: _Work, args: Namespace, context: Context) -> HandOverRow:
    """What is behind it is kept encrypted; what opens it is in the link alone, which is told or written once."""
    from zesty_burrow.fleet.links.link import page_content, seal_link
    from zesty_burrow.intake.readers.codes import make_codes, png_of
    from zesty_burrow.store.seal import write_private

    if plan.profile is None:
        raise UsageError(f"there is no profile for {plan.device.name}")
    kept = {kind: value for kind, (_, value) in plan.credentials.items()}
    made = seal_link(page_content(plan.device, plan.profile, kept, os.urandom, args.check), os.urandom)
    url = made.url(args.link)
    cells = (plan.device.name, plan.name, LINK)
    if args.to is not None:
        path = args.to / f"{plan.device.name}.link.txt"
        try:
            write_private(path, f"{url}\n".encode())
            write_private(path.with_suffix(".png"), png_of(make_codes(url)[0]))
        except FileExistsError:
            return HandOverRow(*cells, FAILED, "clash", f"{path} exists already", "Name another folder.", str(path))
    until = (context.now() + timedelta(hours=args.hours)).strftime(TIME)
    work.fleet.links.add(made.name, plan.device.name, made.sealed, until)
    return HandOverRow(
        *cells, HANDED, detail=f"link, to be opened once until {until}", to=url if args.to is None else str(path)
    )


def _to_cards(plans: list[_Plan], args: Namespace) -> list[tuple[_Plan, HandOverRow]]:
    """All in one file; one that has no room for everything is told, and is not in it."""
    from zesty_burrow.fleet.cards.card import card_of
    from zesty_burrow.fleet.cards.html import cards_html
    from zesty_burrow.fleet.cards.pdf import cards_pdf
    from zesty_burrow.store.seal import write_private

    found, cards = [], []
    for plan in plans:
        if plan.profile is None:
            continue
        kept = {kind: value for kind, (_, value) in plan.credentials.items()}
        card = card_of(plan.device, plan.profile, kept, args.language)
        cells = (plan.device.name, plan.name, CARD)
        try:
            cards_pdf([card], "A6")
        except BurrowError as problem:
            found.append((plan, HandOverRow(*cells, FAILED, problem.slug, str(problem), problem.next_step, plan.to)))
            continue
        cards.append(card)
        found.append((plan, HandOverRow(*cells, HANDED, detail="printed on a card", to=plan.to)))
    if cards:
        make = cards_pdf if args.card.suffix.lower() == ".pdf" else cards_html
        try:
            write_private(args.card, make(cards, args.paper))
        except FileExistsError:
            raise Clash(f"{args.card} exists already", next_step="Name a new file.") from None
        except FileNotFoundError:
            raise NotFound(f"there is no folder {args.card.parent}", next_step="Name one that exists.") from None
    return found
