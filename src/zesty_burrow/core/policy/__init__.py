"""Protocols and algorithms by IANA number, and what the RFCs say of each."""
