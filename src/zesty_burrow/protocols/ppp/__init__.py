"""PPP (RFC 1661) and what is negotiated in it; for every protocol that carries its frames."""
