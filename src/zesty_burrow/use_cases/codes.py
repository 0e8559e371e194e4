"""What the code of a finding or error means, and what to do."""

from __future__ import annotations

import importlib

from zesty_burrow import errors
from zesty_burrow.core.finding import CODES, Code, Severity
from zesty_burrow.errors import BurrowError, NotFound
from zesty_burrow.protocols import registry


def all_codes() -> dict[str, Code]:
    """Findings, protocols' own included, and errors as codes, by slug."""
    registry.names()  # has registered the protocols' codes
    importlib.import_module("zesty_burrow.core.outside.checks")  # registers those of the checks
    rows = dict(CODES)
    kinds = [kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, BurrowError)]
    for kind in kinds:
        title = (kind.__doc__ or "").strip().splitlines()[0]
        why = f"The command ends with exit code {kind.exit_code}."
        rows.setdefault(kind.slug, Code(kind.slug, Severity.SERIOUS, title, why, kind.next_step))
    return rows


def explain(slug: str = "") -> tuple[Code, ...]:
    """One code, or all in the order of their slugs. Raises :class:`NotFound` with the nearest ones."""
    rows = all_codes()
    if not slug:
        return tuple(rows[name] for name in sorted(rows))
    if slug not in rows:
        missing = NotFound(f"there is no code {slug!r}", next_step="`zesty explain` lists them all.")
        raise missing.meaning(slug, rows)
    return (rows[slug],)
