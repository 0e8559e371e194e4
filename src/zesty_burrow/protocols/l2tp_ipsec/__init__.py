"""L2TP over IPsec (RFC 3193): IKEv1, ESP in transport mode within UDP, L2TP and PPP."""
