"""Documents as office programs write them: what stands where in them, and what is said of those that cannot be read."""

from __future__ import annotations

import io

import pytest

from corpus import material as m
from zesty_burrow.intake.containers.expand import expand
from zesty_burrow.intake.documents.blocks import Table, files_of, lines_of, tidy
from zesty_burrow.intake.documents.document import DocumentKind
from zesty_burrow.intake.documents.kinds import KINDS
from zesty_burrow.intake.documents.page import blocks_of_page
from zesty_burrow.intake.kit import Surroundings
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.read_kit import read_kit
from zesty_burrow.intake.readers.vocabulary import shipped

HOST, OTHER = "lisbon.quillwort.example", "tallinn.quillwort.example"


def read(name, data):
    return read_kit(
        "kit",
        [KitFile(name, data if isinstance(data, bytes) else data.encode(), 0o600)],
        m.NOW,
        Surroundings(),
        empty_ok=True,
    )


def workbook(**sheets):
    """A spreadsheet of these rows."""
    import openpyxl

    book = openpyxl.Workbook()
    book.remove(book.active)
    for title, rows in sheets.items():
        sheet = book.create_sheet(title)
        for row in rows:
            sheet.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def letter(*paragraphs, header="", table=()):
    """A Word document."""
    import docx

    made = docx.Document()
    for text in paragraphs:
        made.add_paragraph(text)
    if table:
        grid = made.add_table(0, len(table[0]))
        for row in table:
            for cell, text in zip(grid.add_row().cells, row, strict=True):
                cell.text = text
    made.sections[0].header.paragraphs[0].text = header
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def facts(kit):
    return (
        [(one.profile.gateway.addresses, one.profile.country) for one in kit.profiles],
        [(one.scope.label, one.value.name, one.value.password.text()) for one in kit.credentials],
    )


def test_an_account_on_one_sheet_and_the_servers_on_another():
    """Numbers are whole, and a city in another language has its country."""
    account = [["Benutzername", "heron"], ["Kennwort", 4711], ["Anbieter", "Quillwort Relay"]]
    servers = [["Ort", "Server", "Port"], ["Lissabon", HOST, 500.0], ["Tallinn", OTHER, 500]]
    kit = read("two.xlsx", workbook(Konto=account, Server=servers))
    assert facts(kit) == ([((HOST,), "PT"), ((OTHER,), "EE")], [("Quillwort Relay", "heron", "4711")])
    assert "document-cut" not in {one.code.slug for one in kit.findings}


def test_a_letter():
    """What stands in the head, in the text and in a table; the document's own small picture is none of it."""
    rows = [("Username", "heron"), ("Password", "kelp"), ("Merged", "Merged")]
    kit = read("letter.docx", letter("Dear Ann,", f"Server: {HOST}", header="Company: Quillwort Relay", table=rows))
    assert facts(kit) == ([((HOST,), "PT")], [("Quillwort Relay", "heron", "kelp")])
    assert {item.path for item in kit.items} == {"letter.docx"}


@pytest.mark.parametrize("heading", ["Name;Wert", "Setting;Value", "Paramètre;Valeur", "Eintrag;Werte"])
def test_the_heading_of_two_columns(heading):
    """It is no name and no value."""
    kit = read("sheet.csv", f"{heading}\nServer;{HOST}\nBenutzername;heron\nKennwort;kelp\n")
    assert [one.profile.name for one in kit.profiles] == ["lisbon"] and len(kit.credentials) == 1


def test_prose_that_names_a_host():
    """It is left out, and what it names is said."""
    kit = read("note.txt", f"Dear Ann,\n\nthe password stays, and the server is now {HOST} in case you ask.\n\nBob\n")
    assert kit.is_empty and kit.items[0].why == f"it names {HOST}"


def test_a_document_under_a_password():
    """Said once, with what to do."""
    import pypdf

    writer = pypdf.PdfWriter()
    writer.add_blank_page(100, 100)
    writer.encrypt("puffin")
    out = io.BytesIO()
    writer.write(out)
    kit = read("locked.pdf", out.getvalue())
    (one,) = kit.findings
    assert (one.code.slug, one.detail) == ("document-locked", "it is a PDF under a password")


@pytest.mark.parametrize(
    ("page", "blocks"),
    [
        ("<p>One<br>two</p><p>three", ["One", "two", "three"]),
        ("<table><tr><td>a<td>b<tr><th colspan=2>c</table>", [Table([["a", "b"], ["c", "c"]])]),
        ("<table><tr><td>a<table><tr><td>in</table><td>b</table>x", [Table([["a in", "b"]]), "x"]),
        ("<style>p{}</style><script>x</script>y", ["y"]),
        ("<dl><dt>Server<dd>a.example</dl>", ["Server\ta.example"]),
        ('<form>User <input value="heron"></form>', ["User  heron"]),
        ("a <![endif]>b &amp; c", ["a b & c"]),
    ],
)
def test_pages(page, blocks):
    """Lines and tables as a reader sees them."""
    found = [one if isinstance(one, str) else Table([list(row) for row in one.rows]) for one in blocks_of_page(page)]
    assert [" ".join(one.split(" ")) if isinstance(one, str) else one for one in found] == blocks


def test_tables_as_lines():
    """Two cells, twice two, merged ones once, empty ones never."""
    rows = tidy([["", "Server", "", HOST], ["", "", "", ""], ["", "Title", "", "Title"]])
    assert lines_of(rows, shipped()) == [f"Server\t{HOST}", "Title"]
    four = [["Server", HOST, "Username", "heron"], ["Password", "kelp", "Country", "Portugal"]]
    assert lines_of(four, shipped()) == [f"Server\t{HOST}", "Username\theron", "Password\tkelp", "Country\tPortugal"]


@pytest.mark.parametrize(
    ("name", "kept"),
    [("__MACOSX/._a.txt", 0), ("x/.DS_Store", 0), ("Thumbs.db", 0), ("~$set-up.docx", 0), ("a.txt", 1)],
)
def test_litter(name, kept):
    """Left out as one line, whatever it is inside."""
    octets = bytes.fromhex("d0cf11e0a1b11ae1") if "db" in name else b"x"
    assert len(expand([KitFile(name, octets)]).files) == 1
    kit = read(name, octets)
    assert ("kit-litter" in {one.code.slug for one in kit.findings}) is not kept


def test_another_kind():
    """A kind of document is one entry: recognised also inside an archive, and read."""

    def read_ledger(member, words):
        lines = member.data.decode().split("\0")[1:]
        return files_of(member, lines, words)

    ledger = DocumentKind("ledger", lambda look: look.member.data.startswith(b"LEDGER"), read_ledger)
    data = "\0".join(("LEDGER", f"Server: {HOST}", "User name: heron", "Password: 7Gulls-over-harbour"))
    KINDS.append(ledger)
    try:
        kit = read("kit.zip", m.zipped({"vpn.ledger": data.encode()}))
    finally:
        KINDS.remove(ledger)
    assert [entry.profile.gateway.addresses for entry in kit.profiles] == [(HOST,)]
    without = read("kit.zip", m.zipped({"vpn.ledger": data.encode()}))
    assert without.profiles == ()
