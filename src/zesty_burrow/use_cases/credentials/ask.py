"""Secrets that a person enters: asked for without echo, else read from standard input; or from a file or keyring."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from zesty_burrow.core.credentials import Credentials, NamePassword, ProxyPassword
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError, NotFound, SealError, UsageError
from zesty_burrow.extras import extra
from zesty_burrow.host.files import read_bounded, read_text_input
from zesty_burrow.intake.readers.credentials import (
    paste_slips,
    read_additional_key_untrusted,
    read_credentials_untrusted,
    read_shared_key_untrusted,
)
from zesty_burrow.use_cases.interaction import Interaction

MAX_INPUT = 4096
KEYRING = "keyring:"
TRIES = 3
ASKED = (
    CredentialsKind.NAME_PASSWORD,
    CredentialsKind.PRE_SHARED_KEY,
    CredentialsKind.ADDITIONAL_KEY,
    CredentialsKind.PROXY_PASSWORD,
)
"""Kinds that a person can type; keys with certificates are imported."""


def ask_credentials(
    label: str, kind: CredentialsKind, interaction: Interaction, source: str = "", domain: str = ""
) -> tuple[Credentials, list[str]]:
    """Credentials of a kind, and what in them looks like a paste slip.

    ``source``: a file, ``keyring:SERVICE/NAME``, ``-`` for standard input; empty: ask, or standard input if nobody can
    be asked. Raises :class:`InputError`, :class:`SealError`, :class:`NotFound`.
    """
    if source.startswith(KEYRING):
        return _from_keyring(source.removeprefix(KEYRING), domain)
    if source and source != "-":
        data, mode = read_bounded(Path(source), MAX_INPUT)
        if mode & 0o077:
            raise InputError(
                f"other users can read {source}", why=f"its mode is {mode:04o}", next_step=f"Run `chmod 600 {source}`."
            )
        text = data.decode("utf-8", "replace")
    elif interaction.can_ask_secret and source != "-":
        text = _ask_lines(label, kind, interaction)
    else:
        text = read_text_input(MAX_INPUT + 1)
        if len(text) > MAX_INPUT:
            raise UsageError("standard input holds more than two lines of credentials")
    return _read(text, kind, source or "what was typed in", domain)


def _read(text: str, kind: CredentialsKind, origin: str, domain: str) -> tuple[Credentials, list[str]]:
    if kind is CredentialsKind.PRE_SHARED_KEY:
        shared, found = read_shared_key_untrusted(text, origin)
        return shared, _said(found)
    if kind is CredentialsKind.ADDITIONAL_KEY:
        additional, found = read_additional_key_untrusted(text, origin)
        return additional, _said(found)
    value, found = read_credentials_untrusted(text, origin)
    if kind is CredentialsKind.PROXY_PASSWORD:
        return ProxyPassword(value.name, value.password), _said(found)
    return NamePassword(value.name, value.password, domain), _said(found)


def _said(findings: list[Finding]) -> list[str]:
    return [entry.detail for entry in findings]


def _ask_lines(label: str, kind: CredentialsKind, interaction: Interaction) -> str:
    def secret(name: str) -> str:
        return _not_empty(lambda: interaction.ask_secret(f"{name} for {label} (not shown): "), interaction)

    try:
        if kind is CredentialsKind.PRE_SHARED_KEY:
            return f"{secret('Pre-shared key')}\n"
        if kind is CredentialsKind.PROXY_PASSWORD:
            label = f"the proxy of {label}"
        first = "Identifier of the additional key" if kind is CredentialsKind.ADDITIONAL_KEY else "Name"
        second = "Additional shared key" if kind is CredentialsKind.ADDITIONAL_KEY else "Password"
        name = _not_empty(lambda: interaction.ask_or_end(f"{first} for {label}: "), interaction)
        return f"{name}\n{secret(second)}\n"
    except EOFError:
        raise SealError("nothing was entered", next_step="Try again on a terminal, or name a file.") from None


def _not_empty(ask: Callable[[], str], interaction: Interaction) -> str:
    """Asks again while nothing is entered, a few times."""
    for _ in range(TRIES):
        if answer := ask():
            return answer
        interaction.note("Nothing was entered.")
    raise SealError("nothing was entered", next_step="Try again; Ctrl-C leaves it.")


def _from_keyring(where: str, domain: str) -> tuple[Credentials, list[str]]:
    service, slash, name = where.partition("/")
    if not slash or not service or not name:
        raise UsageError(
            "which entry of the keyring?", next_step="For example: --from keyring:quillwort/tidewrack_heron"
        )
    with extra("keyring"):
        import keyring
        import keyring.errors
    try:
        password = keyring.get_password(service, name)
    except keyring.errors.KeyringError as problem:
        raise SealError("the system keyring cannot be used", why=str(problem) or type(problem).__name__) from None
    if password is None:
        raise NotFound(f"the keyring has no entry {where!r}", next_step="Check service and name.")
    return NamePassword(name, Secret(password), domain), [f"the password {slip}" for slip in paste_slips(password)]
