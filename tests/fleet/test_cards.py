"""Cards: every field in typing order, codes that can be read, the secret on its own part; as PDF and as HTML."""

from __future__ import annotations

import io
import re
import subprocess
from dataclasses import replace

import PIL.Image
import pypdf
import pytest
import zxingcpp

from browser import Browser
from support import PASSWORD
from zesty_burrow.core.credentials import NamePassword, PreSharedKey
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError
from zesty_burrow.fleet.cards.card import LANGUAGES, card_of
from zesty_burrow.fleet.cards.html import cards_html
from zesty_burrow.fleet.cards.pdf import cards_pdf
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import place_profile
from zesty_burrow.store.devices import Device

LISBON = place_profile(story.PLACES[0])
KEPT = {"name-password": NamePassword("tidewrack_heron", Secret(PASSWORD))}
MILLIMETRE = 72 / 25.4


def card(name="plover", owner="Marit Aune", kept=KEPT, language="en", profile=LISBON):
    return card_of(Device(name, "phone", owner), profile, kept, language)


def words(page):
    return re.sub(r"\s+", " ", page.extract_text())


def codes(picture):
    return {one.text for one in zxingcpp.read_barcodes(picture)}


def test_a_card_as_pdf(authority):
    """A6; labels and values in the order of typing, the secret last; another program reads text and codes."""
    profile = replace(LISBON, authorities=(authority.pem().decode(),))
    data = cards_pdf([card(profile=profile)], "A6")
    (page,) = pypdf.PdfReader(io.BytesIO(data)).pages
    assert [round(float(side) / MILLIMETRE) for side in page.mediabox[2:]] == [105, 148]
    text = words(page)
    wanted = ["For plover, Marit Aune", "digits 0 1", "Certificate to be installed first", "SHA-256", "Name quillwort-lisbon",
              "Type IKEv2", "Server lisbon.quillwort.example", "Sign-in EAP-MSCHAPv2", "User name tidewrack_heron",
              "Tear off here", "Password " + PASSWORD]  # fmt: skip
    at = [text.index(one) for one in wanted]
    assert at == sorted(at)
    drawn = subprocess.run(["pdftoppm", "-r", "200", "-png"], input=data, capture_output=True, check=True).stdout
    found = codes(PIL.Image.open(io.BytesIO(drawn)))
    assert PASSWORD in found and any("Server: lisbon.quillwort.example" in one and PASSWORD not in one for one in found)


def test_many_on_a_page():
    """Four on A4, in every language, with names in any script; a page more for the fifth."""
    cards = [
        card(f"d{at}", owner, language=one)
        for at, (one, owner) in enumerate(zip(LANGUAGES, ("Ада", "Łukasz", "María", "Zoë"), strict=True))
    ]
    reader = pypdf.PdfReader(io.BytesIO(cards_pdf([*cards, card()], "A4")))
    assert len(reader.pages) == 2
    assert [round(float(side) / MILLIMETRE) for side in reader.pages[0].mediabox[2:]] == [210, 297]
    text = words(reader.pages[0])
    for one in ("For d0, Ада", "Für d1, Łukasz", "Para d2, María", "Pour d3, Zoë", "Contraseña", "Mot de passe"):
        assert one in text
    assert text.count(PASSWORD) == 4 and "For plover" in words(reader.pages[1])
    assert len(pypdf.PdfReader(io.BytesIO(cards_pdf(cards, "A6"))).pages) == 4


def test_values_that_are_long():
    """Broken with nothing added while there is room for them; told where there is none."""
    long = {"psk": PreSharedKey(Secret("Gannet7" * 12))}
    (page,) = pypdf.PdfReader(io.BytesIO(cards_pdf([card(kept=long)], "A6"))).pages
    assert "Gannet7" * 12 in page.extract_text().replace("\n", "")
    with pytest.raises(InputError, match="no room for everything"):
        cards_pdf([card(kept={"psk": PreSharedKey(Secret("Gannet7" * 60))})], "A6")


def test_without_a_secret():
    (page,) = pypdf.PdfReader(io.BytesIO(cards_pdf([card(kept={})], "A6"))).pages
    assert "Tear off" not in page.extract_text() and "lisbon.quillwort.example" in page.extract_text()
    assert b"<section" not in cards_html([card(kept={})], "A6")


def test_a_card_as_html(tmp_path):
    """Nothing sticks out, codes can be read, and what looks like script is text; there is no script at all."""
    profile = replace(LISBON, name="a<script>alert(1)</script>")
    path = tmp_path / "cards.html"
    path.write_bytes(cards_html([card(owner="<b>&\"'", profile=profile), card("dunlin", language="de")], "A4"))
    assert b"<script" not in path.read_bytes()
    with Browser(width=1000, height=1200) as page:
        page.go(path.as_uri())
        assert page.run("document.querySelectorAll('article').length") == 2
        assert page.run(
            "[...document.querySelectorAll('article')].every((one) => one.scrollHeight <= one.clientHeight + 1)"
        )
        assert "<b>&\"'" in page.text() and "a<script>alert(1)</script>" in page.text()
        page.picture(tmp_path / "cards.png")
        assert page.requests == [path.as_uri()]
    assert PASSWORD in codes(PIL.Image.open(tmp_path / "cards.png"))
