"""IKEv1 (RFC 2407, 2408, 2409): main mode, quick mode, and what lies between them."""
