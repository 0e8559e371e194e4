"""CONNECT-IP (RFC 9484): IP packets over HTTP, in TLS on TCP or in QUIC."""
