"""EAP (RFC 3748) and the methods that IKEv2 signs in with."""
