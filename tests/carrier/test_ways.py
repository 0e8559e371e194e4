"""Both ways of the data path do the same: by columns and by compiled loops, whatever comes; and beyond a buffer's end
nothing is touched."""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import textwrap
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.packet import Raw

from carrier import test_paths
from carrier.test_paths import ALL, HERE, THERE, WAYS, Ends, left_to_us
from core.test_offload import as_the_kernel_splits, octets_for, segments_of, whole_of
from zesty_burrow.carrier import keeping, loops
from zesty_burrow.carrier.loops import Loops
from zesty_burrow.core import compiled
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.vnet import read_offload
from zesty_burrow.errors import StateError

FIELDS = {"version": 4, "tcp": True, "tos": 0, "ident": 7, "dont_fragment": True, "sequence": 5, "acknowledged": 1,
          "flags": "PA", "window": 9, "options": 3, "ports": (5, 6)}  # fmt: skip
ELSEWHERE = "192.0.2.99"

kinds = st.sampled_from(["plain", "tcp", "elsewhere", "six", "short", "partial", "piece", "long"])
steps = st.lists(st.tuples(kinds, st.integers(1, 70), st.integers(0, 600), st.integers(0, 3)), min_size=1, max_size=7)


def outwards(kind, size, seed, mark):
    """A packet that the machine sends, and what the kernel says of it."""
    data = Raw(octets_for(seed, size))
    match kind:
        case "plain":
            return bytes(IP(src=HERE, dst=THERE, tos=mark, id=seed & 0xFFFF) / UDP(sport=5, dport=6) / data), None
        case "tcp":
            return bytes(IP(src=HERE, dst=THERE) / TCP(sport=5, dport=6, flags="S") / data), None
        case "elsewhere":
            return bytes(IP(src=ELSEWHERE, dst=THERE) / UDP(sport=5, dport=6) / data), None
        case "six":
            return bytes(IPv6(src="fd66:1::a", dst="2001:db8::1", tc=mark) / UDP(sport=5, dport=6) / data), None
        case "short":
            return octets_for(seed, size % 40 + 1), None
        case "partial":
            return left_to_us(IP(src=HERE, dst=THERE, tos=mark) / UDP(sport=5, dport=6) / data, 17)
        case "piece":
            return whole_of({**FIELDS, "tcp": bool(seed & 1)}, octets_for(seed, 4000), 900)
    return bytes(IP(src=HERE, dst=THERE, flags="DF" if mark else 0) / UDP(sport=5, dport=6) / Raw(bytes(1390))), None


@pytest.fixture
def each():
    """The same ends by every way."""
    made = []

    def make(**settings):
        made.extend(Ends(by=way, **settings) for way in WAYS)
        return made[-len(WAYS) :]

    yield make
    for one in made:
        one.close()


@settings(max_examples=40)
@given(steps, st.booleans(), st.booleans())
def test_the_same_goes_out(script, six, clamp):
    """In the same order under the same numbers; what is turned away and what is told to senders is the same too."""
    made = [Ends(by=way, habits=test_paths.Habits(None, clamp)) for way in WAYS]
    found = []
    for one in made:
        if six:
            one.tunnel.flow.local = ALL
        one.tunnel.limit = 1380
        said = []
        for kind, count, seed, mark in script:
            packets = [outwards(kind, 30 + seed, seed + 7 * index * (mark > 2), mark % 3) for index in range(count)]
            said.append(one.out(*packets[: 60 if kind != "piece" else 9]))
        sa = one.outbound
        counted = sa.sequence, sa.octets, sa.protection.next_counter, one.path.turned_away
        found.append((said, [packet for _, packet in one.read()], counted, one.opens.counters))
        one.close()
    assert found[0] == found[1] == found[2]
    assert found[0][3].rejected == 0


mischief = st.lists(st.tuples(st.sampled_from(["forge", "repeat", "drop", "swap", "cut", "foreign"]), st.integers(0, 99)),
                    max_size=5)  # fmt: skip


def arrivals(one, flows):
    """What the peer sends: sealed segments, packets for us and for others, of both families."""
    sealed = []
    for kind, count, seed, mark in flows:
        if kind == "piece":
            packets = segments_of({**FIELDS, "tcp": bool(seed & 1), "sequence": seed}, octets_for(seed, count * 90), 90)
        elif kind == "short":
            # Authentic, but no IP packet.
            packets = [octets_for(seed, 30 + seed)] * count
        else:
            to = ELSEWHERE if kind == "elsewhere" else HERE
            head = IPv6(src="2001:db8::1", dst="fd66:1::a") if kind == "six" else IP(src=THERE, dst=to, tos=mark)
            packets = [bytes(head / UDP(sport=5, dport=6) / Raw(octets_for(seed, 30 + seed)))] * count
        sealed += [one.seals.seal(packet) for packet in packets]
    return sealed


def do_mischief(sealed, wrongs):
    for what, where in wrongs:
        if not sealed:
            break
        at = where % len(sealed)
        if what == "forge":
            sealed[at] = sealed[at][:-1] + bytes([sealed[at][-1] ^ 1])
        elif what == "repeat":
            sealed.insert(at, sealed[at // 2])
        elif what == "drop":
            del sealed[at]
        elif what == "swap":
            sealed[at], sealed[0] = sealed[0], sealed[at]
        elif what == "cut":
            sealed[at] = sealed[at][: where % 60]
        else:
            sealed.insert(at, b"\0\0\0\0" + sealed[at][4:])
    return sealed


@settings(max_examples=70)
@given(steps, mischief, st.booleans(), st.sampled_from([0, 0, 0, 1, 3]))
def test_the_same_comes_in(flows, wrongs, everybody, mark):
    """With whatever went wrong on the way: the same packets for the machine, the same counters, the same window."""
    found = []
    for way in WAYS:
        one = Ends(by=way)
        if everybody:
            one.tunnel.flow.local = ALL
        sealed = do_mischief(arrivals(one, flows), wrongs)
        others, came = [], []
        for begin in range(0, len(sealed), 40):
            told, read = one.come(sealed[begin : begin + 40], mark)
            others += [data for _, datagrams in told for data in datagrams]
            came += read
        packets = []
        for header, data in came:
            packets += as_the_kernel_splits(read_offload(header), data)
        window = [one.inbound.window.check(number) for number in range(len(sealed) + 20)]
        found.append((packets, others, one.inbound.counters, window, one.path.turned_away, one.path.unknown))
        one.close()
    assert found[0] == found[1] == found[2]


def test_the_way_changes_under_a_stream(each):
    """What is known of the way is forgotten with it: another tunnel's key, a narrower way, nowhere at all."""
    packet = bytes(IP(src=HERE, dst=THERE, flags="DF") / UDP(sport=5, dport=6) / Raw(b"x" * 900))
    for one in each():
        assert one.out(*[(packet, None)] * 5) == [packet] * 5
        one.tunnel.limit = 700
        assert one.out(*[(packet, None)] * 5) == [] and one.path.turned_away == 5
        one.tunnel.limit = 1400
        assert one.out(*[(packet, None)] * 5) == [packet] * 5
        one.tunnel.flow.local = ()
        one.path.choose_again()
        assert one.out(*[(packet, None)] * 5) == [] and one.path.turned_away == 10


def test_it_comes_to_an_end_before_a_number_repeats(each):
    packet = bytes(IP(src=HERE, dst=THERE) / UDP(sport=5, dport=6) / Raw(b"x" * 90))
    for one in each():
        assert len(one.out(*[(packet, None)] * 3)) == 3
        one.outbound.sequence = (1 << 32) - 4
        with pytest.raises(StateError):
            one.out(*[(packet, None)] * 9)
        assert one.outbound.sequence <= (1 << 32) - 1


GUARDED = """
    import ctypes, mmap, random, sys
    import numpy as np
    from zesty_burrow.core.compiled import esp, join, ways
    from zesty_burrow.core.compiled.symbols import Context
    from zesty_burrow.host.loops import device

    page = mmap.PAGESIZE
    room = mmap.mmap(-1, 3 * page)
    address = ctypes.addressof(ctypes.c_char.from_buffer(room))
    assert ctypes.CDLL(None).mprotect(ctypes.c_void_p(address + 2 * page), page, 0) == 0
    octets = np.frombuffer(room, np.uint8)[: 2 * page]
    chance = random.Random(5)
    context = Context("AES-256-GCM", bytes(32), sealing=False)
    lengths, rows, space = np.zeros(300, np.int64), np.zeros((301, join.ROW), np.int64), np.zeros(64, np.uint8)
    heads = [bytes.fromhex(one) for one in (
        "450000540001400040110000cb00710a0a42010a", "450000540001400040060000cb00710a0a42010a",
        "6000000000000640" + "20010db8" * 8, "6000000000001140" + "20010db8" * 8, "4f", "6f", "")]
    done, table = 0, np.zeros((ways.WAYS, ways.WAY), np.uint8)
    for turn in range(4000):
        size = chance.choice([1, 2, 19, 20, 27, 28, 33, 34, 39, 40, 47, 48, 60, 61, 84, 120, 400, 1400])
        total = min(size * chance.randint(1, 40), 2 * page - 64)
        begin = 2 * page - total
        octets[begin:] = np.frombuffer(chance.randbytes(total), np.uint8)
        good = size > 41 and chance.random() < 0.5
        for index, at in enumerate(range(begin, 2 * page, size)):
            if good and at + 40 < 2 * page:
                head = bytes.fromhex("45000000000140004006000001010101020202020001000200000000000000015010ffff00000000")
                octets[at : at + 40] = np.frombuffer(head, np.uint8)
                whole, number = min(size, 2 * page - at), index * (size - 40)
                octets[at + 2 : at + 4] = whole >> 8, whole & 255
                octets[at + 24 : at + 28] = np.frombuffer(number.to_bytes(4), np.uint8)
                words = int(octets[at : at + 20].astype(np.int64) @ np.array([256, 1] * 10))
                words = (words & 65535) + (words >> 16)
                octets[at + 10 : at + 12] = (65535 - words) >> 8, (65535 - words) & 255
                continue
            head = chance.choice(heads[: chance.randint(1, 7)])[: 2 * page - at][:size]
            octets[at : at + len(head)] = np.frombuffer(head, np.uint8)
        if good and chance.random() < 0.5:
            octets[chance.randrange(begin, 2 * page)] ^= 1 << chance.randrange(8)
        count = -(-total // size)
        lengths[:count] = size
        lengths[count - 1] = total - (count - 1) * size
        for index in range(count):
            if chance.random() < 0.1:
                lengths[index] = chance.choice([-2, -1, 0, 1, min(20, lengths[index])])
        for index in range(count):
            if lengths[index] > 0:
                ways.learn(table, octets, begin + index * size, int(lengths[index]), 1)
        found = join.join_all(octets, begin, size, count, lengths, True, True, rows)
        done += int((rows[:found, 3] > 0).sum())
        device.write_rows(-1, octets, begin, size, lengths, rows, 0, found, 10, np.zeros((300, 2), np.int64))
        esp.arrive(context.address, octets, begin, total, size, int.from_bytes(octets[begin : begin + 4].tobytes()),
                     1, space, False, lengths)
    print("joined", done)
"""


def test_nothing_is_touched_behind_a_buffer_s_end():
    """Packets whose headers lie, up to the last octet before a page that nobody may touch."""
    words = [sys.executable, "-c", textwrap.dedent(GUARDED)]
    ended = subprocess.run(words, capture_output=True, text=True, timeout=300)
    assert ended.returncode == 0, ended.stderr[-2000:]
    assert int(ended.stdout.split()[1]) > 500


def test_much_in_little_time_is_worth_compiling(monkeypatch):
    """Not what comes slowly, and not twice; without the compiler it stays as it is, and so where it is left out."""
    clock, started = [0.0], []
    monkeypatch.setattr(loops.time, "monotonic", lambda: clock[0])

    async def load(self):
        started.append(self)

    monkeypatch.setattr(Loops, "_load", load)

    async def run():
        slow, quick, left_out = (Loops(lambda way: None, left_out=one) for one in (False, False, True))
        for second in range(100):
            clock[0] = float(second)
            slow.carried(1000)
        for one in (quick, left_out):
            for _ in range(100):
                one.carried(1000)
        await asyncio.sleep(0)
        return slow, quick, left_out

    slow, quick, left_out = asyncio.run(run())
    assert started == [quick]
    assert (slow.said, quick.said, left_out.said) == (loops.COLUMNS, loops.COMPILING, loops.LEFT_OUT)
    monkeypatch.setattr(loops.importlib.util, "find_spec", lambda name: None)
    assert Loops(lambda way: None).said == loops.MISSING


def test_a_compiler_that_fails_leaves_everything_as_it_was(monkeypatch, caplog):
    async def fail():
        raise OSError("the disk is full")

    monkeypatch.setattr(loops, "_compile", fail)
    monkeypatch.setattr(loops, "is_whole", lambda: False)
    used = []

    async def run():
        one = Loops(used.append)
        await one._load()
        return one

    assert asyncio.run(run()).said == loops.FAILED and not used
    assert "the disk is full" in caplog.text


def test_what_was_compiled_is_kept_where_nobody_else_writes(monkeypatch, tmp_path):
    """Beside the source; where that may not be written in our own home, but not in another's. By what was compiled."""
    monkeypatch.setenv(keeping.VARIABLE, "elsewhere")
    assert keeping.kept_safely()
    beside = Path(os.environ[keeping.VARIABLE])
    assert beside.parent == Path(compiled.__file__).parent / "__pycache__"
    monkeypatch.setattr(keeping.os, "access", lambda *_: False)
    monkeypatch.setattr(keeping.Path, "home", lambda: tmp_path)
    folder = tmp_path / ".cache" / "zesty-burrow"
    (folder / "loops-0123").mkdir(parents=True, mode=0o700)
    folder.chmod(0o700)
    assert keeping.kept_safely()
    assert os.environ[keeping.VARIABLE] == str(folder / beside.name) and not (folder / "loops-0123").exists()
    monkeypatch.setattr(keeping, "_SOURCES", ("core/works.py",))
    assert keeping.kept_safely() and os.environ[keeping.VARIABLE] != str(folder / beside.name)
    folder.chmod(0o777)
    assert not keeping.kept_safely() and keeping.VARIABLE not in os.environ
    monkeypatch.setattr(keeping.os, "geteuid", lambda: tmp_path.stat().st_uid + 1)
    assert not keeping.kept_safely()


def test_what_is_whole_is_not_compiled_again(monkeypatch, tmp_path):
    """Only for the very Python, compiler and processor that it was made for; a folder without the word is not whole."""
    monkeypatch.setenv(keeping.VARIABLE, str(tmp_path))
    assert not keeping.is_whole()
    keeping.note_whole()
    assert keeping.is_whole()
    made_for = keeping._made_for()
    assert made_for.startswith(sys.version) and "numba" in made_for
    monkeypatch.setattr(keeping, "_made_for", lambda: made_for + "another")
    assert not keeping.is_whole()
    (tmp_path / "whole").write_bytes(b"\xff")
    assert not keeping.is_whole()
    monkeypatch.setattr(keeping, "_made_for", str)
    (tmp_path / "whole").write_text("")
    assert not keeping.is_whole()
    monkeypatch.setenv(keeping.VARIABLE, str(tmp_path / "nowhere"))
    keeping.note_whole()
    assert not keeping.is_whole()


def test_an_offload_header_is_what_the_kernel_reads(each):
    """A joined piece has the header that the columns' way gives it."""
    segments = segments_of({**FIELDS, "flags": "A"}, octets_for(1, 20 * 1000), 1000)
    headers = []
    for one in each():
        one.tunnel.flow.local = one.tunnel.flow.remote = ALL
        sealed = [memoryview(one.seals.seal(packet)) for packet in segments]
        one.peer.send_alike(sealed, one.port.channel.getsockname())
        ((header, data),) = one.come([])[1]
        assert as_the_kernel_splits(read_offload(header), data) == segments
        headers.append(header)
    assert len(set(headers)) == 1 and read_offload(headers[0]).kind == vnet.TCP4
