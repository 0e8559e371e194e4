"""Messages in a byte stream (RFC 9329 §3, §4), against octets made here by hand and by the struct module."""

from __future__ import annotations

import struct
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.wire.stream_framing import LONGEST, FrameReader, StreamFraming

MESSAGES = st.lists(st.binary(min_size=2, max_size=300), max_size=8)


def by_hand(messages):
    """As the figures of the RFC have it: a length that counts itself, then the message."""
    return b"".join(struct.pack("!H", len(one) + 2) + one for one in messages)


def test_what_stands_in_the_rfc():
    """Figure 3: the prefix once; figures 1 and 2: IKE behind a marker of zeros, ESP as it is."""
    framing = StreamFraming()
    ike, esp = bytes(4) + b"IKE message", b"\x12\x34\x56\x78ESP"
    stream = framing.begin() + framing.frame(ike) + framing.frame(esp)
    assert stream == bytes.fromhex("494b45544350") + b"\x00\x11" + ike + b"\x00\x09" + esp
    assert FrameReader(awaits_prefix=True).feed(stream) == [ike, esp]


@given(messages=MESSAGES, cuts=st.lists(st.integers(0, 2500), max_size=12), prefix=st.booleans())
def test_cut_anywhere(messages, cuts, prefix):
    """The same messages come out, however the stream is cut; what is not whole yet waits."""
    stream = (b"IKETCP" if prefix else b"") + by_hand(messages) + b"\x00\x63half"
    reader = FrameReader(awaits_prefix=prefix)
    places = [0, *sorted(min(cut, len(stream)) for cut in cuts), len(stream)]
    found = [one for start, end in pairwise(places) for one in reader.feed(stream[start:end])]
    assert found == messages


@given(messages=MESSAGES)
def test_what_we_send_is_read_by_others(messages):
    assert b"".join(map(StreamFraming().frame, messages)) == by_hand(messages)


@pytest.mark.parametrize("length", [0, 1])
def test_impossible_lengths_end_the_connection(length):
    """RFC 9329 §3.1: a fatal error."""
    with pytest.raises(Malformed, match="length"):
        FrameReader().feed(by_hand([b"first"]) + struct.pack("!H", length))


def test_what_is_dropped_silently():
    """Empty messages (§3) and keep-alives (§6.6)."""
    assert FrameReader().feed(by_hand([b"", b"\xff", b"", b"yes"])) == [b"yes"]


@pytest.mark.parametrize("start", [b"GET / HTTP/1.1", b"IKETCQ", b"iketcp", b"\x00\x06abcd"])
def test_a_stream_that_begins_otherwise(start):
    """§6.1: nothing of it is looked at, from the first octet that is wrong."""
    reader = FrameReader(awaits_prefix=True)
    with pytest.raises(Malformed, match="IKETCP"):
        for octet in start:
            reader.feed(bytes([octet]))


def test_the_longest_message():
    """§3: a length of 16 bits that counts itself."""
    whole = bytes(4) + b"x" * (LONGEST - 4)
    assert FrameReader().feed(StreamFraming().frame(whole)) == [whole]
    with pytest.raises(ValueError, match="does not fit"):
        StreamFraming().frame(whole + b"y")


@given(data=st.binary(max_size=2000), prefix=st.booleans())
def test_any_octets(data, prefix):
    """Messages or ``Malformed``; and never more than one message is held."""
    reader = FrameReader(awaits_prefix=prefix)
    try:
        found = reader.feed(data)
    except Malformed:
        return
    assert sum(map(len, found)) <= len(data)
