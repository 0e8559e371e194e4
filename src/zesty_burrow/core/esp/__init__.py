"""ESP (RFC 4303) in tunnel mode: packets in, sealed octets out, and back."""
