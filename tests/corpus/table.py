"""The corpus: kits as people get them, good and bad, each with what must come of it. One row a kit."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from cryptography.hazmat.primitives.serialization import Encoding, PrivateFormat

from corpus import material as m
from corpus.instance import INSTANCE
from zesty_burrow.core.profile import SignIn
from zesty_burrow.intake.readers.codes import make_codes

Q = "Quillwort Relay"
NP, CK, PSK, RAW = "name-password", "client-key", "pre-shared-key", "raw-public-key"
PLAIN, NONE, ATTACHED, FROM_NAME = (
    "kit-plaintext-password",
    "kit-no-credentials",
    "authority-attached",
    "place-from-name",
)
SHEET = "Connection name: Cottage\nServer: lisbon.quillwort.example\nUser name: tidewrack_heron\n"
SIGNED = SHEET + f"Password: {m.PASSWORD}\n"


@dataclass(frozen=True)
class Row:
    """``files`` lie in a folder; ``path`` is what is imported (empty: the folder).

    ``profiles``: names taken; ``credentials``: kind and scope; ``codes``: all findings; ``error``: the whole is refused.
    """

    files: Callable[[], Mapping[str, bytes]]
    profiles: tuple[str, ...] = ()
    credentials: tuple[str, ...] = ()
    codes: frozenset[str] = frozenset()
    path: str = ""
    error: str = ""
    provider: str = ""
    passphrase: str = ""
    mode: int = 0o600
    left_out: int = 0


def row(files, profiles=(), credentials=(), codes=(), **more):
    """A row with less writing: one file may stand as (name, octets)."""
    if isinstance(files, tuple):
        name, data = files
        return Row(
            lambda: {name: data() if callable(data) else data},
            tuple(profiles),
            tuple(credentials),
            frozenset(codes),
            name,
            **more,
        )
    build = files if callable(files) else lambda: files
    return Row(build, tuple(profiles), tuple(credentials), frozenset(codes), **more)


FIVE = tuple(f"quillwort-{place}" for place in ("lisbon", "montevideo", "nairobi", "tallinn", "wellington"))
WHOLE = {"credentials": (f"{NP} {Q}",), "codes": {PLAIN, "kit-read-me"}, "left_out": 1}
L, T = ("quillwort-lisbon",), ("quillwort-tallinn",)
TWO = {"kit/lisbon.toml": m.LISBON, "kit/tallinn.toml": m.TALLINN, "kit/quillwort-authority.pem": m.CA}
BOTH = (*L, *T)
CERT_SIGN_IN = SignIn(method="certificate", credentials=Q)

CORPUS: dict[str, Row] = {
    # G1: settings as files, folders and archives
    "one profile with its authority inside": row(("l.toml", m.profile()), L, codes={NONE}),
    "one profile, its authority beside it": row(lambda: {"lisbon.toml": m.LISBON, "quillwort-authority.pem": m.CA}, L, codes={NONE}),
    "a folder with everything": row(lambda: m.FILES, FIVE, **WHOLE),
    "a ZIP archive": row(("k.zip", m.zipped(m.FILES)), FIVE, **WHOLE),
    "a TAR archive": row(("k.tar", m.tarred(m.FILES)), FIVE, **WHOLE),
    "a TAR archive in the old form": row(("k.tar", m.tarred(m.FILES, kind=1)), FIVE, **WHOLE),
    "TAR under gzip": row(("k.tar.gz", m.tarred(m.FILES, m.gzipped)), FIVE, **WHOLE),
    "TAR under xz": row(("k.txz", m.tarred(m.FILES, m.xz)), FIVE, **WHOLE),
    "an archive inside an archive": row(("o.zip", m.zipped({"inner.tar.gz": m.tarred(TWO, m.gzipped)})), BOTH, codes={NONE}),
    "one profile under gzip": row(("lisbon.toml.gz", m.gzipped(m.profile())), L, codes={NONE}),
    "archives nested too deep": row(("o.zip", m.zipped({"a.gz": m.gzipped(m.gzipped(m.gzipped(m.gzipped(m.gzipped(m.LISBON)))))})), error="archive-bomb"),
    "junk and read-me beside settings": row(lambda: {**TWO, "kit/.DS": b"\0\1\2", "kit/README": b"Hello", "kit/Licence.txt": b"Do."}, BOTH, codes={NONE, "kit-junk", "kit-read-me"}, left_out=3),
    "names that differ by case": row(("k.zip", m.zipped({"A.toml": m.profile(), "a.toml": m.profile("tallinn")})), BOTH, codes={NONE}),
    "names that differ by normalisation": row(("k.zip", m.zipped({"tromsø.toml": m.profile(), "tromsø.toml ".strip() + "2": b"x", "tromso\u0308.toml": m.profile("tallinn"), "troms\u00f6.toml": m.profile("nairobi")})), (*BOTH, "quillwort-nairobi"), codes={NONE, "kit-junk"}, left_out=1),
    "the same file twice": row(lambda: {**TWO, "again/lisbon.toml": m.LISBON}, BOTH, codes={NONE, "kit-same-content"}, left_out=1),
    "two profiles of one name": row(lambda: {"a.toml": m.profile(), "b.toml": m.profile("tallinn", name="quillwort-lisbon")}, (*L, "quillwort-lisbon-2"), codes={NONE, "profile-renamed"}),
    "a broken profile beside a good one": row(lambda: {**TWO, "kit/broken.toml": b"format = 1\n[profile"}, BOTH, codes={NONE, "kit-unreadable"}, left_out=1),
    "a profile of format 1": row(("l.toml", b'format = 1\n[profile]\nname = "quillwort-lisbon"\n[gateway]\naddresses = ["lisbon.quillwort.example"]\nport = 4500\n'), L, codes={NONE, "profile-authority-missing", FROM_NAME}),
    "a profile in UTF-16": row(("l.toml", m.profile().decode().encode("utf-16")), L, codes={NONE}),
    "a profile with a byte order mark": row(("l.toml", b"\xef\xbb\xbf" + m.profile()), L, codes={NONE}),
    "an encrypted archive": row(("k.zip", lambda: _encrypted()), error="archive-encrypted"),
    "a path upward": row(("k.zip", m.zipped({"../../evil.toml": m.LISBON})), error="archive-path"),
    "a cut archive": row(("k.zip", m.zipped(m.FILES)[:-20]), error="archive-damaged"),
    "a bomb": row(("k.gz", m.gzipped(bytes(8 << 20))), error="archive-bomb"),
    "nothing that we know": row(("x.bin", bytes(range(256))), error="kit-empty"),
    # I5: names and places
    "a profile without a name": row(("pt-lis-01.toml", m.without(m.profile(country="", city=""), "name =")), ("lisbon",), codes={NONE, "name-from-place", FROM_NAME}),
    "a profile without a place": row(("uy-montevideo.toml", m.profile("nairobi", country="", city="")), ("quillwort-nairobi",), codes={NONE, FROM_NAME}),
    # I4: judgement of a profile
    "an unknown key": row(("l.toml", m.profile() + b'\n[colours]\nsea = "blue"\n'), L, codes={NONE, "profile-unknown-key"}),
    "a profile whose protocol names no name servers": row(("l.toml", m.over_http), L, codes={NONE, "name-servers-missing"}),
    "weak algorithms": row(("l.toml", m.profile() + b'\n[[ikev2.esp]]\nencryption = ["ENCR_3DES"]\nintegrity = ["AUTH_HMAC_SHA1_96"]\n'), L, codes={NONE, "algorithm-weak"}),
    "an algorithm that nobody here implements": row(("l.toml", m.profile() + b'\n[[ikev2.esp]]\nencryption = ["ENCR_CAMELLIA_CBC 128"]\nintegrity = ["AUTH_HMAC_SHA2_256_128"]\n'), L, codes={NONE, "algorithm-unavailable"}),
    "an authority that is missing": row(("l.toml", m.LISBON), L, codes={NONE, "profile-authority-missing"}),
    "an expired authority": row(lambda: {"lisbon.toml": m.LISBON, "quillwort-authority.pem": m.old_authority()}, L, codes={NONE, "certificate-expired"}),
    "an authority from the future": row(lambda: {"lisbon.toml": m.LISBON, "quillwort-authority.pem": m.old_authority((10, 400))}, L, codes={NONE, "certificate-not-yet-valid"}),
    "an authority about to expire": row(lambda: {"lisbon.toml": m.LISBON, "quillwort-authority.pem": m.old_authority((-400, 10))}, L, codes={NONE, "certificate-expires-soon"}),
    "an authority with a weak key": row(lambda: {"lisbon.toml": m.LISBON, "quillwort-authority.pem": m.authority_of(m.small_rsa())}, L, codes={NONE, "certificate-weak"}),
    "an authority that may not issue": row(lambda: {"lisbon.toml": m.LISBON, "quillwort-authority.pem": m.authority_of(m.OTHER, issuing=False)}, L, codes={NONE, "profile-authority-leaf"}),
    "IPv6 left outside": row(("l.toml", m.profile().replace(b'ipv6 = "tunnel"', b'ipv6 = "outside"')), L, codes={NONE, "ipv6-outside"}),
    # G2: certificates and keys apart
    "a client key and certificate, PEM": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.crt": m.pem(m.CLIENT_CERTIFICATE), "me.key": m.key(), "ca.pem": m.CA}, L, (f"{CK} {Q}",), {"key-unprotected", "kit-certificate-unused"}, left_out=1),
    "key and certificate in one file": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.pem": m.key() + m.pem(m.CLIENT_CERTIFICATE)}, L, (f"{CK} {Q}",), {"key-unprotected"}),
    "key and certificate, DER": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.der": m.CLIENT_CERTIFICATE, "key.bin": m.key(encoding=Encoding.DER)}, L, (f"{CK} {Q}",), {"key-unprotected"}),
    "a key in the older PEM form": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.crt": m.pem(m.CLIENT_CERTIFICATE), "me.key": m.key(form=PrivateFormat.TraditionalOpenSSL)}, L, (f"{CK} {Q}",), {"key-unprotected"}),
    "a key under a passphrase": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.crt": m.pem(m.CLIENT_CERTIFICATE), "me.key": m.key(passphrase=m.PASSPHRASE)}, L, (f"{CK} {Q}",), set(), passphrase=m.PASSPHRASE),
    "a key in the older PEM form under a passphrase": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.crt": m.pem(m.CLIENT_CERTIFICATE), "me.key": m.key(form=PrivateFormat.TraditionalOpenSSL, passphrase=m.PASSPHRASE)}, L, (f"{CK} {Q}",), set(), passphrase=m.PASSPHRASE),
    "a key under a passphrase that nobody gives": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.key": m.key(passphrase=m.PASSPHRASE)}, L, (), {"kit-locked", NONE}, left_out=1),
    "PKCS #12": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.p12": m.bundle()}, L, (f"{CK} {Q}",), set(), passphrase=m.PASSPHRASE),
    "PKCS #12 without a passphrase": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.pfx": m.bundle("")}, L, (f"{CK} {Q}",), {"key-unprotected"}),
    "PKCS #12 with the wrong passphrase": row(lambda: {"l.toml": m.profile(), "me.p12": m.bundle()}, L, (), {NONE, "kit-passphrase"}, passphrase="calm petrel", left_out=1),
    "PKCS #7": row(lambda: {"lisbon.csv": b"city,host\nLisbon,lisbon.quillwort.example\n", "ca.p7b": m.PKCS7_BUNDLE}, ("lisbon",), (), {NONE, ATTACHED, FROM_NAME}, provider=Q),
    "a key that fits no certificate": row(lambda: {"l.toml": m.profile(), "me.crt": m.pem(m.CLIENT_CERTIFICATE), "me.key": m.key(m.small_rsa())}, L, (), {NONE, "key-mismatch", "key-weak", "key-unprotected", "kit-certificate-unused"}, left_out=2),
    "a key without a certificate": row(lambda: {"l.toml": m.profile(), "me.key": m.key(m.edwards())}, L, (), {NONE, "key-without-certificate", "key-unprotected"}, left_out=1),
    "a key that others can read": row(lambda: {"l.toml": m.profile(sign_in=CERT_SIGN_IN), "me.pem": m.key() + m.pem(m.CLIENT_CERTIFICATE)}, L, (f"{CK} {Q}",), {"key-unprotected", "kit-world-readable"}, mode=0o644),
    "a raw public key": row(lambda: {"l.toml": m.profile(sign_in=SignIn(method="raw-public-key", credentials=Q)), "me.key": m.key(m.edwards())}, L, (f"{RAW} {Q}",), {"key-unprotected"}),
    "a key that is cut off": row(lambda: {"l.toml": m.profile(), "me.key": m.key()[:90]}, L, (), {NONE, "kit-unreadable"}, left_out=1),
    "the gateway's own certificate": row(lambda: {"l.toml": m.profile(), "gw.crt": m.pem(m.GATEWAY_CERTIFICATE)}, L, (), {NONE, "gateway-certificate"}, left_out=1),
    "a gateway's certificate for another name": row(lambda: {"t.toml": m.profile("tallinn"), "gw.crt": m.pem(m.GATEWAY_CERTIFICATE)}, T, (), {NONE, "gateway-certificate", "certificate-wrong-name"}, left_out=1),
    "a revocation list": row(lambda: {"l.toml": m.LISBON, "quillwort-authority.pem": m.CA, "ca.crl": m.revocations(5, 6)}, L, (), {NONE}),
    "a revocation list, DER, out of date": row(lambda: {"l.toml": m.LISBON, "quillwort-authority.pem": m.CA, "ca.crl": m.revocations(days=(-60, -30), encoding=Encoding.DER)}, L, (), {NONE, "revocation-list-old"}),
    "a revocation list that nobody signed": row(lambda: {"l.toml": m.LISBON, "quillwort-authority.pem": m.CA, "ca.crl": m.revocations(signer=m.make_authority("Somebody"))}, L, (), {NONE, "revocation-list-unusable"}, left_out=1),
    "a client certificate that was revoked": row(lambda: {"l.toml": m.LISBON.replace(b"eap-mschapv2", b"certificate"), "quillwort-authority.pem": m.CA, "me.pem": m.key() + m.pem(m.CLIENT_CERTIFICATE), "ca.crl": m.revocations(m.serial(m.CLIENT_CERTIFICATE))}, L, (f"{CK} {Q}",), {"key-unprotected", "certificate-revoked"}),
    "a gateway's certificate that was revoked": row(lambda: {"l.toml": m.LISBON, "quillwort-authority.pem": m.CA, "gw.pem": m.pem(m.GATEWAY_CERTIFICATE), "ca.crl": m.revocations(m.serial(m.GATEWAY_CERTIFICATE))}, L, (), {NONE, "gateway-certificate", "certificate-revoked"}, left_out=1),
    # G3: mails
    "a welcome mail": row(("w.eml", m.mail(f"Dear customer,\n\n{SIGNED}\nFair winds!\n", attach=[("ca.pem", m.CA)])), ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "sheet-prose"}, provider=Q),
    "a mail in HTML alone": row(("w.eml", m.mail(SIGNED, html=True, attach=[("ca.pem", m.CA)])), ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME}, provider=Q),
    "a mail with an archive": row(("w.eml", m.mail("Your settings are attached, dear customer, with all our gateways in it.", attach=[("kit.zip", m.zipped(TWO))])), BOTH, (), {NONE, "kit-read-me"}, left_out=1),
    # G4, G6: sheets and pasted text
    "a set-up sheet": row(lambda: {"s.txt": SIGNED.encode() + b"All traffic: no\nNetworks: 10.20.0.0/16\nFavourite bird: auk\n", "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "sheet-not-understood"}, provider=Q),
    "a sheet with a misspelt label and a line that has no place": row(lambda: {"s.txt": SIGNED.encode() + b"Name serverr: 10.20.0.53\nEncryption: AES-256\n", "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "sheet-guessed", "sheet-not-taken"}, provider=Q),
    "a sheet in an older encoding": row(lambda: {"s.txt": SIGNED.encode() + "Note: für Tromsø\n".encode("cp1252"), "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "encoding-guessed", "sheet-not-needed"}, provider=Q),
    "a sheet for everybody": row(lambda: {"s.txt": SIGNED.encode() + b"Others on this machine: yes\n", "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "for-everybody"}, provider=Q),
    "a sheet as CSV": row(lambda: {"s.csv": SIGNED.replace(": ", ",").encode(), "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME}, provider=Q),
    "a sheet as TOML": row(lambda: {"s.toml": f'server = "lisbon.quillwort.example"\nuser = "x"\npassword = "{m.PASSWORD}"\n'.encode(), "ca.pem": m.CA}, ("lisbon",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME}, provider=Q),
    "a sheet with a shared secret": row(("s.txt", (SHEET + "Shared secret: razorbills dive at dusk\n").encode()), ("cottage",), (f"{PSK} {Q}",), {PLAIN, FROM_NAME}, provider=Q),
    "a sheet without a shared secret, and with a blank behind the password": row(lambda: {"s.txt": (SIGNED.rstrip() + " \nShared secret: none\n").encode(), "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "credentials-paste-slip"}, provider=Q),
    "a sheet for a retired protocol": row(lambda: {**TWO, "s.txt": (SIGNED + "Protocol: IKEv1 with XAUTH\n").encode()}, BOTH, (), {NONE, "protocol-retired"}, left_out=1),
    "a sheet for PPTP": row(lambda: {"s.txt": (SIGNED + "Protocol: PPTP\n").encode()}, ("cottage",), (f"{NP} {Q}",), {PLAIN, FROM_NAME, "pptp-unprotected"}, provider=Q),
    "settings of a protocol with ports of its own": row(lambda: {**TWO, "s.txt": b"peer vpn.cobblewire.example 51999\nour key = " + b"A" * 43 + b"=\ntheir key = " + b"B" * 43 + b"=\n"}, BOTH, (), {NONE, "protocol-foreign"}, left_out=1),
    "a split tunnel without its networks": row(lambda: {**TWO, "s.txt": (SIGNED + "Use default gateway: no\n").encode()}, BOTH, (), {NONE, "kit-no-networks"}, left_out=1),
    "a sheet for L2TP over IPsec": row(("s.txt", (SIGNED + "VPN type: L2TP/IPsec PSK\nIPsec pre-shared key: razorbills dive at dusk\n").encode()), ("cottage",), (f"{NP} {Q}", f"{PSK} {Q}"), {PLAIN, FROM_NAME, "ikev1-used"}, provider=Q),
    "a sheet for CONNECT-IP": row(lambda: {"s.txt": (SIGNED + "Protocol: CONNECT-IP\nTransport: UDP or TCP\nPort: 8443\nDNS server: 198.51.100.242\n").encode(), "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME}, provider=Q),
    "a sheet for another protocol": row(lambda: {**TWO, "s.txt": (SIGNED + "Protocol: carrier pigeon\n").encode()}, BOTH, (), {NONE, "protocol-unavailable"}, left_out=1),
    "a sheet with paste slips": row(lambda: {"s.txt": (SHEET + f"Password: “{m.PASSWORD}”\n").encode(), "ca.pem": m.CA}, ("cottage",), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "credentials-paste-slip"}, provider=Q),
    "two sheets with accounts of their own": row(lambda: {"a.txt": SIGNED.encode(), "b.txt": SIGNED.replace("heron", "curlew").replace("lisbon", "tallinn").replace("Cottage", "Boat").encode(), "ca.pem": m.CA}, ("cottage", "boat"), (f"{NP} profile cottage", f"{NP} profile boat"), {PLAIN, ATTACHED, FROM_NAME}, provider=Q),
    # G5: tables
    "a server table": row(lambda: {"s.csv": b"city;host;load\nLisbon;lisbon.quillwort.example;3\nTallinn;tallinn.quillwort.example;4\n", "ca.der": m.CA_DER, "c.txt": m.CREDENTIALS}, ("lisbon", "tallinn"), (f"{NP} {Q}",), {PLAIN, ATTACHED, FROM_NAME, "sheet-not-needed"}, provider=Q),
    "a server table as JSON": row(lambda: {"s.json": json.dumps([{"country": "Portugal", "host": "lisbon.quillwort.example", "city": "Lisbon"}]).encode(), "ca.der": m.CA_DER}, ("lisbon",), (), {NONE, ATTACHED}, provider=Q),
    "a table for a client key": row(lambda: {"s.csv": b"city,host\nLisbon,lisbon.quillwort.example\n", "me.p12": m.bundle()}, ("lisbon",), (f"{CK} {Q}",), {ATTACHED, FROM_NAME}, provider=Q, passphrase=m.PASSPHRASE),
    "a table with a bad row": row(lambda: {"s.csv": b"city,host\nLisbon,lisbon.quillwort.example\nNowhere,two words?\n", "ca.pem": m.CA}, ("lisbon",), (), {NONE, ATTACHED, FROM_NAME, "kit-unreadable"}, provider=Q),
    # G7: QR codes
    "a QR code": row(("code.png", m.picture(m.profile(authorities=()))), L, (), {NONE, "profile-authority-missing"}),
    "a profile over several codes": row(lambda: {f"{n}.png": _png(code) for n, code in enumerate(make_codes(m.profile().decode()))}, L, codes={NONE}),
    "a code of several is missing": row(lambda: {"0.png": _png(make_codes(m.profile().decode())[0]), "t.toml": m.profile("tallinn")}, T, codes={NONE, "code-incomplete"}),
    "a picture without a code": row(lambda: {**TWO, "kit/logo.png": _blank()}, BOTH, codes={NONE, "kit-junk"}, left_out=1),
    "a damaged picture": row(lambda: {**TWO, "kit/logo.png": _blank()[:60]}, BOTH, codes={NONE, "kit-unreadable"}, left_out=1),
    # C3, C5: credentials
    "two lines of credentials": row(("c.txt", m.CREDENTIALS), (), (f"{NP} {Q}",), {PLAIN}, provider=Q),
    "credentials with a stray space": row(("c.txt", b"tidewrack_heron \nx_Y\n"), (), (f"{NP} {Q}",), {PLAIN, "credentials-paste-slip"}, provider=Q),
    "credentials with a line missing": row(lambda: {**TWO, "kit/credentials.txt": b"tidewrack_heron\n"}, BOTH, (), {NONE, "kit-credentials-incomplete"}, left_out=1),
    "credentials that others can read": row(("c.txt", m.CREDENTIALS), (), (f"{NP} {Q}",), {PLAIN, "kit-world-readable"}, provider=Q, mode=0o644),
    "two different credentials": row(lambda: {**TWO, "kit/credentials.txt": m.CREDENTIALS, "kit/old.txt": b"old_heron\nx_Y\n"}, BOTH, (f"{NP} {Q}",), {PLAIN, "kit-several-credentials"}, left_out=1),
    # RFC 9061
    "RFC 9061 data": row(("data.json", lambda: INSTANCE("certificate")), ("tromso-office",), (), {NONE, "model-not-mapped"}),
    "RFC 9061 data with a shared secret": row(("data.json", lambda: INSTANCE("pre-shared")), ("tromso-office",), (f"{PSK} tromso-office",), {PLAIN, "model-not-mapped"}),
    "RFC 9061 data in transport mode": row(lambda: {**TWO, "kit/data.json": INSTANCE("certificate").replace(b'"tunnel",', b'"transport",')}, BOTH, (), {NONE, "kit-unreadable"}),
}  # fmt: skip


def _encrypted():
    data = bytearray(m.zipped({"secret.toml": m.LISBON}))
    for mark, offset in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        data[data.index(mark) + offset] |= 1
    return bytes(data)


def _png(code):
    import io

    stream = io.BytesIO()
    code.save(stream, kind="png", scale=4)
    return stream.getvalue()


def _blank():
    import io

    from PIL import Image

    stream = io.BytesIO()
    Image.new("L", (40, 40), 200).save(stream, "PNG")
    return stream.getvalue()


__all__ = ["CORPUS", "Row", "field"]
