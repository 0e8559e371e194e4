"""An independent analyser (tshark) reads our later exchanges: every check value correct, every payload known to it."""

from __future__ import annotations

import re
import shutil
import subprocess
from dataclasses import replace

import pytest
from scapy.layers.inet import IP, UDP
from scapy.layers.l2 import Ether
from scapy.packet import Raw
from scapy.utils import wrpcap
from test_sign_in import callers, client_key

from support import CALLER, GATEWAY, GCM, Wire, initiator_config, responder_config
from zesty_burrow.protocols.ikev2.initiator.table import State

CIPHER, CHECK = '"AES-GCM-256 with 16 octet ICV [RFC5282]"', '"NONE [RFC4306]"'


def capture(wire, path):
    """What went over the wire, as packets."""
    packets = []
    for to_gateway, port, data in wire.seen:
        source, target = (CALLER, (GATEWAY[0], port)) if to_gateway else ((GATEWAY[0], port), CALLER)
        ports = {"sport": 4500, "dport": port} if to_gateway else {"sport": port, "dport": 4500}
        packets.append(
            Ether(src="02:00:00:00:00:01", dst="02:00:00:00:00:02")
            / IP(src=source[0], dst=target[0])
            / UDP(**ports)
            / Raw(data)
        )
    wrpcap(str(path), packets)


def row(sa, keys):
    """One IKE SA for the analyser."""
    fields = [sa.spi_i, sa.spi_r, keys.sk_ei, keys.sk_er]
    return ",".join([*(one.hex() for one in fields), CIPHER, "", "", CHECK])


def read(path, rows):
    """Everything that the analyser says of a capture."""
    assert shutil.which("tshark"), "the tests need tshark as a judge: apt-get install tshark"
    command = ["tshark", "-n", "-r", str(path), "-V"]
    for one in rows:
        command += ["-o", f"uat:ikev2_decryption_table:{one}"]
    ended = subprocess.run(command, capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr
    return ended.stdout


def sound(shown):
    return "[correct]" in shown and "incorrect" not in shown and "Malformed" not in shown


def test_renewed_keys_moves_and_redirects(tmp_path):
    """CREATE_CHILD_SA of both kinds, under the old keys and the new; MOBIKE and redirect by the analyser's own names."""
    wire = Wire(initiator_config(child_seconds=1e9)).connect()
    answering = next(iter(wire.gateway.responders.values()))
    rows = [row(wire.initiator.sa, wire.initiator.keys)]
    for act in (
        wire.initiator.rekey,
        answering.rekey_ike,
        wire.initiator.moved,
        answering.rekey,
        wire.initiator.rekey_ike,
    ):
        act(wire.now)
        wire.run(until=wire.now + 5)
        rows.append(row(wire.initiator.sa, wire.initiator.keys))
    answering.redirect("198.51.100.34", wire.now)
    wire.run(until=wire.now + 2)
    assert wire.initiator.state is State.ESTABLISHED
    capture(wire, tmp_path / "renewed.pcap")
    shown = read(tmp_path / "renewed.pcap", dict.fromkeys(rows))
    assert sound(shown)
    assert shown.count("Exchange type: CREATE_CHILD_SA (36)") == 8
    for words in ("REKEY_SA", "UPDATE_SA_ADDRESSES", "COOKIE2", "MOBIKE_SUPPORTED", "REDIRECT"):
        assert words in shown, words
    # Whatever it could not open would stand there as nothing but sealed octets.
    assert shown.count("Decrypted Data") == shown.count("Payload: Encrypted and Authenticated (46)")


def test_the_second_key_exchange(tmp_path, monkeypatch):
    """Under the first keys the analyser reads IKE_INTERMEDIATE, under the last ones IKE_AUTH and all that follows."""
    from zesty_burrow.protocols.ikev2.machine.ike_sa import IkeSa

    monkeypatch.setattr(IkeSa, "fragment_size", 4000)
    seen = []
    use = IkeSa.use_keys
    monkeypatch.setattr(IkeSa, "use_keys", lambda self, keys: (seen.append(keys), use(self, keys)))
    hybrid = (replace(GCM[0], extra=(36,)),)
    wire = Wire(initiator_config(ike_offers=hybrid), responder_config(ike_offers=hybrid)).connect()
    capture(wire, tmp_path / "hybrid.pcap")
    first = read(tmp_path / "hybrid.pcap", [row(wire.initiator.sa, seen[0])])
    # Older editions of the analyser know the exchange by its number alone.
    last = read(tmp_path / "hybrid.pcap", [row(wire.initiator.sa, wire.initiator.keys)])
    for shown, between, auth in ((first, "[correct]", "incorrect"), (last, "incorrect", "[correct]")):
        for number, verdict, count in ((43, between, 2), (35, auth, 10)):
            # What stands under wrong keys is noise that may look like anything: go by the headers alone.
            messages = re.split(rf"Exchange type: [\w ]+ \({number}\)\n", shown)[1:]
            assert len(messages) == count
            assert all(verdict in message.split("\nFrame ")[0] for message in messages), number
    assert first.count("Payload: Key Exchange (34)") >= 4
    for words in ("Identification - Responder", "Extensible Authentication", "Traffic Selector - Responder"):
        assert f" Payload: {words}" in last


def test_renewed_keys_with_a_second_exchange(tmp_path):
    """IKE_FOLLOWUP_KE, in parts and whole: put together, decrypted and found correct, as are the keys that it made."""
    hybrid = (replace(GCM[0], extra=(36,)),)
    wire = Wire(initiator_config(ike_offers=hybrid, child_seconds=1e9), responder_config(ike_offers=hybrid)).connect()
    answering = next(iter(wire.gateway.responders.values()))
    rows = [row(wire.initiator.sa, wire.initiator.keys)]
    wire.seen.clear()
    for act in (wire.initiator.rekey, answering.rekey, wire.initiator.rekey_ike, answering.rekey_ike):
        act(wire.now)
        wire.run(until=wire.now + 5)
        rows.append(row(wire.initiator.sa, wire.initiator.keys))
    capture(wire, tmp_path / "followed.pcap")
    shown = read(tmp_path / "followed.pcap", dict.fromkeys(rows))
    assert sound(shown)
    followed = re.split(r"Exchange type: [\w ]+ \(44\)\n", shown)[1:]
    assert len(followed) >= 8 and all("[correct]" in message.split("\nFrame ")[0] for message in followed)
    # A method of its number, with a key of 1184 octets and a ciphertext of 1088 (FIPS 203 §8).
    for length in (1184, 1088):
        assert shown.count(f"Payload length: {length + 8}\n") >= 4, length
    # Older editions know the notification by its number alone.
    assert shown.count("(16441)") >= 8


@pytest.mark.parametrize("proof", ["certificate", "eap"])
def test_eap_tls(tmp_path, proof):
    """The analyser finds TLS 1.3 inside EAP inside IKE."""
    caller = initiator_config(method="eap-tls", proof=proof, credentials=lambda: client_key("ECDSA 256"))
    wire = Wire(caller, responder_config(callers=callers())).connect()
    assert wire.error is None
    capture(wire, tmp_path / "tls.pcap")
    shown = read(tmp_path / "tls.pcap", [row(wire.initiator.sa, wire.initiator.keys)])
    assert sound(shown)
    assert "TLS EAP (EAP-TLS)" in shown
    assert "Client Hello" in shown
    assert ("EAP_ONLY_AUTHENTICATION" in shown) is (proof == "eap")
