"""L2TP (RFC 2661): control messages and the frames of one call."""
