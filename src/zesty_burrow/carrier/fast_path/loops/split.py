"""Loops over packets on their way out: splitting pieces (RFC 9293 §3.7, RFC 768), and checksums left to us."""

from __future__ import annotations

from typing import Any

from zesty_burrow.carrier.fast_path.loops.octets import MODULUS, TCP, copy, fold, get16, get32, part, put, word_sum

FIN, PSH, CWR = 0x01, 0x08, 0x80


@part
def split(
    source: Any,
    at: Any,
    length: Any,
    version: Any,
    protocol: Any,
    transport: Any,
    headers: Any,
    size: Any,
    first: Any,
    number: Any,
    octets: Any,
    place: Any,
    stride: Any,
) -> Any:
    """Segments ``first`` and on of a packet of ``length`` octets in ``source`` to ``octets``, ``stride`` apart.

    The octets of the last of them.
    """
    segments = (length - headers + size - 1) // size
    check = transport + (16 if protocol == TCP else 6)
    # The kernel has left the pseudo-header's sum, length included, in the checksum's place.
    pseudo = get16(source, at + check) - (length - transport) + 2 * MODULUS
    whole = 0
    for index in range(first, first + number):
        slot = place + (index - first) * stride
        begin = headers + index * size
        width = min(size, length - begin)
        whole = headers + width
        copy(octets, slot, source, at, headers)
        copy(octets, slot + headers, source, at + begin, width)
        inner = slot + transport
        if version == 4:
            # Identification counts up (RFC 6864 §4).
            put(octets, slot + 2, whole, 2)
            put(octets, slot + 4, (get16(source, at + 4) + index) & MODULUS, 2)
            put(octets, slot + 10, 0, 2)
            put(octets, slot + 10, MODULUS - fold(word_sum(octets, slot, transport)), 2)
        else:
            put(octets, slot + 4, whole - 40, 2)
        if protocol == TCP:
            put(octets, inner + 4, (get32(source, at + transport + 4) + index * size) & 0xFFFFFFFF, 4)
            if index != segments - 1:
                octets[inner + 13] &= 0xFF & ~(FIN | PSH)
            if index:
                octets[inner + 13] &= 0xFF & ~CWR
        else:
            put(octets, inner + 4, whole - transport, 2)
        put(octets, slot + check, 0, 2)
        value = MODULUS - fold(word_sum(octets, inner, whole - transport) + pseudo + whole - transport)
        put(octets, slot + check, MODULUS if not value and protocol != TCP else value, 2)
    return whole


@part
def finish(octets: Any, at: Any, stride: Any, count: Any, length: Any, start: Any, field: Any) -> None:
    """Put the checksums in that the kernel has left to the device, for packets of one length and offload."""
    for index in range(count):
        begin = at + index * stride + start
        value = MODULUS - fold(word_sum(octets, begin, length - start))
        # In a UDP header 0 stands for none (RFC 768).
        put(octets, begin + field, MODULUS if not value and field == 6 else value, 2)
