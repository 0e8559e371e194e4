"""Instance data as a controller would make it, after RFC 9061 appendix A (there in XML), in the story's names."""

from __future__ import annotations

import base64
import json

from corpus import material as m


def INSTANCE(method):
    """A connection to the office by ``method``: certificate or pre-shared."""

    def b64(data):
        return base64.b64encode(data).decode()

    ours = {"auth-method": "digital-signature", "digital-signature": {"cert-data": b64(m.CLIENT_CERTIFICATE)}}
    theirs = {
        "auth-method": "digital-signature",
        "digital-signature": {"ds-algorithm": 14, "ca-data": [b64(m.CA_DER)], "crl-uri": "http://office.example/crl"},
    }
    if method == "pre-shared":
        ours = theirs = {"auth-method": "pre-shared", "pre-shared": {"secret": b"auks dive at dawn".hex(":")}}
    policy = {
        "traffic-selector": {
            "local-prefix": "0.0.0.0/0",
            "remote-prefix": "10.20.0.0/16",
            "inner-protocol": "any",
        },
        "processing-info": {
            "action": "protect",
            "ipsec-sa-cfg": {
                "ext-seq-num": True,
                "mode": "tunnel",
                "protocol-parameters": "esp",
                "esp-algorithms": {
                    "integrity": [2, 12],
                    "encryption": [
                        {"id": 1, "algorithm-type": 12, "key-length": 128},
                        {"id": 2, "algorithm-type": 20, "key-length": 256},
                    ],
                },
                "tunnel": {"local": "192.0.2.77", "remote": "198.51.100.98"},
            },
        },
    }
    document = {
        "ietf-i2nsf-ike:ipsec-ike": {
            "pad": {
                "pad-entry": [
                    {"name": "heron", "rfc822-address-string": "heron@tidewrack.example", "peer-authentication": ours},
                    {"name": "office", "fqdn-string": "tromso.tidewrack.example", "peer-authentication": theirs},
                ]
            },
            "conn-entry": [
                {
                    "name": "Tromsø office",
                    "autostartup": "start",
                    "version": "ikev2",
                    "ike-sa-lifetime-soft": {"rekey-time": 60, "reauth-time": 120},
                    "ike-sa-intr-alg": [12],
                    "ike-sa-encr-alg": [{"id": 1}, {"id": 2, "algorithm-type": 20, "key-length": 256}],
                    "dh-group": 19,
                    "local": {"local-pad-entry-name": "heron"},
                    "remote": {"remote-pad-entry-name": "office"},
                    "spd": {"spd-entry": [{"name": "office", "ipsec-policy-config": policy}]},
                }
            ],
        }
    }
    return json.dumps(document).encode()
