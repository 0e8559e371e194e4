"""IKEv2 (RFC 7296): messages, keys, and the two machines, initiator and responder."""
