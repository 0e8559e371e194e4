"""The built program against a gateway written from the RFC texts without our code: legal and illegal, row by row."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509 import load_der_x509_certificate

from independent.certificates import POINT, PRINTABLE, UTF8, Issuer, make_key, name, pss, with_version
from lab.conftest import PROGRAM

pytestmark = pytest.mark.lab
GATEWAY = Path(__file__).parents[1] / "independent" / "gateway.py"
KEY = b"a-pre-shared-key-of-the-tests-0123456789"
HOST = "independent.example"
AUTHORITY = Issuer(name("Relay Authority"))
NAMED = (bytes([2, 0, 0, 0]) + HOST.encode()).hex()
PROFILE = """
format = 2
[profile]
name = "independent"
provider = "Independent Works"
[gateway]
addresses = ["127.0.0.1"]
[tunnel]
protocol = "ikev2"
[sign_in]
gateway = "{proof}"
method = "{method}"
[trust]
authorities = [{authorities}]
{trust}
[ikev2]
gateway_identity = {{ type = "{kind}", value = "{value}" }}
own_identity = {{ type = "ID_FQDN", value = "heron.tidewrack.example" }}
child_octets = 1048576
{ikev2}
[traffic]
networks = ["198.51.100.0/24"]
ipv6 = "block"
"""


class Program:
    """The program on the workstation, and the gateway beside it."""

    def __init__(self, lab, folder):
        self.lab, self.folder = lab, folder
        key = folder / "key"
        key.write_bytes(KEY)
        key.chmod(0o600)
        words = [PROGRAM, "lab", "run", "heron", "--", sys.executable, str(GATEWAY), str(key)]
        environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home)}
        self.gateway = subprocess.Popen(
            words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=environment
        )
        assert self.gateway.stdout.readline().strip() == "ready"

    def tell(self, **what):
        print(json.dumps(what), file=self.gateway.stdin, flush=True)
        return json.loads(self.gateway.stdout.readline())

    @property
    def report(self):
        return self.tell(report=True)

    def profile(
        self,
        proof="pre-shared-key",
        method="pre-shared-key",
        trust="",
        ikev2="",
        kind="ID_FQDN",
        value=HOST,
        authorities=(AUTHORITY.pem,),
    ):
        text = PROFILE.format(
            proof=proof,
            method=method,
            trust=trust,
            ikev2=ikev2,
            kind=kind,
            value=value,
            authorities=", ".join(f"'''{pem}'''" for pem in authorities),
        )
        if proof == "pre-shared-key":
            text = "".join(part for part in text.split("[trust]")[0:1]) + "[ikev2]" + text.split("[ikev2]")[1]
        file = self.folder / "independent.toml"
        file.write_text(text)
        ended = self.lab.heron("import", str(file), "--replace")
        assert ended.code == 0, ended.text
        secret = self.folder / "secret"
        secret.write_bytes(b"tidewrack_heron\nkelp-Forest_42\n" if method.startswith("eap") else KEY)
        secret.chmod(0o600)
        kind_of = "name-password" if method.startswith("eap") else "pre-shared-key"
        self.lab.heron("credentials", "change", "Independent Works", "--kind", kind_of, "--from", str(secret), check=0)

    def rehearse(self, *words, **how):
        """Its outcome: ``fit``, or the code of what failed, and all that is said."""
        self.tell(be=how)
        ended = self.lab.heron("rehearse", "independent", "--no-exit", "--timeout", "4", *words)
        assert "Traceback" not in ended.err
        (row,) = ended.json["rehearsals"]
        failure = row["failure"] or {}
        return failure.get("code") or row["verdict"], json.dumps(row)


@pytest.fixture(scope="module")
def program(whole_lab, tmp_path_factory):
    made = Program(whole_lab, tmp_path_factory.mktemp("independent"))
    yield made
    made.gateway.stdin.close()
    made.gateway.wait(timeout=10)
    made.gateway.stdout.close()
    whole_lab.heron("remove", "--provider", "Independent Works", "--yes")


@pytest.fixture
def by_key(program):
    program.profile()
    return program


SET_UP = {
    "nothing special": ({}, "fit", ""),
    "PRF_HMAC_SHA2_512": ({"prf": 7}, "fit", ""),
    # RFC 7296 §2.5
    "critical in IKE_SA_INIT": ({"critical": "init"}, "gateway-protocol", "unknown type 200"),
    "critical in IKE_AUTH": ({"critical": "auth"}, "gateway-protocol", "unknown type 200"),
    # §2.21.3
    "malformed and authentic": ({"malformed": "auth"}, "gateway-protocol", "cannot be used"),
    # §2.6
    "a cookie of one octet": ({"cookie": 1}, "fit", ""),
    "a cookie of 64 octets": ({"cookie": 64}, "fit", ""),
    "an empty cookie": ({"cookie": 0}, "gateway-unreachable", "cookie has 0 octets"),
    "a cookie of 65 octets": ({"cookie": 65}, "gateway-unreachable", "cookie has 65 octets"),
    # §2.10
    "a nonce of 16 octets": ({"nonce": 16}, "fit", ""),
    "too short for the function": ({"nonce": 16, "prf": 7}, "gateway-unreachable", "nonce is too short"),
    "long enough for the function": ({"nonce": 32, "prf": 7}, "fit", ""),
    # §3.15.1
    **{
        f"the inner address {one}": ({"address": one}, "gateway-protocol", one)
        for one in ("0.0.0.0", "255.255.255.255", "127.0.0.1", "224.0.0.7", "0.1.2.3", "240.0.0.9")
    },
    # §2.19, RFC 4301 §5
    "granted with its address": ({"ranges": [["10.66.1.10", "10.66.1.10", {}]]}, "fit", ""),
    "granted without its address": (
        {"ranges": [["10.66.1.11", "10.66.1.20", {}]]}, "gateway-protocol", "10.66.1.10, which the tunnel does not carry"),
    "granted for UDP alone": ({"ranges": [["0.0.0.0", "255.255.255.255", {"protocol": 17}]]}, "gateway-protocol", "none of the networks"),
    "granted for one port": ({"ranges": [["0.0.0.0", "255.255.255.255", {"ports": [80, 80]}]]}, "gateway-protocol", "none of the networks"),
    # §2.4
    "a forged first answer in front": ({"forged": True}, "fit", ""),
    # §2.23
    "several source hashes": ({"sources": 3}, "fit", ""),
}  # fmt: skip


@pytest.mark.parametrize("case", SET_UP)
def test_setting_up(by_key, case):
    how, outcome, words = SET_UP[case]
    got, said = by_key.rehearse(**how)
    assert got == outcome, said
    assert words in said


def test_a_forged_answer_costs_nothing(by_key):
    """The true gateway is gone on with beside the forged one, and the tunnel is with it."""
    got, said = by_key.rehearse(forged=True)
    assert got == "fit", said
    report = by_key.report
    assert report["callers"] == 2 and report["log"].count("35") == 1


def test_several_hashes_of_the_gateways_addresses(by_key):
    """RFC 7296 §2.23: one of them fits, so that the gateway is not behind NAT."""
    by_key.tell(be={"sources": 3})
    up = by_key.lab.heron("connect", "independent", "--detach", check=0)
    try:
        assert "behind NAT" not in up.text
    finally:
        by_key.lab.heron("disconnect", check=0)


@pytest.mark.parametrize("front", [0, 1, 3])
def test_payloads_in_front_of_the_encrypted_one(program, front):
    """RFC 9242 §3.3.2: what stands in front of it in IKE_INTERMEDIATE is signed as well."""
    ike = '[[ikev2.ike]]\nencryption = ["ENCR_AES_GCM_16 256"]\nprf = ["PRF_HMAC_SHA2_256"]\nkey_exchange = ["curve25519"]\n'
    program.profile(ikev2=ike + 'additional_key_exchange = ["ml-kem-768"]\n')
    got, said = program.rehearse(front=front)
    assert got == "fit", said


def test_long_fragments_are_lost(program):
    """RFC 7383 §2.5.1: where 1280 octets do not arrive, 576 do; what was learnt is kept for the next message."""
    others = [Issuer(name(f"Authority {number}")).pem for number in range(40)]
    program.profile(proof="certificate", method="pre-shared-key", authorities=(AUTHORITY.pem, *others))
    key, der = gateway_certificate()
    got, said = program.rehearse(drop_above=576, chain=[der], key=key)
    assert got == "fit", said
    log = program.report["log"]
    assert "35 in parts" in log and any(line.startswith("lost") for line in log)


def gateway_certificate(kind="ecdsa", subject=None, host=HOST, issuer=AUTHORITY, extensions=()):
    key = make_key(kind)
    der = issuer.issue(key, subject or name(HOST), host, extensions)
    pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()
    return pem, der.hex()


ACCEPTED = "sign-in-refused"
"""The gateway was proven; then it refused the name and the password that it was told."""


@pytest.mark.parametrize("null", [True, False], ids=["NULL", "absent"])
@pytest.mark.parametrize(
    ("digest", "salt"), [(hashes.SHA256, 32), (hashes.SHA512, 64), (hashes.SHA512, 32), (hashes.SHA512, 20)]
)
def test_rsassa_pss(program, digest, salt, null):
    """RFC 4055 §2.1: the parameters of the hash NULL or absent; SHA-512 with other salts."""
    program.profile(proof="certificate", method="eap-mschapv2")
    key, der = gateway_certificate("rsa")
    algorithm = pss(digest, salt, null=null).hex()
    got, said = program.rehearse(
        chain=[der], key=key, algorithm=algorithm, digest=digest.name, salt=salt, identity=NAMED
    )
    assert got == ACCEPTED, said
    got, said = program.rehearse(
        chain=[der], key=key, algorithm=algorithm, digest=digest.name, salt=salt + 1, identity=NAMED
    )
    assert got == "certificate-signature", said


DN = "CN=gateway,O=Quillwort Relay,C=PT"


@pytest.mark.parametrize(
    ("value", "told", "outcome"),
    [
        (DN, name("gateway", kind=PRINTABLE), ACCEPTED),
        (DN, name("gateway", kind=UTF8), ACCEPTED),
        (DN, name("GateWay", kind=UTF8), ACCEPTED),
        ("O=Quillwort Relay,*", name("gateway"), ACCEPTED),
        ("CN=gateway,C=PT,*", name("gateway"), ACCEPTED),
        ("O=Quillwort Relay", name("gateway"), "certificate-wrong-name"),
        ("O=Another Relay,*", name("gateway"), "certificate-wrong-name"),
        (DN, name("parked"), "certificate-identity"),
    ],
)
def test_distinguished_names(program, value, told, outcome):
    """RFC 5280 §7.1 and RFC 4945 §3.1.5; what the gateway calls itself is told in words, never as DER."""
    program.profile(proof="certificate", method="eap-mschapv2", kind="ID_DER_ASN1_DN", value=value)
    key, der = gateway_certificate(subject=name("gateway", kind=PRINTABLE), host="")
    got, said = program.rehearse(chain=[der], key=key, identity=(b"\x09\0\0\0" + told.public_bytes()).hex())
    assert got == outcome, said
    if outcome == "certificate-identity":
        assert "CN=parked" in said and "\\u" not in said


def test_revocation(program):
    """RFC 5280 §6.3.3: an entry counts whatever its list's age; without a current list the status is unknown."""
    key, der = gateway_certificate(extensions=(POINT,))
    serial = load_der_x509_certificate(bytes.fromhex(der)).serial_number
    good = {"chain": [der], "key": key, "identity": NAMED}

    def outcome(*serials, days=None, more="", **sign_in):
        lists = f"revocation_lists = ['''{AUTHORITY.revocations(*serials, days=days)}''']\n" if days else ""
        program.profile(proof="certificate", method="pre-shared-key", trust=lists + more, **sign_in)
        return program.rehearse(**good)

    assert outcome(days=(-10, 20))[0] == "fit"
    assert outcome(serial, days=(-10, 20))[0] == "certificate-revoked"
    assert outcome(serial, days=(-60, -30))[0] == "certificate-revoked"
    for given in ({}, {"days": (-60, -30)}):
        got, said = outcome(**given)
        assert got == "doubtful" and "certificate-status-unknown" in said, said
        assert outcome(more='revocation_status = "required"\n', **given)[0] == "certificate-status-unknown"
    shown = program.lab.heron("show", "independent", check=0)
    assert "revocation-list-old" in shown.codes and "OUT OF DATE" in shown.json["revocation_lists"][0]


def test_several_certificates(program):
    """RFC 7296 §3.6: four are taken; more than eight are told."""
    program.profile(proof="certificate", method="eap-mschapv2")
    issuers = [AUTHORITY]
    for number in range(3):
        issuers.append(Issuer(name(f"Authority {number}"), issuers[-1]))
    key, der = gateway_certificate(issuer=issuers[-1])
    between = [one.certificate.public_bytes(Encoding.DER).hex() for one in issuers[1:]]
    assert program.rehearse(chain=[der, *between], key=key, identity=NAMED)[0] == ACCEPTED
    odd = [AUTHORITY.issue(make_key(), name(f"other {number}"), "x.example").hex() for number in range(8)]
    got, said = program.rehearse(chain=[der, *odd, *between], key=key, identity=NAMED)
    assert got == "certificate-untrusted" and "12 were sent, 8 of them read" in said, said
    program.profile(proof="certificate", method="pre-shared-key")
    got, said = program.rehearse(chain=[der, *between, *odd], key=key, identity=NAMED)
    assert got == "doubtful" and "certificate-many" in said, said


@pytest.mark.parametrize("version", [3, 7, 200])
def test_an_unknown_version_of_a_certificate(program, version):
    """From a gateway that has proven nothing: an error at once, and no hang."""
    program.profile(proof="certificate", method="eap-mschapv2")
    key, der = gateway_certificate()
    began = time.monotonic()
    got, said = program.rehearse(chain=[with_version(bytes.fromhex(der), version).hex()], key=key, identity=NAMED)
    assert got == "certificate-missing" and "can be read" in said, said
    assert time.monotonic() - began < 20


def test_sent_elsewhere_in_the_first_answer_with_eap(program):
    """RFC 5685 §6: followed once the gateway has proven itself; the name and the password go to nobody before."""
    program.profile(proof="certificate", method="eap-mschapv2")
    key, der = gateway_certificate()
    got, said = program.rehearse(chain=[der], key=key, identity=NAMED, redirect="127.0.0.2")
    assert got == ACCEPTED, said
    assert program.report["callers"] == 2
    other, wrong = gateway_certificate(host="parked.example")
    got, said = program.rehearse(chain=[wrong], key=other, identity=NAMED, redirect="127.0.0.2")
    assert got == "certificate-wrong-name" and program.report["callers"] == 1, said


@pytest.mark.parametrize("words", [[], ["--detach"]], ids=["foreground", "detached"])
def test_sent_round_in_a_circle(program, words):
    """RFC 5685 §7: followed a few times, then told as an error with where it led; the same from the background."""
    program.profile(proof="certificate", method="eap-mschapv2")
    key, der = gateway_certificate()
    program.tell(be={"chain": [der], "key": key, "identity": NAMED, "redirect": "127.0.0.1"})
    ended = program.lab.heron("connect", "independent", "--timeout", "3", *words)
    assert ended.code == 6 and "127.0.0.1" in ended.json["what"], ended.text
    assert ended.json["code"] in ("gateway-elsewhere", "gateway") and program.report["callers"] > 2


# A tunnel that is up.


@pytest.fixture
def tunnel(by_key):
    """Connects to a gateway that behaves as it is told."""

    def connect(**how):
        by_key.tell(be=how)
        by_key.lab.heron("connect", "independent", "--detach", check=0)
        return by_key

    yield connect
    if by_key.lab.heron("disconnect").code != 0:
        by_key.lab.heron("restore")


SEND = "import socket\ns = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\nfor n in range({count}): s.sendto(bytes(1000), ('198.51.100.7', 9))"


def wear_out(program, count=1100):
    """More octets than a key may be used for."""
    program.lab.shell("heron", sys.executable, "-c", SEND.format(count=count))


def status(program):
    return program.lab.heron("status").json


def wait_for(what, seconds=8):
    until = time.monotonic() + seconds
    while not what() and time.monotonic() < until:
        time.sleep(0.1)
    assert what()


@pytest.mark.parametrize(
    ("renew", "log"),
    [(31, ["renewed with 31"]), (0, ["renewed with 0"]), (19, ["another group", "renewed with 19"])],
    ids=["the same group", "no key exchange", "another group"],
)
def test_keys_are_renewed(tunnel, renew, log):
    """RFC 7296 §1.3.3: with the gateway's group, or without one; INVALID_KE_PAYLOAD is followed."""
    program = tunnel(renew=renew)
    wear_out(program)
    wait_for(lambda: status(program)["tunnel"]["rekeys"] == 1)
    assert [line for line in program.report["log"] if "group" in line or "renewed" in line] == log
    before = program.report["esp"]
    wear_out(program, 20)
    wait_for(lambda: program.report["esp"][1:] != before[1:])
    assert not status(program)["findings"]


@pytest.mark.parametrize(
    ("renew", "words"), [("never", "NO_PROPOSAL_CHOSEN"), ("critical", "unknown type 200"), (20, "")]
)
def test_keys_that_are_not_renewed(tunnel, renew, words):
    """It is told in the status, and the tunnel goes on under its old keys."""
    program = tunnel(renew=renew)
    wear_out(program)
    wait_for(lambda: "keys-not-renewed" in json.dumps(status(program)["findings"]))
    said = status(program)
    assert words in json.dumps(said["findings"]) and said["tunnel"]["is_up"] and said["tunnel"]["rekeys"] == 0
    sent = sum(program.report["esp"])
    wear_out(program, 20)
    wait_for(lambda: sum(program.report["esp"]) > sent)


@pytest.mark.parametrize("group", [31, 19, 0])
def test_the_gateway_renews(tunnel, group):
    """With any group of the profile, or without a key exchange."""
    program = tunnel()
    answer = program.tell(ask="rekey", group=group)
    assert answer["errors"] == [] and (34 in answer["payloads"]) == bool(group)
    wait_for(lambda: status(program)["tunnel"]["rekeys"] == 1)
    wear_out(program, 20)
    wait_for(lambda: len(program.report["esp"]) >= 1)
    assert status(program)["tunnel"]["rejected"] == 0


def test_the_gateway_renews_the_ike_sa(tunnel):
    """RFC 7296 §1.3.2, §2.18: and both go on by the new one."""
    program = tunnel()
    assert program.tell(ask="rekey-ike", group=31)["errors"] == []
    wait_for(lambda: status(program)["tunnel"]["rekeys"] == 1)
    assert program.tell(ask="critical")["errors"] == [1]
    assert program.tell(ask="rekey", group=19)["errors"] == []
    wait_for(lambda: status(program)["tunnel"]["rekeys"] == 2)


def test_a_critical_payload_while_up(tunnel):
    """RFC 7296 §2.5: refused, and the tunnel stands."""
    program = tunnel()
    for _ in range(2):
        assert program.tell(ask="critical")["errors"] == [1]
    assert status(program)["tunnel"]["is_up"]


def test_a_malformed_request_while_up(tunnel):
    """RFC 7296 §2.21.3: INVALID_SYNTAX, and the tunnel has ended, with the reason in the log."""
    program = tunnel()
    assert program.tell(ask="malformed")["errors"] == [7]
    wait_for(lambda: status(program)["tunnel"] is None)


@pytest.mark.soak
def test_a_gateway_that_falls_silent(program):
    """RFC 7296 §2.4: asked again and again; while its packets come the tunnel stands, and then it is told as lost."""
    program.profile(ikev2="peer_seconds = 20\n")
    program.tell(be={})
    program.lab.heron("connect", "independent", "--detach", check=0)
    assert program.tell(ask="mute") == {}
    wait_for(lambda: status(program)["tunnel"] is None, 90)
    lines = program.lab.heron("status", "--log", check=0).json["log"]
    assert any("has not answered for 20 seconds" in json.dumps(line) for line in lines)
    assert program.report["log"].count("37") >= 2
