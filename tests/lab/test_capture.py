"""An independent analyser decrypts a captured tunnel with the exported keys; every integrity check is correct."""

from __future__ import annotations

import json
import os
import shutil
import stat
import subprocess
import sys
import time
from pathlib import Path

import pytest
import tomli_w

from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
PROGRAM = str(Path(sys.executable).with_name("zesty"))

IKE_ENCRYPTION = {
    "ENCR_AES_GCM_16 256": "AES-GCM-256 with 16 octet ICV [RFC5282]",
    "ENCR_AES_CBC 128": "AES-CBC-128 [RFC3602]",
}
IKE_INTEGRITY = {"": "NONE [RFC4306]", "AUTH_HMAC_SHA2_256_128": "HMAC_SHA2_256_128 [RFC4868]"}
ESP_ENCRYPTION = {"ENCR_AES_GCM_16 256": "AES-GCM with 16 octet ICV [RFC4106]", "ENCR_AES_CBC 128": "AES-CBC [RFC3602]"}
ESP_INTEGRITY = {"": "NULL", "AUTH_HMAC_SHA2_256_128": "HMAC-SHA-256-128 [RFC4868]"}


def analyse(capture, keys, *words):
    """The analyser on a capture, with our keys in its own form."""
    ike, esp = keys["ike"], keys["esp"]
    table = [
        ike["spi_i"], ike["spi_r"], ike["SK_ei"], ike["SK_er"], f'"{IKE_ENCRYPTION[ike["encryption"]]}"',
        ike["SK_ai"], ike["SK_ar"], f'"{IKE_INTEGRITY[ike["integrity"]]}"',
    ]  # fmt: skip
    line = ["tshark", "-r", str(capture), "-o", "uat:ikev2_decryption_table:" + ",".join(table)]
    line += ["-o", "esp.enable_encryption_decode:TRUE", "-o", "esp.enable_authentication_check:TRUE"]
    for way in ("out", "in"):
        one = esp[way]
        integrity = f"0x{one['integrity_key']}" if one["integrity_key"] else ""
        row = ["IPv4", "*", "*", one["spi"], ESP_ENCRYPTION[esp["encryption"]], f"0x{one['encryption_key']}",
               ESP_INTEGRITY[esp["integrity"]], integrity]  # fmt: skip
        quoted = ",".join(f'"{cell}"' for cell in row)
        line += ["-o", f"uat:esp_sa:{quoted}"]
    ended = subprocess.run([*line, *words], capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr
    return ended.stdout


@pytest.fixture
def suites(lab, tmp_path):
    """Lisbon with AES-GCM as the kit has it, and a second profile with AES-CBC and HMAC."""
    shown = lab.heron("show", "quillwort-lisbon", check=0).json["profile"]
    shown["profile"]["name"] = "lisbon-cbc"
    cbc = {"encryption": ["ENCR_AES_CBC 128"], "integrity": ["AUTH_HMAC_SHA2_256_128"]}
    shown["algorithms"] = {
        "ike": [{**cbc, "prf": ["PRF_HMAC_SHA2_256"], "key_exchange": ["2048-bit MODP Group"]}],
        "esp": [cbc],
    }
    path = tmp_path / "cbc.toml"
    path.write_text(tomli_w.dumps(shown))
    lab.heron("import", str(path), check=0)
    # Otherwise the kernel shows an analyser pieces of many datagrams instead of what is on the wire.
    devices = [("heron", "lan"), ("lisbon", "wan")]
    for host, device in devices:
        lab.shell(host, "ip", "link", "set", "dev", device, "gso_max_segs", "1")
    yield lab
    for host, device in devices:
        lab.shell(host, "ip", "link", "set", "dev", device, "gso_max_segs", "65535")
    lab.heron("disconnect")
    lab.heron("remove", "lisbon-cbc", check=0)


@pytest.mark.parametrize("profile", ["quillwort-lisbon", "lisbon-cbc"])
def test_a_captured_tunnel_decrypts(suites, tmp_path, profile):
    """IKE_AUTH payloads and inner packets are read in the clear; no integrity check fails, nothing is malformed."""
    lab = suites
    assert shutil.which("tshark"), "the tests need tshark as a judge: apt-get install tshark"
    capture, keys_path = tmp_path / "tunnel.pcap", tmp_path / "keys.json"
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home)}
    # dumpcap gives its rights away and then may not write into our folder: a pipe does not mind.
    with capture.open("wb") as stream:
        sniffing = subprocess.Popen(
            [PROGRAM, "lab", "run", "heron", "--", "dumpcap", "-q", "-i", "lan", "-f", "udp port 500 or udp port 4500",
             "-P", "-w", "-"],
            stdout=stream, stderr=subprocess.PIPE, text=True, env=environment, start_new_session=True,
        )  # fmt: skip
        assert "Capturing on" in sniffing.stderr.readline()
        time.sleep(1.0)
        connected = lab.heron("connect", profile, "--detach", "--export-keys", str(keys_path), check=0)
        assert "can read all traffic" in connected.err
        lab.heron("verify", check=0)
        lab.heron("disconnect", check=0)
        time.sleep(0.5)
        os.killpg(sniffing.pid, 2)
        sniffing.communicate(timeout=20)
    assert stat.S_IMODE(keys_path.stat().st_mode) == 0o600
    keys = json.loads(keys_path.read_text())

    ike = analyse(capture, keys, "-Y", "isakmp.exchangetype == 35", "-T", "fields", "-e", "isakmp.id.data.fqdn",
                  "-e", "isakmp.cfg.attr.internal_ip4_address", "-e", "isakmp.ike.attr.type", "-e", "_ws.malformed")  # fmt: skip
    assert "lisbon.quillwort.example" in ike
    tree = analyse(capture, keys, "-Y", "isakmp", "-V")
    checks = [line for line in tree.splitlines() if "Integrity Checksum Data" in line]
    assert len(checks) >= 10
    assert all(line.endswith("[correct]") for line in checks)
    assert "Decryption failed" not in tree
    assert "Malformed" not in tree
    assert "Payload: Extensible Authentication (48)" in tree
    assert "EAP-MS-CHAP-v2 OpCode: Response (2)" in tree
    assert "EAP-MS-CHAP-v2 Name: tidewrack_heron" in tree

    esp = analyse(
        capture, keys, "-Y", "esp", "-T", "fields", "-e", "esp.icv_good", "-e", "esp.icv_bad", "-e", "dns.qry.name"
    )
    rows = [line.split("\t") for line in esp.splitlines()]
    assert len(rows) > 40
    assert {row[0] for row in rows} <= {"1", "True"}
    assert {row[1] for row in rows} <= {"", "0", "False"}
    assert sum(story.PROBE_ZONE in row[2] for row in rows) >= 12
    clear = analyse(capture, keys, "-Y", f'dns.qry.name contains "{story.PROBE_ZONE}" and not esp')
    assert clear == ""


def test_keys_are_never_written_over_a_file(lab, tmp_path):
    """An existing key file stops the connection, and the machine is put back."""
    before, tunnels = lab.network(), lab.gateway("lisbon")["tunnels"]
    path = tmp_path / "keys.json"
    path.write_text("mine")
    assert lab.heron("connect", "lisbon", "--detach", "--export-keys", str(path), check=4).json["code"] == "clash"
    assert path.read_text() == "mine"
    assert lab.network() == before
    assert lab.gateway("lisbon")["tunnels"] == tunnels
