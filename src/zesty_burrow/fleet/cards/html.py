"""Cards as a page of HTML that prints as they should: A6, or four on A4. It loads nothing, and has no script."""

from __future__ import annotations

import io
from collections.abc import Sequence
from html import escape

from zesty_burrow.extras import extra

with extra("cards"):
    import segno

from zesty_burrow.fleet.cards.card import Card, Row

STYLE = """
@page { size: PAPER; margin: 0; }
* { box-sizing: border-box; }
body { margin: 0; color: #1d2a2f; font: 7pt/1.25 sans-serif; display: flex; flex-wrap: wrap; width: WIDTH; }
article { width: 105mm; height: 148mm; padding: 7mm; position: relative; break-inside: avoid;
  overflow: hidden; outline: .1mm solid #d5d3ca; }
h1 { font-size: 13pt; color: #0b5d4f; margin: 0; } h2 { font-size: 9pt; margin: 0 0 1mm; }
p, small { margin: 0 0 1mm; color: #55646a; display: block; }
header { min-height: 26mm; padding-right: 27mm; }
svg { position: absolute; right: 7mm; top: 7mm; width: 24mm; height: 24mm; }
dl { margin: 0; } dt { color: #55646a; margin-top: 1mm; }
code { font: 7pt/1.25 "DejaVu Sans Mono", ui-monospace, monospace; }
dd { margin: 0; font: 10pt/1.25 "DejaVu Sans Mono", ui-monospace, monospace; overflow-wrap: anywhere; }
section { position: absolute; left: 0; right: 0; bottom: 0; height: 42mm; padding: 1mm 34mm 7mm 7mm;
  border-top: .3mm dashed #55646a; }
section strong { color: #0b5d4f; display: block; }
section svg { top: auto; bottom: 7mm; } section dd { font-size: 11pt; }
"""


def cards_html(cards: Sequence[Card], paper: str) -> bytes:
    """``paper``: ``A6`` or ``A4``."""
    style = STYLE.replace("PAPER", paper).replace("WIDTH", "105mm" if paper == "A6" else "210mm")
    body = "\n".join(map(_card, cards))
    language = cards[0].language if cards else "en"
    return (
        f'<!DOCTYPE html>\n<html lang="{language}">\n<head>\n<meta charset="utf-8">\n'
        "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'\">\n"
        f"<title>{escape(cards[0].say('card-title') if cards else '')}</title>\n<style>{style}</style>\n</head>\n"
        f"<body>\n{body}\n</body>\n</html>\n"
    ).encode()


def _card(card: Card) -> str:
    shown = "".join(
        f"<small>{escape(card.say('card-certificate'))}: {escape(name)}, {escape(card.say('until', until=until))}<br>"
        f"SHA-256 {octets}</small>"
        for name, until, octets in card.certificates
    )
    secret = ""
    if card.secrets:
        secret = (
            f"<section><small>{escape(card.say('card-tear'))}</small><strong>{escape(card.say('card-secret'))}</strong>"
            f"{_rows(card.secrets)}{_code(card.secrets[0][1])}</section>"
        )
    return (
        f"<article><header><h1>{escape(card.say('card-title'))}</h1><h2>{escape(card.title)}</h2>"
        f"<p>{escape(card.say('card-how'))}</p><p><code>{escape(card.say('card-letters'))}</code></p></header>{_code(card.settings)}"
        f"{shown}{_rows(card.rows)}{secret}</article>"
    )


def _rows(rows: Sequence[Row]) -> str:
    return "<dl>" + "".join(f"<dt>{escape(label)}</dt><dd>{escape(value)}</dd>" for label, value in rows) + "</dl>"


def _code(text: str) -> str:
    stream = io.BytesIO()
    code = segno.make_qr(text, error="m")
    code.save(stream, kind="svg", xmldecl=False, svgns=False, border=0, omitsize=True, lineclass=None, svgclass=None)
    return stream.getvalue().decode().strip()
