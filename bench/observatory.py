"""What an observatory answers in a second, beside a bare file of the same size by the same HTTP library."""

from __future__ import annotations

import asyncio
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import dns.message

PROGRAM = str(Path(sys.executable).with_name("zesty"))
CALLERS = (1, 8, 64)
SECONDS = 1.0
REQUEST = b"GET /v1/address HTTP/1.1\r\nHost: observatory.example\r\n\r\n"
BARE = """
import asyncio, sys
from aiohttp import web

async def main(port, body):
    async def answer(request):
        return web.Response(body=body, headers={"Content-Type": "application/json"})
    runner = web.ServerRunner(web.Server(answer, access_log=None))
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.1", port).start()
    print("ready", flush=True)
    await asyncio.Event().wait()

asyncio.run(main(int(sys.argv[1]), bytes(int(sys.argv[2]))))
"""


def free_port() -> int:
    """A port of loopback that is free now."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


async def _http(port: int, callers: int) -> float:
    """Seconds a request, over connections that are kept open."""
    count, until = 0, time.perf_counter() + SECONDS

    async def call() -> None:
        nonlocal count
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        while time.perf_counter() < until:
            writer.write(REQUEST)
            head = await reader.readuntil(b"\r\n\r\n")
            if not head.startswith(b"HTTP/1.1 200"):
                raise RuntimeError(head[:40])
            size = next(line for line in head.lower().split(b"\r\n") if line.startswith(b"content-length:"))
            await reader.readexactly(int(size.split(b":")[1]))
            count += 1
        writer.close()

    began = time.perf_counter()
    await asyncio.gather(*(call() for _ in range(callers)))
    return (time.perf_counter() - began) / count


async def _dns(port: int, callers: int) -> float:
    """Seconds a question over UDP."""
    loop, count, until = asyncio.get_running_loop(), 0, time.perf_counter() + SECONDS
    query = dns.message.make_query("n1.bench.probe.observatory.example", "A").to_wire()

    async def call() -> None:
        nonlocal count
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
            channel.setblocking(False)
            channel.connect(("127.0.0.1", port))
            while time.perf_counter() < until:
                await loop.sock_sendall(channel, query)
                await asyncio.wait_for(loop.sock_recv(channel, 2048), 5)
                count += 1

    began = time.perf_counter()
    await asyncio.gather(*(call() for _ in range(callers)))
    return (time.perf_counter() - began) / count


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """Both at 1, 8 and 64 callers; a request is seconds of wall clock over all that were answered."""
    http, question, stun, bare = (free_port() for _ in range(4))
    words = ["observatory", "serve", "--zone", "observatory.example", "--address", "127.0.0.1"]
    words += ["--http-port", str(http), "--dns-port", str(question), "--stun-port", str(stun)]
    words += ["--requests-a-second", "1000000"]
    ours = subprocess.Popen([PROGRAM, *words], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    base = subprocess.Popen([sys.executable, "-c", BARE, str(bare), "95"], stdout=subprocess.PIPE, text=True)
    try:
        assert ours.stderr is not None and base.stdout is not None
        ours.stderr.readline()
        base.stdout.readline()
        for callers in CALLERS:
            mine, theirs, questions = [], [], []
            for _ in range(rounds):
                theirs.append(asyncio.run(_http(bare, callers)))
                mine.append(asyncio.run(_http(http, callers)))
                questions.append(asyncio.run(_dns(question, callers)))
            per_second = f"{1 / sorted(mine)[len(mine) // 2]:,.0f} a second"
            yield f"observatory, callers: {callers}, {per_second}", mine, theirs, "a bare file"
            per_second = f"{1 / sorted(questions)[len(questions) // 2]:,.0f} a second"
            yield f"DNS questions, callers: {callers}, {per_second}", questions, theirs, "a bare file by HTTP"
    finally:
        for one in (ours, base):
            one.terminate()
            one.wait()
