"""The look from inside a tunnel: what it asks of the observatory by the ordinary way."""

import asyncio
import json
import socket
import threading

import pytest

from zesty_burrow.errors import OutsideError
from zesty_burrow.observe.channel import ObservatoryAddress
from zesty_burrow.observe.inside import Outside

ABOUT = json.dumps({"probe_zone": "probe.observatory.example", "stun_port": 3479}).encode()


@pytest.fixture
def observatory():
    """Answers on loopback as told, a connection each; None: closes it without a word. Gives what was asked."""
    listening = socket.create_server(("127.0.0.1", 0))
    asked = []

    def serve(answers):
        for answer in answers:
            channel, _ = listening.accept()
            with channel:
                asked.append(channel.recv(4096).split()[1].decode().partition("?")[0])
                if answer is not None:
                    channel.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%b" % (len(answer), answer))

    def start(*answers):
        threading.Thread(target=serve, args=(answers,), daemon=True).start()
        return Outside(ObservatoryAddress("127.0.0.1", listening.getsockname()[1])), asked

    yield start
    listening.close()


def test_a_call_that_was_lost_is_made_again(observatory):
    outside, asked = observatory(None, ABOUT)
    outside.prepare()
    assert (outside.probe_zone, outside.stun_port) == ("probe.observatory.example", 3479)
    assert asked == ["/v1", "/v1"]


@pytest.mark.parametrize("answer", [None, b"{", b"[]"])
def test_no_answer_twice_is_told(observatory, answer):
    outside, asked = observatory(answer, answer)
    with pytest.raises(OutsideError, match=r"127\.0\.0\.1 does not answer"):
        outside.prepare()
    assert len(asked) == 2


def test_numbers_that_are_none(observatory):
    outside, _ = observatory(json.dumps({"probe_zone": 7, "stun_port": 70000}).encode())
    outside.prepare()
    assert (outside.probe_zone, outside.stun_port) == ("", 3478)


def test_an_exit_that_many_share_is_looked_up_once(observatory):
    """Also while the first answer is still on its way."""
    place = json.dumps({"operator": "Quillwort Relay", "country": "PT", "city": "Lisbon"}).encode()
    outside, asked = observatory(place)

    async def look():
        at_once = await asyncio.gather(*(outside.describe("203.0.113.7") for _ in range(20)))
        return {*at_once, await outside.describe("203.0.113.7")}

    (seen,) = asyncio.run(look())
    assert (seen.address, seen.city) == ("203.0.113.7", "Lisbon") and asked == ["/v1/address/203.0.113.7"]
