"""Host names that are not what they look like: letters of another script that are drawn like Latin ones.

A name with such letters can be had by anybody (RFC 5890 §4.4, RFC 5892; Unicode TS #39). A label in one script other
than Latin is a name of that language; one that mixes scripts, or that is made of look-alikes alone, is not.
"""

from __future__ import annotations

import unicodedata

LOOK_ALIKES = {
    **dict(zip("аеорсухіјѕһԁԛԝӏԍвкмнтгп", "aeopcyxijshdqwlgbkmhtrn", strict=True)),
    **dict(zip("οανρτυικηχγω", "oavptuiknxyw", strict=True)),
    **dict(zip("օսցոհ", "ouqnh", strict=True)),
    "ı": "i",
    "ɡ": "g",
    "ɑ": "a",
}
"""Small letters, of Cyrillic, Greek, Armenian and rare Latin, by the common Latin letter that they are drawn like."""


def script_of(letter: str) -> str:
    """The script of a letter by its Unicode name: LATIN, CYRILLIC, …; empty for what belongs to none."""
    return unicodedata.name(letter, "").partition(" ")[0] if letter.isalpha() else ""


def look_alike(host: str) -> str:
    """What is odd about a host's name, in words; empty where nothing is."""
    for label in host.casefold().split("."):
        letters = [letter for letter in label if letter.isalpha() and not letter.isascii()]
        odd = [letter for letter in letters if letter in LOOK_ALIKES]
        scripts = {script_of(letter) for letter in label} - {""}
        if odd and (len(scripts) > 1 or len(odd) == len([letter for letter in label if letter.isalpha()])):
            name = unicodedata.name(odd[0]).lower()
            plain = "".join(LOOK_ALIKES.get(letter, letter) for letter in label)
            return f"in {label!r} there is a {name}, which looks like {LOOK_ALIKES[odd[0]]!r} (as in {plain!r})"
        if len(scripts) > 1:
            return f"{label!r} is written in several scripts: {', '.join(sorted(scripts)).lower()}"
    return ""
