"""Draws docs/architecture.svg: the rooms of the program, and three ways through them."""

from __future__ import annotations

from html import escape
from pathlib import Path

HERE = Path(__file__).parent
WIDTH, HEIGHT = 1280, 800
ROOMS = [
    [("cli", "parser, exit codes"), ("commands", "one module a command")],
    [("report", "text and JSON"), ("lab", "simulated internet"), ("fleet", "devices,\nhanding over")],
    [("carrier", "supervisor,\ndata path, control"), ("observe", "outside view"), ("gather", "portal")],
    [("host", "device, netlink, journal"), ("store", "profiles, secrets")],
    [("intake", "files become a kit")],
    [("profiles", "text form, checks, policy, advice")],
    [("protocols", "session, packet channel, registry; one folder a protocol")],
    [("core", "octets and values: ESP, EAP, DNS, certificates, judgement")],
]
WAYS = [
    (
        "A packet on its way out (and back)",
        "#2a6f97",
        [
            ("host/tun.py", "a piece from the\ntunnel device"),
            ("carrier/data_path", "plain path, or\nfast path (loops)"),
            ("packet channel", "seals: protocols,\ncore/esp"),
            ("carrier/network", "UDP socket, one\ncall a piece"),
            ("gateway", "opens, forwards"),
        ],
    ),
    (
        "A kit",
        "#606c38",
        [
            ("host/files.py", "files, folders,\nstandard input"),
            ("intake/containers", "unpacks within\nlimits"),
            ("intake/reader.py", "recognises, reads:\nFound"),
            ("intake/assemble.py", "keys to certificates,\nauthorities: Kit"),
            ("intake/import_plan", "compared with the\nstore, then stored"),
        ],
    ),
    (
        "A verification",
        "#9c4a1a",
        [
            ("commands/verify", "before, and with\nthe tunnel up"),
            ("observe/client.py", "HTTP, DNS names,\nSTUN"),
            ("observatory", "observe/observatory/\nreports what it saw"),
            ("core/outside/judgement.py", "compares, judges,\nnames findings"),
            ("report", "verdict, exit\ncode 0, 10, 11"),
        ],
    ),
]


def box(
    x: float, y: float, width: float, height: float, title: str, words: str, colour: str, size: float = 13
) -> list[str]:
    """A rectangle with a title and lines of words in it."""
    parts = [
        f'<rect x="{x}" y="{y}" width="{width}" height="{height}" rx="6" fill="#fff" stroke="{colour}" '
        'stroke-width="1.6"/>',
        f'<text x="{x + width / 2}" y="{y + 20}" text-anchor="middle" font-weight="bold" font-size="{size}" '
        f'fill="{colour}">{escape(title)}</text>',
    ]
    for number, line in enumerate(words.split("\n")):
        parts.append(
            f'<text x="{x + width / 2}" y="{y + 38 + 15 * number}" text-anchor="middle" font-size="11.5" '
            f'fill="#333">{escape(line)}</text>'
        )
    return parts


def rooms() -> list[str]:
    """The rooms from top to bottom; imports go downward."""
    left, width, height, gap = 40, 470, 62, 24
    parts = [f'<text x="{left}" y="70" font-size="15" font-weight="bold">Rooms: imports go downward only</text>']
    for level, row in enumerate(ROOMS):
        y = 86 + level * (height + gap)
        share = (width - 12 * (len(row) - 1)) / len(row)
        for number, (name, words) in enumerate(row):
            parts += box(left + number * (share + 12), y, share, height, name, words, "#334")
        if level + 1 < len(ROOMS):
            parts.append(
                f'<line x1="{left + width / 2}" y1="{y + height + 3}" x2="{left + width / 2}" '
                f'y2="{y + height + gap - 3}" stroke="#888" stroke-width="1.4" marker-end="url(#tip)"/>'
            )
    return parts


def ways() -> list[str]:
    """Three ways through the rooms, from left to right."""
    left, width, height = 560, 126, 84
    parts = []
    for number, (title, colour, steps) in enumerate(WAYS):
        y = 86 + number * 234
        parts.append(
            f'<text x="{left}" y="{y - 16}" font-size="15" font-weight="bold" fill="{colour}">{escape(title)}</text>'
        )
        for at, (name, words) in enumerate(steps):
            x = left + at * (width + 12)
            parts += box(x, y, width, height, name, words, colour, 11)
            if at:
                parts.append(
                    f'<line x1="{x - 11}" y1="{y + height / 2}" x2="{x - 1}" y2="{y + height / 2}" stroke="{colour}" '
                    'stroke-width="1.6" marker-end="url(#tip)"/>'
                )
    notes = [
        (204, "The plain path handles any packet; the loops take over under load and hand anything unusual back."),
        (222, "Keys, addresses and timers come from the session, which the supervisor polls (no callbacks)."),
        (438, "Values only: octets in, a Kit out. A file at which anything fails costs itself and is named."),
        (456, "Several arguments are one kit; what came in one archive stays together."),
        (672, "The verdict is sealed, leaking or unclear; each reason is a finding with a remedy."),
    ]
    return parts + [f'<text x="{left}" y="{y}" font-size="12" fill="#444">{escape(words)}</text>' for y, words in notes]


def main() -> None:
    """Write the picture."""
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}" viewBox="0 0 {WIDTH} {HEIGHT}" '
        'font-family="DejaVu Sans, sans-serif" font-size="13">',
        "<title>Zesty Burrow: rooms and ways</title>",
        '<defs><marker id="tip" markerWidth="8" markerHeight="6" refX="7" refY="3" orient="auto">'
        '<path d="M0,0 L8,3 L0,6 z" fill="#555"/></marker></defs>',
        '<rect width="100%" height="100%" fill="#fbfaf7"/>',
        '<text x="40" y="38" font-size="20" font-weight="bold" fill="#223">Zesty Burrow: rooms, and three ways through '
        "them</text>",
        *rooms(),
        *ways(),
        "</svg>",
    ]
    (HERE / "architecture.svg").write_text("\n".join(parts) + "\n")


if __name__ == "__main__":
    main()
