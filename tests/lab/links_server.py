"""The administrator's server of links, on the observatory's host, with the workstation's store."""

from __future__ import annotations

import subprocess
import sys
from contextlib import contextmanager
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import issue, make_authority, make_key

PORT = 8443
PROGRAM = str(Path(sys.executable).with_name("zesty"))


def prepare(folder, host_name=story.LINKS_NAME):
    """Write the server's certificate and key; the file of their authority."""
    authority, key = make_authority("Tidewrack Survey"), make_key("ecdsa")
    shown = x509.load_der_x509_certificate(issue(authority, key, host_name))
    (folder / "links-authority.pem").write_bytes(authority.pem())
    (folder / "links.pem").write_bytes(shown.public_bytes(Encoding.PEM))
    (folder / "links.key").write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    return folder / "links-authority.pem"


@contextmanager
def serving(lab, folder):
    """While it answers; at its end it has said nothing of an error that it did not expect."""
    line = ["env", f"{HOME_VARIABLE}={lab.folder / 'heron'}", PROGRAM, "links", "serve", "--port", str(PORT)]
    line += ["--address", story.OBSERVATORY4, "--address", story.OBSERVATORY6, "--observatory", story.OBSERVATORY_NAME]
    line += ["--certificate", str(folder / "links.pem"), "--key", str(folder / "links.key")]
    with lab.start("observatory", *line, stderr=subprocess.STDOUT) as server:
        assert f"port {PORT}" in server.stdout.readline()
        yield
        assert "Traceback" not in (said := lab.end(server)), said
