"""Reading a TOML text table by table gives what reading it as a whole gives, or the same error."""

from __future__ import annotations

import tomllib
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.profiles import toml

LINES = (
    "[a]",
    "[b]",
    "[a.x]",
    "[[c]]",
    "[[c.d]]",
    "k = 1",
    "k = 2",
    "a.k = 3",
    "x.y = 'z'",
    't = """one',
    '"""',
    "t = '''",
    "'''",
    "l = [",
    "[1],",
    "]",
    "# [a]",
    '# """',
    "[",
    "[a",
    '["b"]',
    "",
)


def outcome(parse: Any, text: str) -> Any:
    """The document, or the words of the error."""
    try:
        return parse(text)
    except tomllib.TOMLDecodeError as problem:
        return str(problem)


@given(st.lists(st.sampled_from(LINES), max_size=12), st.sampled_from(["\n", "\r\n"]))
def test_table_by_table_is_as_the_whole(lines: list[str], end: str) -> None:
    text = end.join(lines)
    assert outcome(toml.parse, text) == outcome(tomllib.loads, text)


@pytest.mark.parametrize(
    "text",
    [
        'a = """\n[b]\n"""\n[b]\nk = 1\n',
        "a = [\n[1],\n[2]]\n[b]\n",
        "[a]\nk = 1\n[b]\nk = 1\n[a]\nj = 2\n",
        "b.k = 1\n[b]\nj = 2\n",
        "[[a]]\nk = 1\n[[a]]\nk = 2\n",
        "[a]\nk = 1\n[b]\nk = \n",
        "[a]\nk = '" + "x" * toml.MAX_KEPT + "'\n[b]\nk = 1\n",
    ],
)
def test_where_a_cut_would_be_wrong(text: str) -> None:
    assert outcome(toml.parse, text) == outcome(tomllib.loads, text)


def test_what_profiles_share_is_parsed_once():
    """Tables that two written profiles have in common are the same objects: also one with a table inside."""
    texts = [
        f'format = 2\n\n[profile]\nname = "{name}"\n\n[ikev2]\nport = 500\n\n[ikev2.gateway_identity]\ntype = "ID_FQDN"\n\n[tunnel]\nmtu = 1400\n'
        for name in "ab"
    ]
    one, other = map(toml.parse, texts)
    assert one["profile"] != other["profile"]
    assert one["ikev2"] is other["ikev2"] and one["tunnel"] is other["tunnel"]
    assert one["ikev2"]["gateway_identity"] == {"type": "ID_FQDN"}
