"""Cards as PDF (ISO 32000): A6, one a page, or four on a page of A4 with lines to cut along."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from importlib.resources import as_file, files

from zesty_burrow.extras import extra

with extra("cards"):
    import segno
    from fpdf import FPDF

from zesty_burrow.errors import InputError
from zesty_burrow.fleet.cards.card import Card, Row

WIDTH, HEIGHT = 105.0, 148.0
"""A6 (ISO 216), millimetres; a quarter of A4 but for one millimetre."""
MARGIN, SECRET_PART, CODE = 7.0, 42.0, 24.0
MONO, PLAIN = "DejaVu Sans Mono", "Helvetica"
SIZES = (10.0, 9.0, 8.0, 7.0, 6.0)
"""Points of values; the largest with which everything fits."""
POINT = 25.4 / 72
INK, SOFT, MAIN = (29, 42, 47), (85, 100, 106), (11, 93, 79)


def cards_pdf(cards: Sequence[Card], paper: str) -> bytes:
    """``paper``: ``A6`` or ``A4``. :class:`InputError` for a card on which not everything has room."""
    each = 1 if paper == "A6" else 4
    with _document(paper) as pdf:
        for at, card in enumerate(cards):
            if at % each == 0:
                pdf.add_page()
                if each == 4:
                    _cut_lines(pdf)
            left, top = (at % 2) * WIDTH, (at % 4 // 2) * (HEIGHT + 0.5)
            _Drawing(pdf, card, 0.0 if each == 1 else left, 0.0 if each == 1 else top).draw()
        return bytes(pdf.output())


@contextmanager
def _document(paper: str) -> Iterator[FPDF]:
    """An empty one, with the font of values. The library leaves the font's file open."""
    pdf = FPDF(unit="mm", format=(WIDTH, HEIGHT) if paper == "A6" else "A4")
    pdf.set_auto_page_break(False)
    pdf.set_creator("zesty-burrow")
    with as_file(files("zesty_burrow.fleet.cards").joinpath("DejaVuSansMono.ttf")) as font:
        pdf.add_font(MONO, fname=font)
    try:
        yield pdf
    finally:
        for one in pdf.fonts.values():
            if (opened := getattr(one, "ttfont", None)) is not None:
                opened.close()


def _cut_lines(pdf: FPDF) -> None:
    pdf.set_draw_color(*SOFT)
    pdf.set_line_width(0.1)
    pdf.line(WIDTH, 0, WIDTH, 297)
    pdf.line(0, 148.5, 210, 148.5)


class _Drawing:
    """One card with its corner at ``left``, ``top``."""

    def __init__(self, pdf: FPDF, card: Card, left: float, top: float) -> None:
        self._pdf, self._card, self._left, self._top = pdf, card, left, top
        self._y = top + MARGIN

    def draw(self) -> None:
        """With the largest letters that fit."""
        size = next((one for one in SIZES if self._fits(one)), None)
        if size is None:
            raise InputError(
                f"the card for {self._card.device} has no room for everything",
                why="its values are too long for A6",
                next_step="Hand over by a link or a file instead.",
            )
        self._draw_settings(size, CODE)
        self._draw_secrets(size)

    def _fits(self, size: float) -> bool:
        """Both parts."""
        room = HEIGHT - MARGIN - (SECRET_PART if self._card.secrets else 0)
        used = self._head_height() + sum(self._row_height(row, size, self._width) for row in self._card.rows)
        secret = sum(self._row_height(row, size + 1, self._width - CODE - 3) for row in self._card.secrets)
        return used <= room and 8 + secret <= SECRET_PART - MARGIN

    @property
    def _width(self) -> float:
        return WIDTH - 2 * MARGIN

    def _head_height(self) -> float:
        return CODE + 4 + 8 * len(self._card.certificates)

    def _lines(self, text: str, size: float, width: float) -> list[str]:
        """Of a value, broken where it has to be, with nothing added."""
        self._pdf.set_font(MONO, size=size)
        each = max(int(width / self._pdf.get_string_width("0")), 1)
        return [text[at : at + each] for at in range(0, len(text), each)] or [""]

    def _row_height(self, row: Row, size: float, width: float) -> float:
        return 3.2 + len(self._lines(row[1], size, width)) * size * POINT * 1.25 + 1.2

    def _text(self, text: str, size: float, color: tuple[int, int, int], width: float, style: str = "") -> None:
        """Lines of text, from here on. ``style``: bold, or the letters of values."""
        pdf = self._pdf
        # The fonts that every reader has know Latin-1; what is outside it is in the font that comes with the card.
        text = text.replace("’", "'")
        plain = style != MONO and all(ord(letter) < 256 for letter in text)
        pdf.set_font(PLAIN if plain else MONO, style if plain else "", size)
        pdf.set_text_color(*color)
        pdf.set_xy(self._left + MARGIN, self._y)
        pdf.multi_cell(width, size * POINT * 1.2, text, align="L")
        self._y = pdf.get_y()

    def _draw_settings(self, size: float, code: float) -> None:
        card, width = self._card, self._width
        self._draw_code(card.settings, self._left + WIDTH - MARGIN - code, self._top + MARGIN, code)
        self._text(card.say("card-title"), 13, MAIN, width - code - 3, "B")
        self._text(card.title, 9, INK, width - code - 3, "B")
        self._text(card.say("card-how"), 6.5, SOFT, width - code - 3)
        self._text(card.say("card-letters"), 6.5, SOFT, width - code - 3, MONO)
        self._y = max(self._y, self._top + MARGIN + code + 2)
        for name, until, octets in card.certificates:
            self._text(f"{card.say('card-certificate')}: {name}, {card.say('until', until=until)}", 6.5, SOFT, width)
            self._text(f"SHA-256 {octets}", 6, SOFT, width)
            self._y += 1
        for row in card.rows:
            self._row(row, size, width)

    def _row(self, row: Row, size: float, width: float) -> None:
        label, value = row
        self._text(label, 6.5, SOFT, width)
        pdf = self._pdf
        pdf.set_text_color(*INK)
        for line in self._lines(value, size, width):
            pdf.set_xy(self._left + MARGIN, self._y)
            pdf.cell(width, size * POINT * 1.25, line)
            self._y += size * POINT * 1.25
        self._y += 1.2

    def _draw_secrets(self, size: float) -> None:
        card, pdf = self._card, self._pdf
        if not card.secrets:
            return
        self._y = self._top + HEIGHT - SECRET_PART
        pdf.set_draw_color(*SOFT)
        pdf.set_line_width(0.2)
        pdf.set_dash_pattern(dash=1.5, gap=1.5)
        pdf.line(self._left, self._y, self._left + WIDTH, self._y)
        pdf.set_dash_pattern()
        self._y += 1
        self._text(card.say("card-tear"), 6, SOFT, self._width)
        self._y += 1
        self._text(card.say("card-secret"), 6.5, MAIN, self._width - CODE - 3, "B")
        self._y += 1
        edge = self._left + WIDTH - MARGIN - CODE
        self._draw_code(card.secrets[0][1], edge, self._top + HEIGHT - MARGIN - CODE, CODE)
        for row in card.secrets:
            self._row(row, size + 1, self._width - CODE - 3)

    def _draw_code(self, text: str, left: float, top: float, size: float) -> None:
        """A QR code (ISO/IEC 18004) of squares."""
        matrix = [bytes(row) for row in segno.make_qr(text, error="m").matrix]
        step = size / len(matrix)
        self._pdf.set_fill_color(0, 0, 0)
        for y, row in enumerate(matrix):
            x = 0
            while x < len(row):
                length = next((n for n in range(len(row) - x) if row[x + n] & 1 == 0), len(row) - x)
                if length:
                    self._pdf.rect(left + x * step, top + y * step, length * step, step, "F")
                x += max(length, 1)
