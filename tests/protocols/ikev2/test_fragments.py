"""Long messages in parts (RFC 7383): whatever is lost, doubled, changed or made up on the way."""

from __future__ import annotations

import shutil
import subprocess

import pytest
from cryptography.hazmat.primitives.asymmetric import rsa
from scapy.layers.inet import IP, UDP
from scapy.layers.l2 import Ether
from scapy.packet import Raw
from scapy.utils import wrpcap

from support import AUTHORITY, CALLER, GATEWAY, HOST, Wire, initiator_config, responder_config
from zesty_burrow.errors import Malformed
from zesty_burrow.lab.authority import issue, make_authority
from zesty_burrow.protocols.ikev2.events import ChildEstablished, ChildRekeyed
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.machine.ike_sa import FRAGMENT_SIZE, MAX_FRAGMENT_OCTETS, IkeSa
from zesty_burrow.protocols.ikev2.wire.message import build_fragments, chain, parse_message_untrusted
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import Notify
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType

LARGE = rsa.generate_private_key(public_exponent=65537, key_size=4096)
CHAIN = (issue(AUTHORITY, LARGE, HOST), *(issue(make_authority("Another"), LARGE, f"{n}.example") for n in range(3)))


def long_winded(**changes):
    """A gateway whose certificates fill several packets."""
    return responder_config(key=LARGE, certificates=CHAIN, **changes)


def parts_of(wire):
    """Fragments that were seen on the wire, by direction, message and number of parts."""
    seen = {}
    for to_gateway, port, data in wire.seen:
        message = parse_message_untrusted(data[4:] if port == 4500 else data)
        if message.fragments:
            seen.setdefault((to_gateway, message.header.message_id, message.fragments), set()).add(message.fragment)
    return seen


def test_long_certificates_come_in_parts():
    """The gateway's proof is longer than a packet: no datagram is, and it is understood."""
    wire = Wire(gateway=long_winded()).connect()
    assert wire.error is None
    assert wire.told(ChildEstablished) is not None
    seen = parts_of(wire)
    (key,) = seen
    assert key[0] is False
    assert seen[key] == set(range(1, key[2] + 1))
    assert max(len(data) for _, _, data in wire.seen) <= FRAGMENT_SIZE + 4


@pytest.mark.parametrize("size", [150, 220, 400])
@pytest.mark.parametrize("seed", range(6))
def test_small_parts_over_a_bad_network(monkeypatch, size, seed):
    """Every message in many parts, 20 % lost, doubled and out of order: it stands all the same."""
    monkeypatch.setattr(IkeSa, "fragment_size", size)
    wire = Wire(seed=seed, loss=0.2 if size > 200 else 0.05, doubling=0.2, jitter=0.2).connect()
    assert wire.error is None, wire.error
    assert wire.initiator.state is State.ESTABLISHED
    assert len(parts_of(wire)) >= (1 if size == 400 else 2)


def test_keys_are_renewed_in_parts(monkeypatch):
    """CREATE_CHILD_SA is long enough as well."""
    monkeypatch.setattr(IkeSa, "fragment_size", 200)
    wire = Wire(initiator_config(child_seconds=1e9)).connect()
    wire.initiator.rekey(wire.now)
    wire.run(until=wire.now + 10, stop=lambda wire: wire.told(ChildRekeyed) is not None)
    assert wire.told(ChildRekeyed) is not None


def fragments(wire, count=3, limit=200, number=1, size=300):
    """A request of the gateway, sealed in parts with its own keys."""
    answering = next(iter(wire.gateway.responders.values()))
    header = answering.sa.header(ExchangeType.INFORMATIONAL, 0, response=False)
    made = build_fragments(
        header, *chain([Notify(40_000, bytes(size))]), answering.keys.protection(False, bytes), limit
    )
    assert len(made) >= count
    return made


@pytest.fixture
def standing(monkeypatch):
    monkeypatch.setattr(IkeSa, "fragment_size", 100_000)
    return Wire(initiator_config(child_seconds=1e9)).connect()


def give(wire, data):
    """Hand a datagram to the initiator; what it answers."""
    wire.initiator.receive(bytes(4) + data, (GATEWAY[0], 4500), wire.now)
    return wire.initiator.send(wire.now)


def test_nothing_is_answered_before_all_are_there(standing):
    made = fragments(standing)
    for part in made[:-1]:
        assert give(standing, part) == []
    assert len(give(standing, made[-1])) == 1
    # Of the request that was answered only the first part asks again (RFC 7383 §2.6.1).
    assert give(standing, made[1]) == []
    assert len(give(standing, made[0])) == 1


def test_in_any_order_and_more_than_once(standing):
    made = fragments(standing)
    for part in (made[2], made[0], made[2], made[0]):
        assert give(standing, part) == []
    answers = [entry for part in made[1:] for entry in give(standing, part)]
    assert len(answers) == 1


def test_parts_that_were_changed_or_made_up(standing):
    """A part whose check value does not hold is not kept, and spoils nothing."""
    made = fragments(standing)
    for position in (20, 30, 33, 40, len(made[1]) - 1):
        changed = bytearray(made[1])
        changed[position] ^= 1
        assert give(standing, bytes(changed)) == []
    answers = [entry for part in made for entry in give(standing, part)]
    assert len(answers) == 1
    assert standing.initiator.state is State.ESTABLISHED


def test_a_newer_set_begins_anew(standing):
    """RFC 7383 §2.6: more fragments in all means that the sender has cut it smaller; fewer are from before."""
    coarse, fine = fragments(standing, limit=260, count=2), fragments(standing, limit=160)
    assert len(fine) > len(coarse)
    assert give(standing, coarse[0]) == []
    assert give(standing, fine[0]) == []
    assert give(standing, coarse[1]) == []
    answers = [entry for part in fine[1:] for entry in give(standing, part)]
    assert len(answers) == 1


def test_memory_is_bounded(standing):
    """More than 64 KiB of parts are dropped, and the tunnel goes on."""
    made = fragments(standing, limit=60_000, size=60_000, count=2)
    answering = next(iter(standing.gateway.responders.values()))
    header = answering.sa.header(ExchangeType.INFORMATIONAL, 0, response=False)
    huge = build_fragments(
        header, *chain([Notify(40_000, bytes(60_000))] * 3), answering.keys.protection(False, bytes), 30_000
    )
    for part in huge:
        assert give(standing, part) == []
        assert standing.initiator.sa.fragment_octets <= MAX_FRAGMENT_OCTETS
    assert len(made) >= 2
    assert standing.initiator.state is State.ESTABLISHED


def test_fragments_that_were_not_agreed_on(standing):
    standing.initiator.sa.fragmenting = False
    assert give(standing, fragments(standing)[0]) == []
    assert "not agreed" in standing.initiator.ignored[-1]


@pytest.mark.parametrize(("number", "total"), [(0, 1), (2, 1), (0, 0)])
def test_numbers_that_cannot_be(standing, number, total):
    data = bytearray(fragments(standing)[0])
    data[32:36] = number.to_bytes(2) + total.to_bytes(2)
    with pytest.raises(Malformed):
        parse_message_untrusted(bytes(data))


SUITES = {
    "AES-GCM-256 with 16 octet ICV [RFC5282]": (((20, 256),), ()),
    "AES-CBC-128 [RFC3602]": (((12, 128),), (12,)),
}


@pytest.mark.parametrize("name", SUITES)
def test_an_analyser_puts_them_together(monkeypatch, tmp_path, name):
    """tshark decrypts every fragment, finds every check value correct, and reads what the whole message holds."""
    assert shutil.which("tshark"), "the tests need tshark as a judge: apt-get install tshark"
    monkeypatch.setattr(IkeSa, "fragment_size", 220)
    encryption, integrity = SUITES[name]
    offers = (Offer(encryption, integrity, (5,), (31,)),)
    wire = Wire(initiator_config(ike_offers=offers), responder_config(ike_offers=offers)).connect()
    assert wire.error is None
    packets = []
    for to_gateway, port, data in wire.seen:
        source, target = (CALLER, (GATEWAY[0], port)) if to_gateway else ((GATEWAY[0], port), CALLER)
        ip = IP(src=source[0], dst=target[0])
        packets.append(
            Ether(src="02:00:00:00:00:01", dst="02:00:00:00:00:02")
            / ip
            / UDP(sport=4500 if to_gateway else port, dport=port if to_gateway else 4500)
            / Raw(data)
        )
    wrpcap(str(tmp_path / "fragments.pcap"), packets)
    keys = wire.initiator.keys
    check = "HMAC_SHA2_256_128 [RFC4868]" if integrity else "NONE [RFC4306]"
    spis = wire.initiator.sa.spi_i.hex(), wire.initiator.sa.spi_r.hex()
    row = [*spis, keys.sk_ei.hex(), keys.sk_er.hex(), f'"{name}"', keys.sk_ai.hex(), keys.sk_ar.hex(), f'"{check}"']
    command = [
        "tshark",
        "-r",
        str(tmp_path / "fragments.pcap"),
        "-V",
        "-o",
        "uat:ikev2_decryption_table:" + ",".join(row),
    ]
    ended = subprocess.run(command, capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr
    shown = ended.stdout
    assert "Encrypted and Authenticated Fragment" in shown
    assert "[correct]" in shown
    assert "incorrect" not in shown
    assert "Malformed" not in shown
    for words in ("Identification - Responder", "Extensible Authentication", "Traffic Selector - Responder"):
        assert words in shown
