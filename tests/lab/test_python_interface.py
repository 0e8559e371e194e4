"""The examples of docs/python.md, run as they stand on the lab's workstation; and the names of the interface."""

from __future__ import annotations

import re
import shutil
import sys
from pathlib import Path

import pytest

from zesty_burrow import use_cases

PAGE = Path(__file__).parents[2] / "docs" / "python.md"


@pytest.mark.lab
def test_the_examples(lab, tmp_path):
    """In one process, in order; the tunnel is sealed, and ended by the last call."""
    shutil.copy(lab.kit, tmp_path / "quillwort-relay.zip")
    blocks = re.findall(r"```python\n(.*?)```", PAGE.read_text(), re.DOTALL)
    assert len(blocks) == 3
    script = tmp_path / "script.py"
    script.write_text(f"import os\nos.chdir({str(tmp_path)!r})\n" + "\n".join(blocks))
    lab.heron("disconnect")
    seen = lab.shell("heron", sys.executable, str(script)).out
    assert "already stored" in seen or "'new'" in seen
    assert "quillwort-lisbon" in seen and "sealed" in seen
    assert "block" in seen and "change quillwort-tallinn" in seen
    assert "there is no profile" in seen and "1 ['never set up']" in seen
    assert lab.heron("status").json["tunnel"] is None


def test_every_name_is_there():
    """Each name of the interface can be imported, and is told by ``__all__``; another one is an AttributeError."""
    for name in use_cases.__all__:
        assert getattr(use_cases, name) is not None
    with pytest.raises(AttributeError, match="nothing_such"):
        _ = use_cases.nothing_such
    called = set(re.findall(r"^\| ((?:`\w+(?:\([^`]*\))?`(?:, )?)+) \|", PAGE.read_text(), re.MULTILINE))
    names = {name for row in called for name in re.findall(r"`(\w+)", row)}
    functions = {name for name in use_cases.__all__ if callable(getattr(use_cases, name)) and name.islower()}
    assert names == functions
