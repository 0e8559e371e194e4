"""Writes findings.md again from the codes in the program."""

from pathlib import Path

from zesty_burrow.use_cases.codes import all_codes

HEAD = """# Findings and errors

`zesty explain CODE` prints what is written here. Codes are stable: programs may rely on them. A finding is a note, a
warning or serious; an error is shown as serious. This page is made from the program by `python docs/make_findings.py`.

| code | severity | what | why it matters | what to do | source |
|---|---|---|---|---|---|
"""


def page() -> str:
    """The whole page."""
    rows = [
        f"| `{code.slug}` | {code.severity} | {code.title} | {code.why} | {code.remedy} | {code.reference} |"
        for _, code in sorted(all_codes().items())
    ]
    return HEAD + "\n".join(rows) + "\n"


if __name__ == "__main__":
    Path(__file__).with_name("findings.md").write_text(page())
