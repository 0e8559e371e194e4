"""Create a profile from answers: those of the request, and on a terminal those to questions."""

from __future__ import annotations

import socket
import tomllib
from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path

import tomli_w
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.credentials import Credentials, kind_of
from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import CredentialsKind, Scope
from zesty_burrow.errors import BurrowError, Clash, InputError, UsageError
from zesty_burrow.host.files import read_bounded, system_authorities
from zesty_burrow.intake import limits
from zesty_burrow.intake.dialogue import (
    first_questions,
    open_questions,
    port_beside,
    profile_of,
    questions,
    slips_of,
    take_given,
    with_defaults,
)
from zesty_burrow.intake.import_plan import NewProfile
from zesty_burrow.intake.readers.certificates import read_certificates_untrusted
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.policy import judge_profile
from zesty_burrow.protocols.facets.questions import Question
from zesty_burrow.records import dataclass, field
from zesty_burrow.store.seal import write_private
from zesty_burrow.use_cases.credentials.ask import ASKED, ask_credentials
from zesty_burrow.use_cases.interaction import Interaction
from zesty_burrow.use_cases.workspace import Workspace

INTRODUCTION = (
    "A profile from scratch. Enter accepts the value in brackets; ? explains a field; < goes back; Ctrl-C interrupts."
)


SYSTEM = "system"
"""The answer that takes the public authorities of this machine."""
USUAL, ONE_BY_ONE, BACK = "usual", "one by one", "back"


@dataclass(frozen=True, slots=True)
class CreateRequest:
    """``answers``: by the keys of the questions. ``is_complete``: ask nothing, take defaults for the rest.

    ``resume``, ``afresh``: go on with an interrupted set-up, or discard it. ``credentials``: where they come from, as
    :func:`ask_credentials` takes it; ``none``; empty: ask.
    """

    answers: Mapping[str, str] = field(default_factory=dict)
    is_complete: bool = False
    resume: bool = False
    afresh: bool = False
    credentials: str = ""


@dataclass(frozen=True, slots=True)
class Created:
    """``missing``: the kind of credentials that it still needs. ``slips``: possible paste slips in those entered."""

    profile: Profile
    text: str
    findings: tuple[Finding, ...]
    missing: str
    slips: tuple[str, ...]


def create(request: CreateRequest, workspace: Workspace) -> Created:
    """Ask what is open, build the profile, judge it, and store it with its credentials.

    Raises :class:`InputError` for an answer that does not fit or is missing, :class:`Clash` for a name that is taken.
    """
    draft = workspace.paths.state / "draft.toml"
    answers = take_given({**_earlier(draft, request, workspace), **request.answers})
    if workspace.interaction.can_ask and not request.is_complete:
        with workspace.store() as store:
            names = store.digests()
        _Dialogue(workspace, draft, answers, names).run()
    answers = with_defaults(answers)
    with workspace.store() as store:
        if answers["name"] in store.digests():
            raise Clash(f"there is a profile {answers['name']!r} already", next_step="Choose another: --name NAME")
        authorities = _authorities(answers.get("authority", ""), workspace.now())
        profile = profile_of(answers, authorities)
        scope = Scope(profile.credentials_label)
        secrets, slips = _secrets(request, profile.needs, scope, workspace.interaction)
        made = NewProfile.of(profile, "typed in")
        store.take_kit([made], [(scope, value, "typed in") for value in secrets], what=f"create {made.profile.name}")
    draft.unlink(missing_ok=True)
    findings = [*check_profile(profile, workspace.now()), *judge_profile(workspace.policy(), profile)]
    missing = next((str(kind) for kind in profile.needs if kind not in map(kind_of, secrets)), "")
    return Created(profile, made.text, tuple(dict.fromkeys(findings)), missing, tuple(slips))


def _earlier(draft: Path, request: CreateRequest, workspace: Workspace) -> dict[str, str]:
    """What an interrupted set-up has left."""
    if request.resume and request.afresh:
        raise UsageError("give only one of --resume and --afresh")
    if not draft.exists() or request.afresh:
        if request.resume:
            raise UsageError("there is no interrupted set-up", next_step="Run it without --resume.")
        draft.unlink(missing_ok=True)
        return {}
    wanted = request.resume
    if not wanted and workspace.interaction.can_ask:
        wanted = _goes_on(workspace.interaction)
    if not wanted:
        return {}
    try:
        return {key: str(value) for key, value in tomllib.loads(draft.read_text("utf-8")).items()}
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as problem:
        raise InputError(f"{draft} is damaged", why=str(problem), next_step="Run it with --afresh.") from None


def _goes_on(interaction: Interaction) -> bool:
    """Whether to resume an interrupted set-up. After a mistyped answer the question comes again."""
    while True:
        answer = interaction.ask("An earlier set-up was interrupted. Go on with it? y or n [y] ").casefold()
        if answer in ("", "y", "yes"):
            return True
        if answer in ("n", "no"):
            return False
        interaction.note("  Not valid: y or n.", style="yellow")


def _authorities(path: str, now: datetime) -> tuple[str, ...]:
    """The certificates in a file, as one PEM text; of the system's those that are in date."""
    if not path:
        return ()
    if path == SYSTEM:
        found = read_certificates_untrusted(system_authorities().read_bytes())
        there = [one for one in found if one.not_valid_before_utc <= now <= one.not_valid_after_utc]
        return (b"".join(one.public_bytes(Encoding.PEM) for one in there).decode(),)
    data, _ = read_bounded(Path(path).expanduser(), limits.MAX_MEMBER)
    found = read_certificates_untrusted(data)
    return (b"".join(one.public_bytes(Encoding.PEM) for one in found).decode(),)


def _secrets(
    request: CreateRequest, kinds: Sequence[CredentialsKind], scope: Scope, interaction: Interaction
) -> tuple[list[Credentials], list[str]]:
    """From where the words say, the first kind alone; on a terminal all are asked for, and never kept in a draft."""
    if request.credentials == "none" or (not request.credentials and not interaction.can_ask):
        return [], []
    values: list[Credentials] = []
    slips: list[str] = []
    for kind in (one for one in (kinds[:1] if request.credentials else kinds) if one in ASKED):
        value, found = ask_credentials(str(scope), kind, interaction, request.credentials)
        values.append(value)
        slips += found
    return values, slips


class _Dialogue:
    """Asks on the terminal; every answer is kept at once, so that an interruption loses nothing."""

    def __init__(self, workspace: Workspace, draft: Path, answers: dict[str, str], names: Collection[str]) -> None:
        self._names = names
        self._workspace, self._draft, self._answers = workspace, draft, answers
        self._asked: list[str] = []
        self._before: dict[str, str] = {}
        self._is_usual: str | None = None
        self._told: set[str] = set()

    def run(self) -> None:
        """Until nothing is open."""
        say = self._workspace.interaction.note
        say(INTRODUCTION, style="bold")
        try:
            while waiting := self._waiting():
                self._ask(waiting[0])
        except (KeyboardInterrupt, EOFError):
            say(f"\nInterrupted. {len(self._answers)} answers are kept; go on with: zesty create --resume")
            raise KeyboardInterrupt from None

    def _waiting(self) -> list[Question]:
        """The first ones; then, unless all else is as usual, the others."""
        if first := first_questions(self._answers):
            self._is_usual = None
            return first
        others = open_questions(self._answers)
        if others and self._is_usual is None:
            self._is_usual = self._ask_usual(others)
        if self._is_usual == BACK:
            self._is_usual = None
            self._back()
            return self._waiting()
        return [] if self._is_usual == USUAL else others

    def _ask_usual(self, others: list[Question]) -> str:
        """Whether the defaults are taken for the rest."""
        interaction = self._workspace.interaction
        filled = with_defaults(self._answers)
        rest = [f"{one.key} {filled[one.key]}" for one in others if filled.get(one.key)]
        interaction.note(f"The rest as usual: {', '.join(rest)}.", style="dim")
        while True:
            answer = (
                interaction.ask_or_end("The rest as usual? y, or n to be asked about each [y]: ").strip().casefold()
            )
            if answer in ("", "y", "yes"):
                return USUAL
            if answer in ("n", "no"):
                return ONE_BY_ONE
            if answer == "<":
                return BACK
            interaction.note("  Not valid: y, n, or < to go back.", style="yellow")

    def _back(self) -> None:
        """To the question before; its answer stays as what Enter accepts."""
        if self._asked:
            key = self._asked.pop()
            self._before[key] = self._answers.pop(key, "")

    def _ask(self, question: Question) -> None:
        interaction = self._workspace.interaction
        default = self._before.get(question.key) or question.default(self._answers)
        hint = f" [{default}]" if default else " [none]" if question.optional else ""
        if question.key not in self._told:
            self._told.add(question.key)
            interaction.note(question.meaning, style="dim")
        text = interaction.ask_or_end(f"{question.ask}{hint}: ")
        if text.strip() == "?":
            interaction.note(f"  {question.meaning}\n  Where it comes from: {question.source}", style="cyan")
        elif text.strip() == "<":
            self._back()
        else:
            self._take(question, text if text.strip() else default)

    def _take(self, question: Question, text: str) -> None:
        note = self._workspace.interaction.note
        try:
            answer = question.take(text)
            if question.key == "name" and answer in self._names:
                raise ValueError("there is a profile of that name already")
            words = _look_up(question, answer, self._workspace)
        except (ValueError, BurrowError) as problem:
            note(f"  Not valid: {str(problem).rstrip('.')}. (? explains)", style="yellow")
            return
        for slip in slips_of(text):
            note(f"  Note: it {slip}; it was kept as {answer!r}.", style="yellow")
        for word in words:
            note(f"  {word}", style="yellow" if word.startswith(("Note", "warning", "serious")) else "green")
        self._answers[question.key] = answer
        self._asked.append(question.key)
        if question.key == "host" and (port := port_beside(text)):
            self._answers["port"] = questions()["port"].take(port)
            note(f"  The port {port} behind it is kept as an answer of its own.", style="green")
        self._keep()

    def _keep(self) -> None:
        self._workspace.paths.make(self._workspace.paths.state)
        fresh = self._draft.with_name(".draft.new")
        fresh.unlink(missing_ok=True)
        write_private(fresh, tomli_w.dumps(self._answers).encode())
        fresh.replace(self._draft)


def _look_up(question: Question, answer: str, workspace: Workspace) -> list[str]:
    """What can be checked right away: names that should resolve, files that should hold certificates."""
    if question.lookup:
        return [words for host in answer.split() for words in _resolves(host)]
    if question.file and answer == SYSTEM:
        return [f"Note: all public authorities of {system_authorities()} count, any of which can prove the gateway."]
    if question.file and answer:
        data, _ = read_bounded(Path(answer).expanduser(), limits.MAX_MEMBER)
        words = []
        for certificate in read_certificates_untrusted(data):
            words.append(
                f"It holds {trust.subject_name(certificate)}, valid until {certificate.not_valid_after_utc:%Y-%m-%d}."
            )
            found = [
                *trust.date_findings(certificate, workspace.now()),
                *trust.strength_findings(certificate, anchor=True),
            ]
            found += trust.issuer_findings(certificate, 0)
            words += [f"{entry.severity}: {entry.code.title} {entry.detail}" for entry in found
                      if entry.severity is not Severity.NOTE]  # fmt: skip
        return words
    return []


def _resolves(host: str) -> list[str]:
    with suppress(OSError, UnicodeError):
        found = dict.fromkeys(str(row[4][0]) for row in socket.getaddrinfo(host, 500, type=socket.SOCK_DGRAM))
        return [f"{host} is {', '.join(found)}."] if list(found) != [host] else []
    return [f"Note: {host} has no address here at the moment; check its spelling."]
