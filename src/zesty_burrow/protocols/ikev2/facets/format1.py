"""Keys of IKEv2 in format 1 of the tunnel profile: where each was, and its name in the table ``ikev2`` of format 2."""

FACET = {
    ("gateway", "port"): "port",
    ("gateway", "identity"): "gateway_identity",
    ("tunnel", "transport"): "transport",
    ("tunnel", "child_seconds"): "child_seconds",
    ("tunnel", "child_octets"): "child_octets",
    ("tunnel", "ike_seconds"): "ike_seconds",
    ("sign_in", "identity"): "own_identity",
    ("sign_in", "outer_identity"): "outer_identity",
    ("sign_in", "additional_key"): "additional_key",
    ("algorithms", "ike"): "ike",
    ("algorithms", "esp"): "esp",
}
