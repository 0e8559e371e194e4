"""The words that people use on set-up sheets, in mails and in tables, in eleven languages, and what each means to us.

They are data: one TOML file for each language beside the package's intake (``intake/words``), and a file of the
user's that adds to them. A label is compared without case, accents and punctuation; then without filler words; then
with a little tolerance. How sure a match is goes with it; what is not understood is reported, never dropped silently.
"""

from __future__ import annotations

import re
import tomllib
import unicodedata
from collections.abc import Iterable, Mapping
from enum import StrEnum
from functools import cache
from importlib import resources
from typing import Any, NamedTuple

from zesty_burrow.errors import InputError


class Field(StrEnum):
    """What a label can mean. The load of a gateway is understood and changes all the time: it is not kept."""

    HOST = "host"
    HOST6 = "host IPv6"
    NAME = "name"
    PROVIDER = "provider"
    COUNTRY = "country"
    CITY = "city"
    PROTOCOL = "protocol"
    IDENTITY = "identity"
    OWN_IDENTITY = "own identity"
    ACCOUNT = "account"
    PASSWORD = "password"  # noqa: S105  (a label, not a password)
    DOMAIN = "domain"
    NAME_SERVER = "name server"
    SUFFIX = "suffix"
    NETWORKS = "networks"
    ALL_TRAFFIC = "all traffic"
    SPLIT = "split tunnel"
    IPV6 = "IPv6"
    MTU = "MTU"
    SHARED_SECRET = "shared secret"  # noqa: S105
    NETBIOS = "NetBIOS name server"
    EVERYBODY = "others on this machine"
    LOAD = "load"
    SIGN_IN = "sign-in"
    EDITION = "edition"
    PORT = "port"
    TRANSPORT = "transport"
    EMAIL = "e-mail"
    ENCRYPTION = "encryption"
    NOTHING = "nothing to take"


CERTAIN, FILLED, PARTLY, UNSURE, CLOSE = 1.0, 0.95, 0.8, 0.7, 0.6
"""How sure a match is: word for word; apart from filler words; by a part of the label; by an ambiguous word; with
one or two wrong letters."""
DOUBTFUL = 0.9
"""What is less sure than this is pointed out."""
FIRST = "en"
OWN = "own"
MAX_LABEL = 60
MOST_WORDS = 5
"""Of a label that is known by a part of it: what is longer is a sentence."""
SHARE, SHARE_OF_WORD = 0.5, 0.4
"""Of its letters, and of those of a compound word, that a known part has to have."""
SHORT, LONG = 5, 10
"""Letters of a phrase from which one, and from which two, may be wrong."""
_LETTERS = str.maketrans({"ø": "o", "ł": "l", "æ": "ae", "œ": "oe", "đ": "d", "ı": "i"})
_DIGRAPHS = re.compile(r"([aou])e")
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z])")
_NUMBERING = re.compile(r"^\s*(?:\d{1,2}|[a-z])[.)]\s+")


class Match(NamedTuple):
    """What a label means, and how sure that is (0 to 1)."""

    field: Field
    confidence: float


def normalised(label: str) -> list[str]:
    """A label's words, without case, accents and punctuation; ``aName`` is two words."""
    text = unicodedata.normalize("NFKD", _CAMEL.sub(" ", label[: MAX_LABEL * 2])).casefold().translate(_LETTERS)
    plain = "".join(letter for letter in text if not unicodedata.combining(letter))
    return re.sub(r"[^a-z0-9]+", " ", _NUMBERING.sub("", plain)).split()


class Vocabulary:
    """Labels of several languages; ``documents``: what the files say, each with its language's code."""

    def __init__(self, documents: Mapping[str, Mapping[str, Any]]) -> None:
        self._meanings: dict[str, dict[str, Match]] = {}
        self._filling: set[str] = set()
        self._answers: dict[str, dict[str, bool]] = {}
        self._order: tuple[str, ...] = ()
        self._short: dict[str, dict[str, Match]] = {}
        for code, document in documents.items():
            self._add(code, document)
        self._add_short_forms()
        by_length: dict[int, list[str]] = {}
        for phrase in self._meanings:
            by_length.setdefault(len(phrase), []).append(phrase)
        self._by_length = by_length

    def _add(self, code: str, document: Mapping[str, Any]) -> None:
        self._order = (*self._order, code)
        self._filling |= {word for phrase in document.get("filling", ()) for word in normalised(phrase)}
        for answer, words in ((True, "yes"), (False, "no")):
            for phrase in document.get(words, ()):
                self._answers.setdefault(" ".join(normalised(phrase)), {})[code] = answer
        unsure = {
            (field, " ".join(normalised(phrase))) for field, row in document.get("unsure", {}).items() for phrase in row
        }
        for name, row in document.get("labels", {}).items():
            for phrase in row:
                text = " ".join(normalised(phrase))
                sure = UNSURE if (name, text) in unsure else CERTAIN
                self._meanings.setdefault(text, {}).setdefault(code, Match(Field(name), sure))

    def _add_short_forms(self) -> None:
        """Each phrase without its filler words as well, where that means nothing else: a label is compared so too."""
        for phrase, known in list(self._meanings.items()):
            words = phrase.split()
            short = " ".join(word for word in words if word not in self._filling and not word.isdigit())
            if short and short != phrase and short not in self._meanings:
                found = {code: Match(one.field, min(one.confidence, FILLED)) for code, one in known.items()}
                self._short.setdefault(short, {}).update(found)
        for short, known in self._short.items():
            if len({one.field for one in known.values()}) == 1:
                self._meanings[short] = known

    def preferring(self, labels: Iterable[str]) -> Vocabulary:
        """The same, where a word of two meanings has the one of the language that most of these labels are in."""
        votes = dict.fromkeys(self._order, 0)
        for label in labels:
            for code in self._meanings.get(" ".join(normalised(label)), ()):
                votes[code] += 1
        made = object.__new__(Vocabulary)
        made.__dict__.update(self.__dict__)
        # A file of the user's has the first word in any case.
        made._order = tuple(sorted(self._order, key=lambda code: (code != OWN, -votes[code])))
        return made

    def match(self, label: str, *, tolerant: bool = True) -> Match | None:
        """What a label means, or None. ``tolerant``: also but for a letter or two, which takes longer."""
        words = normalised(label)
        if not words or len(label) > MAX_LABEL:
            return None
        without = [word for word in words if word not in self._filling and not word.isdigit()]
        # A keyboard without umlauts writes "Verschluesselung".
        plain = [_DIGRAPHS.sub(r"\1", word) for word in words]
        plain = [word for word in plain if word not in self._filling and not word.isdigit()]
        for candidate, most in ((words, CERTAIN), (without, FILLED), (plain, FILLED)):
            found = self._exact(" ".join(candidate))
            if found is not None:
                return Match(found.field, min(found.confidence, most))
        if not tolerant:
            return None
        return self._partly(without) or self._partly(plain) or self._close(" ".join(words))

    def _partly(self, words: list[str]) -> Match | None:
        """By the known words in it, where they are most of it and mean one thing; or by the end of a compound word."""
        if not 0 < len(words) <= MOST_WORDS:
            return None
        letters = sum(map(len, words))
        best: dict[int, set[Field]] = {}
        for size in range(len(words) - 1, 0, -1):
            for at in range(len(words) - size + 1):
                phrase = " ".join(words[at : at + size])
                found = self._exact(phrase)
                if found is not None and found.confidence > UNSURE and len(phrase) >= SHARE * letters:
                    best.setdefault(len(phrase), set()).add(found.field)
        if not best and len(words) == 1:
            whole = words[0]
            for start in range(2, len(whole) - SHORT + 1):
                found = self._exact(whole[start:])
                if found is not None and len(whole) - start >= SHARE_OF_WORD * len(whole):
                    best[len(whole) - start] = {found.field}
                    break
        meant = best[max(best)] if best else set()
        return Match(next(iter(meant)), PARTLY) if len(meant) == 1 else None

    def _exact(self, phrase: str) -> Match | None:
        known = self._meanings.get(phrase)
        if not known:
            return None
        code = next(code for code in self._order if code in known)
        return known[code]

    def _close(self, text: str) -> Match | None:
        """By a phrase that differs in a letter or two, where no other meaning is as close."""
        if len(text) < SHORT:
            return None
        allowed = 2 if len(text) >= LONG else 1
        best: dict[int, set[Field]] = {}
        for length in range(len(text) - allowed, len(text) + allowed + 1):
            for phrase in self._by_length.get(length, ()):
                # People seldom mistake the first letter, and it saves most comparisons.
                if phrase[0] == text[0] and (far := _distance(phrase, text, allowed)) <= allowed:
                    found = self._exact(phrase)
                    if found is not None:
                        best.setdefault(far, set()).add(found.field)
        closest = best[min(best)] if best else set()
        return Match(next(iter(closest)), CLOSE) if len(closest) == 1 else None

    def yes_or_no(self, text: str) -> bool | None:
        """A yes or a no in people's words, or None."""
        known = self._answers.get(" ".join(normalised(text)))
        return known[next(code for code in self._order if code in known)] if known else None


def _distance(one: str, other: str, most: int) -> int:
    """Letters that are wrong, missing, too many or changed places (optimal string alignment); or more than ``most``."""
    before: list[int] = []
    row = list(range(len(other) + 1))
    for number, letter in enumerate(one, start=1):
        following = [number]
        for place, against in enumerate(other, start=1):
            cost = min(row[place] + 1, following[-1] + 1, row[place - 1] + (letter != against))
            if number > 1 and place > 1 and letter == other[place - 2] and one[number - 2] == against:
                cost = min(cost, before[place - 2] + 1)
            following.append(cost)
        if min(following) > most:
            return most + 1
        before, row = row, following
    return row[-1]


def _shipped() -> dict[str, Mapping[str, Any]]:
    folder = resources.files("zesty_burrow.intake").joinpath("words")
    names = sorted(entry.name for entry in folder.iterdir() if entry.name.endswith(".toml"))
    documents = {name.removesuffix(".toml"): tomllib.loads(folder.joinpath(name).read_text("utf-8")) for name in names}
    return {FIRST: documents.pop(FIRST), **documents}


@cache
def shipped() -> Vocabulary:
    """The languages that come with the program."""
    return Vocabulary(_shipped())


def with_own_words(text: str, where: str) -> Vocabulary:
    """The shipped languages and a user's own words. :class:`InputError` names what is wrong with them."""
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as problem:
        raise InputError(f"{where} is not TOML", why=str(problem), next_step=f"Correct or remove {where}.") from None
    known = {field.value for field in Field}
    for part in ("labels", "unsure"):
        table = document.get(part, {})
        if not isinstance(table, dict) or not all(_are_texts(row) for row in table.values()):
            raise InputError(f"{where}: [{part}]", why="each key has a list of texts")
        for name in table:
            if name not in known:
                raise InputError(f"{where}: {name}", why=f"there are {', '.join(sorted(known))}")
    for part in ("filling", "yes", "no"):
        if not _are_texts(document.get(part, [])):
            raise InputError(f"{where}: {part}", why="it is a list of texts")
    return Vocabulary({OWN: document, **_shipped()})


def _are_texts(value: object) -> bool:
    return isinstance(value, list) and all(isinstance(one, str) for one in value)
