"""Messages, payloads, proposals and keys: bytes and values of IKEv2, without any state."""
