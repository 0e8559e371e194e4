"""PPTP (RFC 2637): only so that an administrator can get off it."""
