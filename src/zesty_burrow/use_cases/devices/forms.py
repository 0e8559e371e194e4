"""The ways in which a profile gets to a device: each does it, and returns the result for its device."""

from __future__ import annotations

import io
import os
from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.errors import BurrowError, Clash, UsageError
from zesty_burrow.fleet.keys import DEVICE, pickup_name, read_key
from zesty_burrow.fleet.standing import TIME
from zesty_burrow.store.devices import CONFIRMED, FAILED, HANDED, WAITING
from zesty_burrow.use_cases.devices.plan import CARD, FILES, LINK, Plan, Work
from zesty_burrow.use_cases.devices.request import HandOverRequest, HandOverRow
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.fleet.push import Receipt, SshOptions

STATE_OF = {"imported": CONFIRMED, "waiting": WAITING}


async def push_all(
    plans: list[Plan], work: Work, options: SshOptions, at_once: int, ended: Callable[[Plan, HandOverRow], None]
) -> None:
    from zesty_burrow.fleet.many import run_all

    async def push(plan: Plan) -> HandOverRow:
        try:
            return _received(plan, await _push(plan, work, options))
        except BurrowError as problem:
            cells = (problem.slug, str(problem), problem.next_step)
            return HandOverRow(plan.device.name, plan.name, plan.form, FAILED, *cells, to=plan.to)

    await run_all(plans, push, at_once, ended)


async def _push(plan: Plan, work: Work, options: SshOptions) -> Receipt:
    from zesty_burrow.fleet.push import Target, push_bundle, push_files

    target = Target.of(plan.device.reach)
    if plan.form == FILES:
        return await push_files(target, options, plan.device.folder, work.files(plan))
    key, receipt = await push_bundle(target, options, plan.device.key, lambda key: work.bundle(plan, key))
    if key.text != plan.device.key:
        work.fleet.note_key(plan.device.name, key.text)
    return receipt


def _received(plan: Plan, receipt: Receipt) -> HandOverRow:
    """Files are there, and nobody has said that they are used."""
    state = HANDED if plan.form == FILES else STATE_OF.get(receipt.state, FAILED)
    cells = (plan.device.name, plan.name, plan.form, state)
    if state == FAILED:
        return HandOverRow(*cells, "device-no-answer", receipt.state, "Update this program there.", plan.to)
    detail = "waiting for its owner to agree" if state == WAITING else receipt.detail if state == HANDED else "imported"
    return HandOverRow(*cells, detail=detail, to=plan.to)


def to_file(plan: Plan, make: Callable[[], bytes]) -> HandOverRow:
    """A new file that only its owner reads; ``make``: what is in it."""
    failed = _write_all(plan, lambda: {Path(plan.to): make()}, [Path(plan.to)])
    return failed or HandOverRow(plan.device.name, plan.name, plan.form, HANDED, detail="written", to=plan.to)


def _write_all(plan: Plan, make: Callable[[], dict[Path, bytes]], paths: list[Path]) -> HandOverRow | None:
    """Write all of ``paths`` as new files that only their owner reads, or none; why that cannot be, else None.

    ``make``: what is in them, called where none of them exists.
    """
    problem = _problem_of_writing(make, paths)
    if problem is None:
        return None
    return HandOverRow(plan.device.name, plan.name, plan.form, FAILED, *problem, str(paths[0]))


def _problem_of_writing(make: Callable[[], dict[Path, bytes]], paths: list[Path]) -> tuple[str, str, str] | None:
    """The same; cause, words and remedy of what stands against it."""
    from zesty_burrow.store.seal import write_private

    written: list[Path] = []
    try:
        for path in paths:
            if path.exists():
                raise Clash(f"{path} exists already", next_step="Name another folder, or remove the file.")
        for path, content in make().items():
            write_private(path, content)
            written.append(path)
    except (BurrowError, OSError) as problem:
        for path in written:
            path.unlink(missing_ok=True)
        if isinstance(problem, BurrowError):
            return problem.slug, str(problem), problem.next_step
        words = f"{paths[0].parent}: {problem.strerror or problem}"
        return "device-write", words, "Check that the folder is there, its rights, and the space on its disk."
    return None


def bundle_of(plan: Plan, work: Work) -> bytes:
    """For a device with this program."""
    return work.bundle(plan, read_key(plan.device.key, DEVICE))


def to_pickup(plan: Plan, work: Work) -> HandOverRow:
    """It waits on the server, encrypted, until the device fetches it."""
    key = read_key(plan.device.key, DEVICE)
    number, data = work.numbered(plan, key)
    work.fleet.enrolments.leave(pickup_name(key), plan.device.name, number, data)
    return HandOverRow(plan.device.name, plan.name, plan.form, HANDED, detail="waits to be fetched", to=plan.to)


def archive_of(plan: Plan, work: Work, passphrase: str) -> bytes:
    """For any other device: a ZIP whose files are encrypted (AES-256)."""
    import pyzipper

    stream = io.BytesIO()
    with pyzipper.AESZipFile(stream, "w", pyzipper.ZIP_DEFLATED, encryption=pyzipper.WZ_AES) as opened:
        opened.setpassword(passphrase.encode())
        for name, data in work.files(plan).items():
            opened.writestr(name, data)
    return stream.getvalue()


def to_link(plan: Plan, work: Work, request: HandOverRequest, workspace: Workspace) -> HandOverRow:
    """What is behind it is kept encrypted; what opens it is in the link alone, which is shown or written once."""
    from zesty_burrow.fleet.links.link import page_content, seal_link
    from zesty_burrow.intake.readers.codes import make_codes, picture_of

    if plan.profile is None:
        raise UsageError(f"there is no profile for {plan.device.name}")
    kept = {kind: value for kind, (_, value) in plan.credentials.items()}
    made = seal_link(page_content(plan.device, plan.profile, kept, os.urandom, request.check), os.urandom)
    url = made.url(request.link)
    cells = (plan.device.name, plan.name, LINK)
    if request.to is not None:
        path, code = request.to / f"{plan.device.name}.link.txt", make_codes(url)[0]
        files = {path: f"{url}\n".encode()}
        files |= {path.with_suffix(f".{kind}"): picture_of(code, kind) for kind in ("png", "svg")}
        failed = _write_all(plan, lambda: files, list(files))
        if failed is not None:
            return failed
    until = (workspace.now() + timedelta(hours=request.hours)).strftime(TIME)
    work.fleet.links.add(made.name, plan.device.name, made.sealed, until)
    return HandOverRow(
        *cells, HANDED, detail=f"link, to be opened once until {until}", to=url if request.to is None else str(path)
    )


def to_cards(plans: list[Plan], request: HandOverRequest) -> list[tuple[Plan, HandOverRow]]:
    """All in one file; a card without room for everything is reported as failed, and left out."""
    from zesty_burrow.fleet.cards.card import card_of
    from zesty_burrow.fleet.cards.html import cards_html
    from zesty_burrow.fleet.cards.pdf import cards_pdf

    found, cards = [], []
    for plan in plans:
        if plan.profile is None:
            continue
        kept = {kind: value for kind, (_, value) in plan.credentials.items()}
        card = card_of(plan.device, plan.profile, kept, request.language)
        cells = (plan.device.name, plan.name, CARD)
        try:
            cards_pdf([card], "A6")
        except BurrowError as problem:
            found.append((plan, HandOverRow(*cells, FAILED, problem.slug, str(problem), problem.next_step, plan.to)))
            continue
        cards.append(card)
        detail = "printed on a card, without its certificate" if card.certificates else "printed on a card"
        found.append((plan, HandOverRow(*cells, HANDED, detail=detail, to=plan.to)))
    path = request.card
    if cards and path is not None:
        make = cards_pdf if path.suffix.lower() == ".pdf" else cards_html
        unwritten = _problem_of_writing(lambda: {path: make(cards, request.paper)}, [path])
        if unwritten is not None:
            return [(plan, row if row.cause else _failed(row, *unwritten)) for plan, row in found]
    return found


def _failed(row: HandOverRow, cause: str, detail: str, remedy: str) -> HandOverRow:
    return replace(row, state=FAILED, cause=cause, detail=detail, remedy=remedy)
