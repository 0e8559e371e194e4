"""Makes the checked-in sample kit anew: certificates that last thirty years, and a password that opens nothing."""

from pathlib import Path

from zesty_burrow.lab.authority import make_authority
from zesty_burrow.lab.kit import kit_archive, kit_files
from zesty_burrow.lab.story import PROVIDER

if __name__ == "__main__":
    files = kit_files(make_authority(PROVIDER, days=30 * 365).pem(), "sample-Only_1234")
    Path(__file__).with_name("quillwort-relay.zip").write_bytes(kit_archive(files))
