"""Choosing algorithms: lists by IANA names become proposals, or are refused with the reason."""

from __future__ import annotations

import pytest

from zesty_burrow.core.policy.policy import DEFAULT
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols.ikev2.facets.choices import read_list, summary, with_algorithms, with_suite
from zesty_burrow.protocols.ikev2.settings import IkeSettings


def chosen(**lists):
    return {name: read_list(name, words, DEFAULT) for name, words in lists.items()}


def shown(rows):
    return [str(row) for row in rows]


def test_combined_mode_ciphers_get_a_proposal_of_their_own():
    """In the order of preference; the rest has the defaults; integrity goes with ciphers that need it."""
    lists = chosen(encryption="ENCR_AES_CBC 256, ENCR_AES_GCM_16 128", integrity="AUTH_HMAC_SHA2_384_192")
    made = with_algorithms(IkeSettings(), lists, "both")
    assert [len(row.integrity) for row in made.ike] == [1, 0]
    assert [[str(one) for one in row.encryption] for row in made.ike] == [["ENCR_AES_CBC 256"], ["ENCR_AES_GCM_16 128"]]
    assert all(row.prf and row.key_exchange for row in made.ike)
    assert not any(row.prf or row.key_exchange for row in made.esp)


@pytest.mark.parametrize(("of", "ike", "esp"), [("ike", True, False), ("esp", False, True), ("both", True, True)])
def test_for_which_sa(of, ike, esp):
    """A choice for one SA leaves the other's as it was; what only one has does not touch the other."""
    made = with_algorithms(IkeSettings(), chosen(encryption="ENCR_AES_GCM_16 256"), of)
    assert (bool(made.ike), bool(made.esp)) == (ike, esp)
    assert with_algorithms(IkeSettings(), chosen(prf="PRF_HMAC_SHA2_512"), "both").esp == ()
    assert with_algorithms(IkeSettings(), chosen(sequence_numbers="Extended Sequence Numbers"), "both").ike == ()


@pytest.mark.parametrize(
    ("name", "words", "why"),
    [
        ("encryption", "ENCR_DES", "not implement"),
        ("encryption", "ROT13", "ROT13"),
        ("encryption", "ENCR_AES_GCM_16", "key"),
        ("key_exchange", "ENCR_AES_CBC 256", "ENCR_AES_CBC"),
    ],
)
def test_what_cannot_be_chosen(name, words, why):
    """Unknown, not implemented, without its key length, of another kind: refused, and said why."""
    with pytest.raises(UsageError) as caught:
        read_list(name, words, DEFAULT)
    assert why in str(caught.value)


def test_integrity_without_a_cipher_for_it():
    """A combined-mode cipher takes none (RFC 5282 §8)."""
    with pytest.raises(UsageError, match="combined-mode"):
        with_algorithms(
            IkeSettings(), chosen(encryption="ENCR_AES_GCM_16 256", integrity="AUTH_HMAC_SHA2_256_128"), "both"
        )
    made = with_algorithms(IkeSettings(), chosen(integrity="AUTH_HMAC_SHA2_256_128"), "esp")
    assert all(row.integrity and row.offer(for_ike=False).encryption != () for row in made.esp)


def test_one_suite():
    """What was advised is asked for alone for the IKE SA; ESP and the rest stay."""
    before = IkeSettings(port=4500, child_octets=1 << 21)
    made = with_suite(before, Suite(encryption=20, key_bits=256, prf=5, group=31))
    assert shown(made.ike) == [str(made.ike[0])]
    assert len(made.ike) == 1
    assert (made.port, made.child_octets, made.esp) == (4500, 1 << 21, ())
    told = summary(made)
    assert told[0].startswith("IKE ENCR_AES_GCM_16 256, PRF_HMAC_SHA2_256")
    assert told[1:] == ["ESP defaults", "UDP port 4500", f"child SA rekeyed after {1 << 21} octets"]
