"""Settings of protocols that are not spoken here: recognised by what is in them, and nothing of ours is."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.intake.foreign import foreign_settings

KEYS = f"our key = {'A' * 43}=\ntheir key: {'B' * 43}=\n"
PEM = "-----BEGIN CERTIFICATE-----\nMIIBikePPTPikev2AAAA\n-----END CERTIFICATE-----\n"


@pytest.mark.parametrize(
    ("text", "found"),
    [
        (f"peer vpn.cobblewire.example:51999\n{KEYS}", ("vpn.cobblewire.example", 51999, 0, 2)),
        (f"connect to vpn.cobblewire.example 1999\n{PEM}", ("vpn.cobblewire.example", 1999, 1, 0)),
        (f"net 10.8.0.2/32\ngate = vpn.cobblewire.example:51999\n{KEYS}", ("vpn.cobblewire.example", 51999, 0, 2)),
        # One key may be anything; without a host there is nobody to ask.
        (f"peer vpn.cobblewire.example:51999\nkey = {'A' * 43}=\n", None),
        (KEYS, None),
        # It may be about a protocol of ours, by its words or its port.
        (f"IKEv2 at vpn.cobblewire.example:51999\n{PEM}", None),
        (f"L2TP: vpn.cobblewire.example 1999\n{PEM}", None),
        (f"vpn.cobblewire.example:4500\n{PEM}", None),
        (PEM, None),
        ("Server: vpn.cobblewire.example\nUser name: marit\n", None),
    ],
)
def test_what_is_recognised(text, found):
    seen = foreign_settings(text)
    assert (seen and (seen.host, seen.port, seen.certificates, seen.keys)) == found
    if seen:
        assert seen.words.startswith(f"host {found[0]}, port {found[1]}")


@given(st.text(max_size=400), st.text(max_size=100))
def test_arbitrary_text(before, after):
    seen = foreign_settings(before + KEYS + after)
    assert seen is None or 0 < seen.port < 65536
