"""A proxy that nobody asked for: it takes every connection, adds a field to the request and one to the answer.

``python changing_proxy.py PORT MARK``: listens on loopback; its own connections have the mark. Plain sockets alone.
"""

import socket
import struct
import sys
import threading

SO_MARK, SO_ORIGINAL_DST = 36, 80


def serve(channel, mark):
    octets = channel.getsockopt(socket.IPPROTO_IP, SO_ORIGINAL_DST, 16)
    port, address = struct.unpack_from("!H4s", octets, 2)
    with channel, socket.socket() as there:
        there.setsockopt(socket.SOL_SOCKET, SO_MARK, mark)
        there.settimeout(5)
        there.connect((socket.inet_ntoa(address), port))
        request = channel.recv(65536)
        there.sendall(request.replace(b"\r\n\r\n", b"\r\nVia: 1.1 hillside\r\n\r\n", 1))
        answer = there.recv(65536)
        channel.sendall(answer.replace(b"\r\n\r\n", b"\r\nX-Seen-By: hillside\r\n\r\n", 1))


def main():
    port, mark = map(int, sys.argv[1:])
    with socket.create_server(("127.0.0.1", port)) as listener:
        print("ready", flush=True)
        while True:
            channel, _ = listener.accept()
            threading.Thread(target=serve, args=(channel, mark), daemon=True).start()


main()
