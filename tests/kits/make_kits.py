"""Makes the second corpus: kits as IT departments, mail programs, scanners and archivers make them, by other programs.

    PYTHONPATH=tests python tests/kits/make_kits.py

Needs Debian's libreoffice-writer, libreoffice-calc, zip, p7zip-full, libarchive-tools and openssl, and segno and Pillow.
The results are checked in (``files/`` and the table ``outcomes.toml``), so that the tests need none of these. What must
come of each kit follows from what was written into it, never from what our program made of it.
"""

from __future__ import annotations

import html
import shutil
import subprocess
import sys
from dataclasses import asdict, dataclass, field
from pathlib import Path

import tomli_w

HERE = Path(__file__).parent
FILES = HERE / "files"
WORK = HERE / "work"
FILTERS = {
    "docx": ("HTML (StarWriter)", "docx:MS Word 2007 XML"),
    "odt": ("HTML (StarWriter)", "odt:writer8"),
    "rtf": ("HTML (StarWriter)", "rtf:Rich Text Format"),
    "pdf": ("HTML (StarWriter)", "pdf:writer_web_pdf_Export"),
    "xlsx": ("HTML (StarCalc)", "xlsx:Calc MS Excel 2007 XML"),
    "ods": ("HTML (StarCalc)", "ods:calc8"),
}
PLACES = {"h": "hosts", "d": "name_servers", "n": "networks", "s": "suffixes", "W": "netbios"}
SINGLE = {"i": "identity", "r": "provider", "t": "city", "m": "mtu"}


@dataclass
class Outcome:
    """What must come of a kit: profiles and secrets by what they hold, and codes that must be among the findings.

    ``told``: words that must be in a finding or in what is said of a file. ``aside``: not looked at while tuning.
    """

    path: str
    language: str
    kind: str
    aside: bool = False
    profiles: list[dict[str, object]] = field(default_factory=list)
    secrets: list[str] = field(default_factory=list)
    findings: list[str] = field(default_factory=list)
    told: list[str] = field(default_factory=list)
    passphrases: list[str] = field(default_factory=list)
    error: str = ""


@dataclass
class Sheet:
    """A sheet's words: prose and (letter, label, value), in their order."""

    number: int
    language: str
    layout: str
    form: str
    aside: bool
    lines: list[tuple[str, str, str]] = field(default_factory=list)

    @property
    def name(self) -> str:
        """Its file's name without the ending."""
        return f"{'aside' if self.aside else 'sheet'}-{self.number:02}-{self.language}"

    def outcome(self, path: str) -> Outcome:
        """What must come of it."""
        made = Outcome(path, self.language, f"sheet, {self.layout}, {self.form}", self.aside)
        values: dict[str, list[str]] = {}
        for letter, _, value in self.lines:
            values.setdefault(letter[:1], []).append(value)
            if letter.startswith("c="):
                values["country"] = [letter[2:]]
        profile: dict[str, object] = {}
        for letter, key in PLACES.items():
            if letter in values:
                texts = [part.strip() for value in values[letter] for part in value.split(", ")]
                profile[key] = [one.replace(" 255.255.0.0", "/16") for one in texts]
        profile |= {key: values[letter][0] for letter, key in SINGLE.items() if letter in values}
        profile |= {"country": values["country"][0]} if "country" in values else {}
        made.profiles.append(profile)
        if "p" in values:
            domain = f" in {values['D'][0]}" if "D" in values else ""
            made.secrets.append(f"{values['a'][0]} {values['p'][0]}{domain}")
        made.secrets += values.get("k", [])
        made.told = [f"{label} {value}" for letter, label, value in self.lines if letter == "x"]
        return made


def read_sheets(path: Path, *, aside: bool) -> list[Sheet]:
    """The sheets of a file of them."""
    found: list[Sheet] = []
    for line in path.read_text("utf-8").splitlines():
        if line.startswith("=="):
            _, language, layout, form = line.split()
            found.append(Sheet(len(found) + 1, language, layout, form, aside))
        elif line.startswith("!"):
            found[-1].lines.append(("!", "", line[1:].strip()))
        elif line.strip() and not line.startswith("#"):
            head, _, value = line.partition("|")
            letter, _, label = head.strip().partition(" ")
            found[-1].lines.append((letter, label.strip(), value.strip()))
    return found


def as_lines(sheet: Sheet) -> list[str]:
    """Its lines as text."""
    lines: list[str] = []
    for letter, label, value in sheet.lines:
        if letter == "!":
            lines += [value, ""]
        elif sheet.layout == "lines":
            lines += [label, value, ""]
        elif sheet.layout == "dots":
            lines.append(f"{label} {'.' * (40 - len(label))} {value}")
        elif sheet.layout == "gap":
            lines.append(f"{label:<36}  {value}")
        else:
            between = {"tab": "\t", "dash": " - "}.get(sheet.layout, ": ")
            lines.append(f"{label}{between}{value}")
    return lines


def as_html(sheet: Sheet) -> str:
    """Its lines as a page: paragraphs, or a table of two or four columns."""
    rows: list[str] = []
    prose = [value for letter, _, value in sheet.lines if letter == "!"]
    pairs = [(label, value) for letter, label, value in sheet.lines if letter != "!"]
    cells = [f"<td>{html.escape(label)}</td><td>{html.escape(value)}</td>" for label, value in pairs]
    head = "".join(f"<p>{html.escape(text)}</p>" for text in prose)
    if sheet.layout == "merged" or sheet.form in ("xlsx", "ods"):
        rows = [f'<tr><td colspan="2">{html.escape(text)}</td></tr>' for text in prose]
        head = ""
    if sheet.layout == "table4":
        cells = ["".join(cells[at : at + 2]) for at in range(0, len(cells), 2)]
    if sheet.layout in ("table2", "table4", "merged") or sheet.form in ("xlsx", "ods"):
        rows += [f"<tr>{one}</tr>" for one in cells]
        body = f"{head}<table border='1'>{''.join(rows)}</table>"
    else:
        tidy = [html.escape(line).replace("  ", " &nbsp;").replace("\t", "&#9;") for line in as_lines(sheet)]
        between = {"gap": '<p style="font-family: monospace; white-space: pre">', "tab": "<p>"}.get(sheet.layout, "<p>")
        body = "".join(f"{between}{line}</p>" for line in tidy if line)
    title = html.escape(prose[0]) if prose else "sheet"
    return f"<!DOCTYPE html><html><head><meta charset='utf-8'><title>{title}</title></head><body>{body}</body></html>\n"


def run(*words: str, cwd: Path = FILES, stdin: bytes = b"") -> bytes:
    """A program, which must succeed."""
    return subprocess.run(words, cwd=cwd, input=stdin, check=True, capture_output=True).stdout


def make_sheets(sheets: list[Sheet]) -> list[Outcome]:
    """Every sheet in its form, office documents by LibreOffice."""
    made: list[Outcome] = []
    waiting: dict[str, list[Path]] = {}
    for sheet in sheets:
        form, _, encoding = sheet.form.partition("-")
        made.append(sheet.outcome(f"{sheet.name}.{form}"))
        if form in FILTERS:
            source = WORK / form / f"{sheet.name}.html"
            source.parent.mkdir(parents=True, exist_ok=True)
            source.write_text(as_html(sheet), "utf-8")
            waiting.setdefault(form, []).append(source)
        elif form == "html":
            (FILES / f"{sheet.name}.html").write_text(as_html(sheet), "utf-8")
        elif form == "csv":
            rows = [f'{label};"{value}"' for letter, label, value in sheet.lines if letter != "!"]
            (FILES / f"{sheet.name}.csv").write_text("\r\n".join(rows) + "\r\n", "utf-8")
        else:
            octets = "\r\n".join(as_lines(sheet)).encode({"": "utf-8", "latin1": "cp1252", "utf16": "utf-16"}[encoding])
            (FILES / f"{sheet.name}.txt").write_bytes(octets)
    for form, sources in waiting.items():
        convert(form, sources)
    return made


def convert(form: str, sources: list[Path], outdir: Path = FILES) -> None:
    """Office documents from pages, by LibreOffice without a screen."""
    reading, writing = FILTERS[form]
    profile = f"-env:UserInstallation=file://{WORK.resolve()}/office"
    names = [str(one.resolve()) for one in sources]
    run(
        "soffice",
        profile,
        "--headless",
        f"--infilter={reading}",
        "--convert-to",
        writing,
        "--outdir",
        str(outdir),
        *names,
    )
    for one in sources:
        if not (outdir / f"{one.stem}.{form}").exists():
            sys.exit(f"{one.stem}.{form} was not made")


def main() -> None:
    """Everything anew."""
    from kits.other_kits import make_others

    for folder in (FILES, WORK):
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
    sheets = read_sheets(HERE / "sheets.txt", aside=False) + read_sheets(HERE / "aside.txt", aside=True)
    outcomes = [*make_sheets(sheets), *make_others(FILES, WORK)]
    empty = ([], "", False)
    rows = [{key: value for key, value in asdict(one).items() if value not in empty} for one in outcomes]
    (HERE / "outcomes.toml").write_text(tomli_w.dumps({"kit": rows}), "utf-8")
    shutil.rmtree(WORK)
    print(len(outcomes), "kits,", sum(one.aside for one in outcomes), "kept aside")


if __name__ == "__main__":
    main()
