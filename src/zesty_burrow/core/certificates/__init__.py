"""Certificates: path validation, names, revocation lists (RFC 5280)."""
