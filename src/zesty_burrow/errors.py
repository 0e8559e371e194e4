"""Every way the program can fail.

::

    BurrowError
    ├── UsageError               the words on the command line do not fit together
    ├── InputError               something that was handed in cannot be taken
    │   ├── Malformed            octets that do not follow their format
    │   ├── LimitExceeded        larger than we agree to read
    │   └── ProfileInvalid       a tunnel profile that breaks its own rules
    ├── StateError               the state does not allow what was asked
    │   ├── NotFound
    │   ├── Clash
    │   └── SealError            the secrets cannot be opened
    ├── MachineError             this machine lacks a right, a device or a setting
    │   ├── RightsMissing
    │   ├── OutputFailed         standard output is full or closed
    │   └── DiskFull
    ├── GatewayError             the gateway could not be used
    │   ├── GatewayUnreachable
    │   ├── NoAgreement          no algorithms in common
    │   ├── GatewayElsewhere     it sends us to another one
    │   └── GatewayProtocolError what it sent breaks the protocol, or it gave up
    ├── GatewayNotProven         the gateway did not prove its identity
    ├── SignInRefused            the gateway did not accept our credentials
    ├── OutsideError             an observatory or resolver does not answer as it should
    └── ProgramFault             a defect of ours

Each class carries a ``slug`` (stable, for programs and for ``explain``), an ``exit_code`` and a
``next_step``. An instance may give a more precise slug or next step.
"""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable
    from typing import Self


def printable(text: str) -> str:
    """A stranger's text without what could steer a terminal: every unprintable character becomes U+FFFD."""
    if text.isprintable():
        return text
    return "".join(letter if letter.isprintable() else "\ufffd" for letter in text)


class BurrowError(Exception):
    """Base of all errors.

    ``what`` says what happened and where, ``why`` the reason, ``next_step`` what to do; ``step`` names the step
    of a longer work that failed. ``instead``: a word that is wrong, and what it may have meant.
    """

    slug = "error"
    exit_code = 1
    next_step = "Run the command again with --debug and read the log."

    def __init__(self, what: str, *, why: str = "", next_step: str = "", slug: str = "") -> None:
        super().__init__(what)
        self.what = printable(what)
        self.why = printable(why)
        self.step = ""
        self.instead: tuple[str, tuple[str, ...]] = ("", ())
        if next_step:
            self.next_step = "\n".join(printable(line) for line in next_step.split("\n"))
        if slug:
            self.slug = slug

    def meaning(self, word: str, known: Iterable[str]) -> Self:
        """The same error, with what a wrong word may have meant."""
        from zesty_burrow.nearest import nearest

        self.instead = (word, nearest(word, known))
        return self

    def __str__(self) -> str:
        return f"{self.what}: {self.why}" if self.why else self.what


class UsageError(BurrowError):
    """The words on the command line do not fit together."""

    slug = "usage"
    exit_code = 2
    next_step = "See the command's --help."


class InputError(BurrowError):
    """An input cannot be used."""

    slug = "input"
    exit_code = 3
    next_step = "Ask the sender for a complete copy."


class Malformed(InputError):
    """Octets that do not follow their format: the one error that parsers of a stranger's bytes raise."""

    slug = "malformed"


class LimitExceeded(InputError):
    """Larger than we agree to read."""

    slug = "too-large"
    next_step = "Split it, or take out what does not belong in it."


class ProfileInvalid(InputError):
    """A tunnel profile that breaks its own rules."""

    slug = "profile-invalid"
    next_step = "Correct the named key; docs/profile.md lists them all."


class StateError(BurrowError):
    """The state does not allow what was asked."""

    slug = "state"
    exit_code = 4


class NotFound(StateError):
    """No such profile, host, code or file."""

    slug = "not-found"
    next_step = "See `zesty list` for the names that exist."


class Clash(StateError):
    """Something of that name is already stored."""

    slug = "clash"


class SealError(StateError):
    """The sealed secrets cannot be opened."""

    slug = "seal"
    next_step = "Give the passphrase or put back the key file that sealed them."


class MachineError(BurrowError):
    """This machine lacks a device, a facility or a setting. ``number``: the system's error, 0 where it told of none."""

    slug = "machine"
    exit_code = 5
    number = 0


NO_SPACE = (28, 122)
"""ENOSPC and EDQUOT; the module with the names of errors is not worth loading for them."""


class DiskFull(MachineError):
    """There is no space left for what is to be written."""

    slug = "disk-full"
    next_step = "Make space there, and do it again."

    @classmethod
    def by(cls, problem: OSError, path: object, lost: str = "") -> DiskFull | None:
        """Of an error of the system while ``path`` was written; None where it is another one."""
        if problem.errno not in NO_SPACE:
            return None
        return cls.at(str(path).rpartition("/")[0] or "this folder", lost or f"{path} was not written")

    @classmethod
    def at(cls, folder: object, lost: str) -> DiskFull:
        """``folder``: on which disk; ``lost``: what was not written, in words."""
        return cls(f"there is no space left on the disk of {folder}", why=lost)


class OutputFailed(MachineError):
    """What was found out cannot be shown."""

    slug = "output"
    next_step = "Check where the output goes: it may be full, or closed."

    @classmethod
    def by(cls, problem: OSError) -> OutputFailed:
        """As the system tells it."""
        return cls("the output cannot be written", why=problem.strerror or str(problem))


class RightsMissing(MachineError):
    """The right to configure the network is missing."""

    slug = "rights-missing"
    next_step = "Run the command as root, or inside `zesty lab run heron -- …`."


class GatewayError(BurrowError):
    """The gateway could not be used."""

    slug = "gateway"
    exit_code = 6


class GatewayUnreachable(GatewayError):
    """No answer, or no address, or no route."""

    slug = "gateway-unreachable"
    next_step = "Try another place, and check that UDP ports 500 and 4500 may leave this network."


class ProxyFailed(GatewayError):
    """A proxy on the way opens no connection to the gateway."""

    slug = "proxy"
    next_step = "Check the proxy's address, and whether its rules allow the gateway's port."


class NoAgreement(GatewayError):
    """Gateway and profile have no algorithms in common."""

    slug = "no-agreement"
    next_step = "Ask the provider for current settings; do not weaken the profile to suit an outdated gateway."


class GatewayProtocolError(GatewayError):
    """What the gateway sent breaks the protocol, or it gave up on its side."""

    slug = "gateway-protocol"
    next_step = "Try another place; tell the provider the code and the time."


class GatewayElsewhere(GatewayError):
    """The gateway sends us to another one (RFC 5685); ``to``: which; ``proven``: it has shown who it is."""

    slug = "gateway-elsewhere"
    next_step = "Ask the provider which gateway is meant: this one was followed as far as it goes."

    def __init__(self, what: str, to: str, *, proven: bool = False) -> None:
        super().__init__(what, why="it asked to go on there (REDIRECT, RFC 5685)")
        self.to, self.proven = to, proven


class GatewayNotProven(BurrowError):
    """The gateway did not prove its identity. Nothing of ours was sent to it."""

    slug = "gateway-not-proven"
    exit_code = 7
    next_step = "Do not sign in there. Get the provider's current authority certificate over another channel."


class SignInRefused(BurrowError):
    """The gateway did not accept our credentials."""

    slug = "sign-in-refused"
    exit_code = 8
    next_step = (
        "Check that these are the credentials for manual set-up: those for the provider's web page are usually "
        "not the ones. Look for a stray space or a missing line, then import them again."
    )


class OutsideError(BurrowError):
    """An observatory or a resolver does not answer as it should."""

    slug = "outside"
    exit_code = 9
    next_step = "Check the observatory's address (--observatory) and that it is running."


class ExtraMissing(BurrowError):
    """A library that this work needs is not installed. Nothing was changed."""

    slug = "extra-missing"
    exit_code = 5


class ProgramFault(BurrowError):
    """A defect of ours."""

    slug = "program-fault"
    exit_code = 70
    next_step = "This should not happen. Run it again with --debug and report what it prints."


def as_error(problem: BaseException) -> BurrowError:
    """The error printed for an unexpected exception."""
    if isinstance(problem, BurrowError):
        return problem
    if isinstance(problem, UnicodeError):
        why = f"its character {getattr(problem, 'start', 0) + 1} is not UTF-8"
        return InputError("what was entered cannot be read", why=why, next_step="Enter it in UTF-8.")
    if isinstance(problem, OSError):
        full = DiskFull.by(problem, problem.filename or "a file")
        step = "Check rights, disk space and paths."
        return full or BurrowError("the system refused a call", why=str(problem), next_step=step, slug="system")
    return ProgramFault("the program has an error", why=f"{type(problem).__name__}: {problem}")


def error_document(error: BurrowError) -> dict[str, str]:
    """An error as plain values, to travel between processes of ours."""
    return {
        "class": type(error).__name__,
        "what": error.what,
        "why": error.why,
        "next_step": error.next_step,
        "slug": error.slug,
        "step": error.step,
    }


def error_of(document: dict[str, str]) -> BurrowError:
    """The error that :func:`error_document` gave."""
    kind = globals().get(str(document["class"]), ProgramFault)
    if not (isinstance(kind, type) and issubclass(kind, BurrowError)):
        kind = ProgramFault
    if issubclass(kind, GatewayElsewhere):
        kind = GatewayError  # the target matters only to code that follows it
    error: BurrowError = kind(
        document["what"], why=document["why"], next_step=document["next_step"], slug=document["slug"]
    )
    error.step = document["step"]
    return error
