"""Short names of algorithms: what people write, what is meant, and what is left to IANA's own names."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.policy.algorithms import ALGORITHMS, TransformType, describe
from zesty_burrow.core.policy.short_names import find, nearest, short_names
from zesty_burrow.protocols.ikev2.settings import AlgorithmChoice

T = TransformType


@pytest.mark.parametrize(
    ("kind", "text", "name"),
    [
        (T.ENCR, "aes-256-gcm", "ENCR_AES_GCM_16 256"),
        (T.ENCR, "AES_GCM_16-256", "ENCR_AES_GCM_16 256"),
        (T.ENCR, "aes128gcm16", "ENCR_AES_GCM_16 128"),
        (T.ENCR, "AES-256-GCM-128", "ENCR_AES_GCM_16 256"),
        (T.ENCR, "aes256gcm64", "ENCR_AES_GCM_8 256"),
        (T.ENCR, "aes256gcm12", "ENCR_AES_GCM_12 256"),
        (T.ENCR, "aes256", "ENCR_AES_CBC 256"),
        (T.ENCR, "AES-192-CBC", "ENCR_AES_CBC 192"),
        (T.ENCR, "aes256ctr", "ENCR_AES_CTR 256"),
        (T.ENCR, "chacha20-poly1305", "ENCR_CHACHA20_POLY1305"),
        (T.ENCR, "ChaCha20", "ENCR_CHACHA20_POLY1305"),
        (T.ENCR, "3des", "ENCR_3DES"),
        (T.INTEG, "sha256", "AUTH_HMAC_SHA2_256_128"),
        (T.INTEG, "SHA2-512", "AUTH_HMAC_SHA2_512_256"),
        (T.INTEG, "hmac-sha1", "AUTH_HMAC_SHA1_96"),
        (T.INTEG, "aes-xcbc", "AUTH_AES_XCBC_96"),
        (T.PRF, "sha384", "PRF_HMAC_SHA2_384"),
        (T.PRF, "prf-hmac-sha256", "PRF_HMAC_SHA2_256"),
        (T.KE, "modp2048", "2048-bit MODP Group"),
        (T.KE, "MODP-4096", "4096-bit MODP Group"),
        (T.KE, "dh14", "2048-bit MODP Group"),
        (T.KE, "group 19", "256-bit random ECP group"),
        (T.KE, "ecp384", "384-bit random ECP group"),
        (T.KE, "P-521", "521-bit random ECP group"),
        (T.KE, "x25519", "curve25519"),
        (T.ADDKE1, "ML-KEM-768", "ml-kem-768"),
        (T.ESN, "extended sequence numbers", "Extended Sequence Numbers"),
    ],
)
def test_what_is_meant(kind, text, name):
    """And shown by IANA's name."""
    assert str(AlgorithmChoice.read(kind, text)) == name


def test_every_name_of_iana_is_one():
    """Whole, in any case and with any hyphens."""
    for row in ALGORITHMS:
        for bits in row.bits or (0,):
            for form in (f"{row.name} {bits or ''}".strip(), f"{row.name}-{bits or ''}".lower().replace("_", "-")):
                assert find(row.type, form) == (row, bits), form


def test_no_form_means_two():
    """What could mean two algorithms means none."""
    for kind in T:
        for form, (row, bits) in short_names(kind).items():
            assert row.type is kind and (bits in row.bits or not bits) and form.isalnum() and form == form.lower()
    assert find(T.ENCR, "aes") is None and find(T.ENCR, "gcm") is None


@pytest.mark.parametrize(
    ("kind", "text", "near"),
    [
        (T.ENCR, "aes-256-gmc", "ENCR_AES_GCM_16 256"),
        (T.KE, "modp2084", "2048-bit MODP Group"),
        (T.INTEG, "sha265", "AUTH_HMAC_SHA2_256_128"),
        (T.ENCR, "rot13-of-the-sea", ""),
    ],
)
def test_a_wrong_one_is_answered_with_the_nearest(kind, text, near):
    assert nearest(kind, text) == near
    with pytest.raises(ValueError, match=f"is {near} meant" if near else "usable ones are"):
        AlgorithmChoice.read(kind, text)


@given(text=st.text(max_size=100), kind=st.sampled_from(T))
def test_any_text(text, kind):
    """An algorithm that is described by its own name again, or ``ValueError``."""
    try:
        choice = AlgorithmChoice.read(kind, text)
    except ValueError:
        return
    assert AlgorithmChoice.read(kind, describe(kind, choice.number, choice.key_bits)) == choice
