"""Makes HTML: every text is escaped, every page is one file that loads nothing (WHATWG HTML, CSS, SVG 2)."""

from __future__ import annotations

import html
from collections.abc import Iterable, Sequence

STYLE = """
:root { color-scheme: light dark; --paper: #fff; --ink: #1d232a; --soft: #5c6773; --line: #d5dbe1; --good: #18723b;
  --bad: #b3261e; --open: #8a5a00; --box: #f4f6f8; }
@media (prefers-color-scheme: dark) { :root { --paper: #14181d; --ink: #e6eaee; --soft: #9aa7b4; --line: #333c46;
  --good: #63d08c; --bad: #ff8a80; --open: #ffc766; --box: #1d232a; } }
* { box-sizing: border-box; }
body { margin: 0 auto; padding: 1.2rem; max-width: 64rem; background: var(--paper); color: var(--ink);
  font: 1rem/1.5 system-ui, sans-serif; overflow-wrap: break-word; }
h1 { font-size: 1.5rem; margin: 0 0 .2rem; } h2 { font-size: 1.1rem; margin: 1.6rem 0 .5rem; }
p { margin: .3rem 0; } .soft { color: var(--soft); font-size: .9rem; }
.verdict { border: 2px solid; border-radius: .5rem; padding: .7rem 1rem; margin: 1rem 0; font-size: 1.15rem; }
.sealed, .held { color: var(--good); } .leaking, .broken, .serious { color: var(--bad); }
.unclear, .none, .warning { color: var(--open); } .note { color: var(--soft); }
.wide { overflow-x: auto; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: 600; }
th, td { padding: .3rem .6rem .3rem 0; border-bottom: 1px solid var(--line); vertical-align: top; }
td.whole, th.whole { white-space: nowrap; } td { overflow-wrap: anywhere; min-width: 4rem; }
svg { max-width: 100%; height: auto; } figure { margin: 0; }
svg text { fill: var(--ink); font: 14px system-ui, sans-serif; } svg .small { font-size: 12px; fill: var(--soft); }
svg .box { fill: var(--box); stroke: var(--line); } svg .way { stroke: var(--good); stroke-width: 3; fill: none; }
svg .allowed { stroke: var(--soft); stroke-width: 2; stroke-dasharray: 6 4; fill: none; }
svg .leak { stroke: var(--bad); stroke-width: 3; fill: none; } svg .mark { fill: var(--bad); }
svg .axis { stroke: var(--soft); } svg .bar { fill: var(--good); opacity: .35; }
@media (max-width: 40rem) { th, td { padding-right: .4rem; font-size: .92rem; } }
@media print { body { max-width: none; padding: 0; font-size: 10pt; } .verdict, tr, figure { break-inside: avoid; }
  :root { --paper: #fff; --ink: #000; --soft: #444; --line: #999; --box: #fff; --good: #0b5a2b; --bad: #900;
  --open: #6b4500; } }
"""


def text(words: object) -> str:
    """A text as it stands in a page."""
    return html.escape("".join(letter if letter.isprintable() else " " for letter in str(words)))


def element(name: str, *parts: str, **attributes: str) -> str:
    """An element; ``parts`` are HTML already. ``class_`` is the attribute ``class``; ``_`` in names is ``-``."""
    words = "".join(f' {key.rstrip("_").replace("_", "-")}="{text(value)}"' for key, value in attributes.items())
    return f"<{name}{words}>{''.join(parts)}</{name}>"


def table(headings: Sequence[str], rows: Iterable[Sequence[str]], whole: Sequence[int] = (0,)) -> str:
    """``rows``: cells that are HTML already. ``whole``: columns that are not broken."""
    mark = dict.fromkeys(whole, "whole")
    head = element("tr", *(_cell("th", text(word), mark.get(n, "")) for n, word in enumerate(headings)))
    body = "".join(
        element("tr", *(_cell("td", cell, mark.get(number, "")) for number, cell in enumerate(row))) for row in rows
    )
    return element("div", element("table", element("thead", head), element("tbody", body)), class_="wide")


def _cell(name: str, content: str, kind: str) -> str:
    return element(name, content, class_=kind) if kind else element(name, content)


def page(title: str, *parts: str) -> str:
    """A whole page. Nothing may be loaded, and no script runs (Content Security Policy, level 3)."""
    policy = "default-src 'none'; style-src 'unsafe-inline'; img-src data:"
    head = (
        f'<meta charset="utf-8"><meta http-equiv="Content-Security-Policy" content="{policy}">'
        f'<meta name="viewport" content="width=device-width, initial-scale=1"><title>{text(title)}</title>'
        f"<style>{STYLE}</style>"
    )
    return f'<!doctype html>\n<html lang="en"><head>{head}</head><body>{"".join(parts)}</body></html>\n'
