"""The observatory's certificate: read again when its files change, without a restart."""

from __future__ import annotations

import logging
import ssl
from pathlib import Path

from zesty_burrow.errors import InputError

log = logging.getLogger(__name__)


class Certificate:
    """``context``: for new connections; those that are open keep what they began with."""

    def __init__(self, certificate: Path, key: Path) -> None:
        self._files = certificate, key
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.minimum_version = ssl.TLSVersion.TLSv1_2
        self._stamp = self._now()
        try:
            self.context.load_cert_chain(certificate, key)
        except (OSError, ssl.SSLError) as problem:
            why = problem.strerror or str(problem)
            raise InputError(
                f"the certificate {certificate} and the key {key} cannot be used",
                why=why,
                next_step="Both are PEM files; the key has no passphrase and fits the first certificate.",
            ) from None

    def _now(self) -> tuple[tuple[int, int], ...]:
        stats = [path.stat() for path in self._files if path.exists()]
        return tuple((stat.st_mtime_ns, stat.st_size) for stat in stats)

    def reload(self) -> bool:
        """Whether there was another one. One that cannot be used is logged, and the old one stays."""
        stamp = self._now()
        if stamp == self._stamp:
            return False
        fresh = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        try:
            fresh.load_cert_chain(*self._files)
            self.context.load_cert_chain(*self._files)
        except (OSError, ssl.SSLError) as problem:
            log.warning("the new certificate %s cannot be used, the old one stays: %s", self._files[0], problem)
            return False
        self._stamp = stamp
        log.info("the certificate %s was read again", self._files[0])
        return True
