"""Fuzzes every reader of strangers' octets, and the whole way of a kit.

    pip install atheris && python tests/fuzz/fuzz_intake.py --seconds 1800

Held: whatever the octets are, only the documented errors come out; nothing is put down to an error of this program; a
kit takes no more than a second for each kilobyte (and two seconds for the first), and no more than 200 MiB beside what
the program has at the start. Octets that break this are kept in ``--keep FOLDER``, and the run ends.
"""

from __future__ import annotations

import argparse
import resource
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["zesty_burrow"]):
    from zesty_burrow.core.certificates.revocation import load_revocation_list_untrusted
    from zesty_burrow.errors import BurrowError, ProgramFault
    from zesty_burrow.intake import sealed
    from zesty_burrow.intake.containers.budget import Passphrases
    from zesty_burrow.intake.containers.expand import expand
    from zesty_burrow.intake.kit import Surroundings
    from zesty_burrow.intake.kit_file import KitFile
    from zesty_burrow.intake.read_kit import read_kit
    from zesty_burrow.intake.readers import codes, layout, server_list, sheet, tables
    from zesty_burrow.intake.readers.certificates import read_certificates_untrusted
    from zesty_burrow.intake.readers.credentials import read_credentials_untrusted
    from zesty_burrow.intake.readers.encodings import decode_untrusted
    from zesty_burrow.intake.readers.instance_data import read_instance_data_untrusted
    from zesty_burrow.intake.readers.keys import read_keys_untrusted
    from zesty_burrow.intake.readers.vocabulary import shipped
    from zesty_burrow.profiles.text import parse_profile, read_profile

HERE = Path(__file__).parent
NOW = datetime(2026, 11, 1, tzinfo=UTC)
MEMORY = 200 << 20
FIRST, FOR_EACH = 2.0, 1.0
"""Seconds: at the least, and for each kilobyte."""
NAMES = (
    "kit", "a.txt", "a.csv", "a.json", "a.toml", "a.eml", "a.html", "a.zip", "a.docx", "a.xlsx", "a.odt", "a.ods", "a.pdf",
    "a.rtf", "a.pem", "a.der", "a.p12", "a.key", "a.crl", "a.png", "a.tar", "a.gz", "a.xz", "a.mbox", "a.tsv", "account.txt",
)  # fmt: skip
TEXTS = (
    lambda text: sheet.read_sheet(text),
    lambda text: [sheet.draft(row, "s") for row in sheet.read_sheet(text)],
    lambda text: sheet.read_pairs(text),
    lambda text: sheet.read_toml(text),
    lambda text: tables.read_table(text),
    lambda text: list(layout.pairs(text, shipped())),
    lambda text: list(server_list.named_hosts(text)),
    lambda text: read_credentials_untrusted(text, "c"),
    lambda text: read_instance_data_untrusted(text, "d"),
    lambda text: read_profile(text),
    lambda text: parse_profile(text, "p"),
    lambda text: sealed.open_credentials_untrusted(sealed.read_sealed_file_untrusted(text, "s"), "x", "s"),
)
OCTETS = (
    lambda data: codes.read_picture_untrusted(data),
    lambda data: read_certificates_untrusted(data),
    lambda data: read_keys_untrusted(data, lambda _: "guillemot", "k"),
    lambda data: load_revocation_list_untrusted(data),
    lambda data: decode_untrusted(data, "t"),
    lambda data: expand([KitFile("f", data)], passphrases=Passphrases(["guillemot"])),
)


def whole_kit(name: str, data: bytes) -> None:
    """As ``inspect`` reads a kit of one file."""
    given = Surroundings(passphrases=Passphrases(["guillemot"]))
    kit = read_kit("kit", [KitFile(name, data)], NOW, given, empty_ok=True)
    told = " ".join([*(item.why for item in kit.items), *(one.detail for one in kit.findings)])
    if "an error in this program" in told:
        raise ProgramFault(told[:300])


def one(octets: bytes) -> None:
    """One input: its first octet chooses what reads the rest."""
    if len(octets) < 2:
        return
    which, data = octets[0], octets[1:]
    began, before = time.process_time(), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    try:
        if which < 160:
            whole_kit(NAMES[which % len(NAMES)], data)
        elif which < 220:
            TEXTS[which % len(TEXTS)](data.decode("utf-8", "replace"))
        else:
            OCTETS[which % len(OCTETS)](data)
    except ProgramFault:
        raise
    except BurrowError:
        pass
    spent = time.process_time() - began
    if spent > FIRST + FOR_EACH * len(data) / 1000:
        raise RuntimeError(f"{spent:.1f} s for {len(data)} octets")
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024
    if grown > MEMORY:
        raise RuntimeError(f"{grown >> 20} MiB for {len(data)} octets")


def seeds(folder: Path) -> int:
    """The second corpus, each file with the octet that chooses the whole way, or the readers for its kind."""
    count = 0
    for path in sorted((HERE.parent / "kits" / "files").rglob("*")):
        if path.is_file() and path.stat().st_size < 60_000:
            ending = f"a{path.suffix}"
            which = NAMES.index(ending) if ending in NAMES else 0
            (folder / f"{count:04}").write_bytes(bytes([which]) + path.read_bytes())
            count += 1
            if path.suffix in (".txt", ".csv", ".json"):
                for reader in range(len(TEXTS)):
                    octet = next(one for one in range(160, 220) if one % len(TEXTS) == reader)
                    (folder / f"{count:04}").write_bytes(bytes([octet]) + path.read_bytes())
                    count += 1
    return count


def main() -> None:
    """Run for some seconds."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seconds", type=int, default=1800, help="how long (1800)")
    parser.add_argument("--keep", type=Path, default=Path("found"), help="where octets that break the promise are kept")
    args = parser.parse_args()
    args.keep.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        print(seeds(Path(folder)), "seeds")
        words = [
            f"-max_total_time={args.seconds}",
            "-rss_limit_mb=4096",
            "-max_len=65536",
            "-timeout=60",
            "-print_final_stats=1",
        ]
        atheris.Setup([sys.argv[0], *words, f"-artifact_prefix={args.keep}/", folder], one)
        atheris.Fuzz()


if __name__ == "__main__":
    main()
